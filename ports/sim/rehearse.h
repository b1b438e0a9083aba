/* sim/rehearse: the product on the simulated board: pictures in, decisions out, on a virtual clock.
 */
#ifndef NSK_PORTS_SIM_REHEARSE_H
#define NSK_PORTS_SIM_REHEARSE_H

#include "brief/rule.h"
#include "netsuke/budget.h"
#include "netsuke/firmware.h"
#include "sim/faults.h"
#include "sim/film.h"

/* A picture that the device took. */
typedef struct nsk_rehearsed {
    int frame;                /* of the camera */
    double arrived, answered; /* seconds of virtual time */
    nsk_trouble trouble;      /* instead of an answer; what follows is for answers */
    int class_index;          /* the highest score */
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
    int taken, troubled, resets;
    int classes;
    nsk_rehearsed *answers; /* one a picture taken */
    int8_t *scores;         /* classes x taken; zeroes where there was trouble */
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
    const nsk_fault *faults;
    int fault_count;
    const char *capture; /* a folder for pictures that were answered, in folders of their classes;
                          * or NULL */
} nsk_stage;

/* Plays the film. A picture that arrives while the device computes is dropped; the device takes the
 * next one that starts. The scores are computed by the device half itself, in memory of the board's
 * size. */
nsk_rehearsal *nsk_rehearse(const nsk_stage *stage, nsk_error *error);
void nsk_rehearsal_free(nsk_rehearsal *rehearsal);

/* How another rule would have done on the same scores: fills `decided`, one an answer, and the
 * figures. */
void nsk_rejudge(const nsk_rehearsal *rehearsal, const nsk_stage *stage, const nsk_rule *rule,
                 int *decided, nsk_figures *figures);

/* The signals as VCD (IEEE 1364): camera, busy, answer, trouble, each line. */
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

/* GArray of nsk_sweep_point. */
GArray *nsk_sweep(nsk_rehearsal *const *rehearsals, const nsk_stage *stages, int count);
bool nsk_sweep_draw(const GArray *points, const char *name, const char *path, nsk_error *error);

#endif
