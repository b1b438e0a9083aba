/* netsuke/verdict.h: what was found, held against limits. */
#ifndef NETSUKE_VERDICT_H
#define NETSUKE_VERDICT_H

#include "netsuke/budget.h"
#include "netsuke/compare.h"
#include "netsuke/survey.h"
#include "netsuke/vet.h"

#ifdef __cplusplus
extern "C" {
#endif

/* Open: chance leaves it so; or something is worth a look that does not make figures worthless. */
typedef enum nsk_standing {
    NSK_STANDING_HOLDS,
    NSK_STANDING_OPEN,
    NSK_STANDING_BROKEN
} nsk_standing;
const char *nsk_standing_text(nsk_standing standing);

typedef struct nsk_finding {
    const char *step; /* the command that tells more */
    nsk_standing standing;
    char *text;
} nsk_finding;

typedef struct nsk_verdict {
    int count;
    nsk_finding *finding;
} nsk_verdict;

nsk_verdict *nsk_verdict_new(void);
void nsk_verdict_free(nsk_verdict *verdict);
void nsk_verdict_add(nsk_verdict *verdict, const char *step, nsk_standing standing,
                     const char *format, ...);
/* The worst of its findings. */
nsk_standing nsk_verdict_standing(const nsk_verdict *verdict);
/* Of a figure that is known to lie between two others. */
nsk_standing nsk_interval_standing(double low, double high, double limit);

/* Each adds one finding or more. The sets: overlap, classes that are empty, pictures under two
 * labels or that cannot be read. From one held-out image in a hundred on, it is broken. */
void nsk_judge_survey(nsk_verdict *verdict, const nsk_survey *survey, const nsk_labels *labels);
void nsk_judge_overlap(nsk_verdict *verdict, const char *step, int overlap, int images);
void nsk_judge_vetting(nsk_verdict *verdict, const nsk_vetting *vetting);
/* The loss by its interval; and whether the float network is better than guessing. */
void nsk_judge_comparison(nsk_verdict *verdict, const nsk_comparison *comparison,
                          const nsk_labels *labels, double limit);
void nsk_judge_budget(nsk_verdict *verdict, const nsk_budget *budget);

/* What rehearsals came to, all together. */
typedef struct nsk_rehearsed_counts {
    int frames, dropped, faulted;
    int events, missed, actions, false_actions;
} nsk_rehearsed_counts;
void nsk_judge_rehearsal(nsk_verdict *verdict, const nsk_rehearsed_counts *counts,
                         const nsk_limits *limits);

#ifdef __cplusplus
}
#endif
#endif
