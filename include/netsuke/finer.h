/* netsuke/finer.h: which layers' outputs are to have 16 bits, by what that gains and costs. */
#ifndef NETSUKE_FINER_H
#define NETSUKE_FINER_H

#include "netsuke/budget.h"

#ifdef __cplusplus
extern "C" {
#endif

/* A model on its board, and how near its answers are to the float network's. */
typedef struct nsk_finer_state {
    int agree;         /* images answered as by the float network */
    double odds;       /* nsk_comparison's: how far the log-odds are off */
    double seconds;    /* a frame */
    double ram, flash; /* bytes */
} nsk_finer_state;

/* A layer that was tried, on top of those chosen before. */
typedef struct nsk_finer_layer {
    char *name;
    bool chosen;
    nsk_finer_state with; /* it and those */
} nsk_finer_layer;

typedef struct nsk_finer {
    int images;
    nsk_finer_state before, after; /* nothing chosen; all that was */
    int count, chosen;
    nsk_finer_layer *layer; /* in the order in which they were tried */
} nsk_finer;

/* Chooses, and asks it of the network as nsk_network_make_fine does. First, on `few` images, which
 * layers would bring most back were they float alone (nsk_regain); then, on the calibration images,
 * integer models with one layer more each, in the order of that over what it costs. A layer is
 * chosen where it takes away at least a tenth of the mean square of what the log-odds were off
 * by at first, where that share is at least half of its shares of the limits of time, RAM and flash
 * (of what the model takes now, where there is no limit), and where no limit breaks that did not
 * break before. `product` and `progress` may be NULL. NULL where an error is set. */
nsk_finer *nsk_finer_choose(nsk_network *network, const nsk_images *calibration,
                            const nsk_images *few, const nsk_recipe *recipe, const nsk_board *board,
                            const nsk_product *product, const nsk_limits *limits,
                            nsk_progress progress, void *context, nsk_error *error);
void nsk_finer_free(nsk_finer *finer);

#ifdef __cplusplus
}
#endif
#endif
