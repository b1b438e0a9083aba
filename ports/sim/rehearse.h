/* sim/rehearse: the product on the simulated board: frames in, decisions out, on a virtual clock.
 */
#ifndef NSK_REHEARSE_H
#define NSK_REHEARSE_H

#include "netsuke/host.h"

/* One frame that the device took. */
typedef struct nsk_rehearsed {
    int image;                /* index in the set */
    double arrived, answered; /* seconds of virtual time */
    int class_index;          /* the highest score */
    float probability;
    int decided; /* class whose output line went up, or -1 */
} nsk_rehearsed;

typedef struct nsk_rehearsal {
    int frames;  /* that the camera gave */
    int dropped; /* came while the device was busy */
    int taken;
    nsk_rehearsed *answers; /* one a frame taken */
    int decisions, right;   /* lines raised; of those, by the class that was there */
    int correct;            /* frames taken whose highest score is the truth */
    double seconds, busy;   /* virtual time, and the part of it spent computing */
    double joules;          /* negative where the board gives no power */
} nsk_rehearsal;

/* Plays `frames` pictures (0: all) in an order drawn from `seed`. A frame that arrives while the
 * device computes is dropped; the device takes the next one that starts. The scores are computed by
 * the device half itself, in memory of the board's size; the clock is the budget's. */
nsk_rehearsal *nsk_rehearse(const nsk_model_file *model, const nsk_board *board,
                            const nsk_budget *budget, const nsk_decision *decision,
                            const nsk_images *images, int frames, unsigned seed, nsk_error *error);
void nsk_rehearsal_free(nsk_rehearsal *rehearsal);

#endif
