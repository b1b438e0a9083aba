/* netsuke/rehearse: the product on a simulated board: pictures in, decisions out, on a virtual
 * clock. */
#ifndef NETSUKE_REHEARSE_H
#define NETSUKE_REHEARSE_H

#include "netsuke/budget.h"
#include "netsuke/film.h"
#include "netsuke/firmware.h"
#include "netsuke/verdict.h"

#ifdef __cplusplus
extern "C" {
#endif

typedef enum nsk_injection_kind {
    NSK_INJECTION_FLASH,  /* a bit of the model's weights is another while the frame is computed */
    NSK_INJECTION_CAMERA, /* gives no pictures */
    NSK_INJECTION_CUT,    /* pictures end halfway */
    NSK_INJECTION_FROZEN, /* pictures repeat the one before */
    NSK_INJECTION_COLUMN, /* a column of pixels is stuck */
    NSK_INJECTION_ROWS,   /* from the middle on a picture repeats one row */
    NSK_INJECTION_TORN,   /* from the middle on a picture is the one before */
    NSK_INJECTION_BROWNOUT, /* the supply fails in mid-frame: memory is lost, the board starts anew
                             */
    NSK_INJECTION_CLOCK,    /* the board's clock runs slower */
    NSK_INJECTIONS
} nsk_injection_kind;

typedef struct nsk_injection {
    nsk_injection_kind kind;
    int first, frames; /* of the camera */
    double amount;     /* the clock's: percent */
} nsk_injection;

/* "flash@40", "camera@10+6", "clock@0+300=20": a kind, the first frame, how many (default 1), and
 * for the clock by how many percent. */
bool nsk_injection_parse(const char *text, nsk_injection *injection, nsk_error *error);
const char *nsk_injection_name(nsk_injection_kind kind);

/* A picture that the device took. */
typedef struct nsk_rehearsed {
    int frame;                /* of the camera */
    double arrived, answered; /* seconds of virtual time */
    nsk_fault fault;          /* instead of an answer; what follows is for answers */
    /* the highest score; where there may be several labels at once, the one furthest above its
     * threshold, and one past the last where none is there */
    int class_index;
    float probability;
    int line;    /* that it is taken for, or NSK_UNSURE */
    int decided; /* line that went up, or NSK_NOTHING */
} nsk_rehearsed;

/* Something that is there for some frames on end, by the film's truth, and moves a line. */
typedef struct nsk_event {
    int first, last; /* frames */
    int class_index, line;
    int caught; /* index of the answer that decided on its line, or -1 */
} nsk_event;

/* How well lines follow the truth. */
typedef struct nsk_figures {
    int events, missed;
    int longer, longer_missed; /* of them, those of more than NSK_LONG frames */
    int actions, right, false_actions;
    double delay_frames, delay_seconds,
        worst_delay_frames; /* of caught ones, the mean, the worst */
    double missed_an_hour, false_an_hour;
} nsk_figures;
enum { NSK_LONG = 5 };

typedef struct nsk_rehearsal {
    int frames;  /* that the camera gave */
    int dropped; /* came while the device was busy */
    int taken, faulted, resets;
    int classes;
    nsk_rehearsed *answers; /* one a picture taken */
    int32_t *scores;        /* classes x taken; zeroes where there was fault */
    nsk_event *event;       /* in their order */
    nsk_figures figures;
    int correct;          /* answers whose highest score is the truth, of those whose truth is */
    int known;            /* known */
    double seconds, busy; /* virtual time, and the part of it spent computing */
    double joules;        /* negative where the board gives no power */
} nsk_rehearsal;

/* What is played on what. */
typedef struct nsk_stage {
    const nsk_model_file *model;
    const nsk_board *board;
    const nsk_budget *budget; /* the clock is its */
    const nsk_product *product;
    const nsk_decision *decision;
    const nsk_film *film;
    const nsk_injection *injections;
    int injection_count;
    const char *capture; /* a folder for pictures that were answered, in folders of their classes;
                          * or NULL */
} nsk_stage;

/* Plays the film. A picture that arrives while the device computes is dropped; the device takes the
 * next one that starts. The scores are computed by the device half itself, in memory of the board's
 * size. */
nsk_rehearsal *nsk_rehearse(const nsk_stage *stage, nsk_error *error);
void nsk_rehearsal_free(nsk_rehearsal *rehearsal);

/* Adds what came of one to the totals that nsk_judge_rehearsal holds against limits. Pictures of a
 * set are in no order: they have no events, which `ordered` says of a scene's. */
void nsk_rehearsal_count(const nsk_rehearsal *rehearsal, bool ordered,
                         nsk_rehearsed_counts *totals);

/* How another rule would have done on the same scores: fills `decided`, one an answer, and the
 * figures. */
void nsk_rejudge(const nsk_rehearsal *rehearsal, const nsk_stage *stage, const nsk_rule *rule,
                 int *decided, nsk_figures *figures);

/* The signals as VCD (IEEE 1364): camera, busy, answer, fault, each line. */
bool nsk_rehearsal_write_signals(const nsk_rehearsal *rehearsal, const nsk_stage *stage,
                                 const nsk_labels *labels, const char *path, nsk_error *error);
/* Time across: truth, answers, lines, drops; a .png or .svg file. */
bool nsk_rehearsal_draw(const nsk_rehearsal *rehearsal, const nsk_stage *stage,
                        const nsk_labels *labels, const char *name, const char *path,
                        nsk_error *error);

/* One setting of the rule, judged over all scenes together. */
typedef struct nsk_sweep_point {
    double threshold;
    int frames, window;
    nsk_figures figures;
    bool own;    /* the brief's rule */
    bool beaten; /* another misses no more and acts falsely no more often, and one of them less */
} nsk_sweep_point;

typedef struct nsk_sweep {
    int count;
    nsk_sweep_point *points;
} nsk_sweep;

/* Thresholds and counts around those of the brief, which stands first, on the same scores. */
nsk_sweep *nsk_sweep_make(nsk_rehearsal *const *rehearsals, const nsk_stage *stages, int count);
void nsk_sweep_free(nsk_sweep *sweep);
bool nsk_sweep_draw(const nsk_sweep *sweep, const char *name, const char *path, nsk_error *error);

#ifdef __cplusplus
}
#endif
#endif
