/* netsuke/narrower.h: which layers' weights are to have fewer bits in flash, so that a model fits.
 */
#ifndef NETSUKE_NARROWER_H
#define NETSUKE_NARROWER_H

#include "netsuke/finer.h"

#ifdef __cplusplus
extern "C" {
#endif

/* A layer whose weights could have fewer than 8 bits. */
typedef struct nsk_narrower_layer {
    char *name;
    double weights; /* bytes at 8 bits */
    double harm;    /* what 4 bits would add to the mean square of what the log-odds are off by */
    int bits;       /* chosen */
} nsk_narrower_layer;

typedef struct nsk_narrower {
    int images;
    double allowed;                /* bytes of flash */
    nsk_finer_state before, after; /* as the recipe was; with what was chosen */
    int count;
    nsk_narrower_layer *layer;
    nsk_bits_exception *narrowed; /* for a recipe: those of other than 8 bits; the layers' names */
    int narrowed_count;
} nsk_narrower;

/* Chooses bits for dense layers and convolutions of single pixels, so that the flash of model and
 * code is within the limit, or the board's, at the least harm. Each layer by itself is given 4 bits
 * and measured on the calibration images; of 5 bits a quarter of that harm is expected, of 6 a
 * sixteenth, as rounding's squared error falls. Then bits are taken where the harm by byte saved is
 * least until the model fits. None, where it fits as it is; where 4 bits everywhere do not
 * suffice, those are chosen, and `after.flash` is above `allowed`. What the recipe says of single
 * layers stays. `product` and `progress` may be NULL. NULL where an error is set. */
nsk_narrower *nsk_narrower_choose(const nsk_network *network, const nsk_images *calibration,
                                  const nsk_recipe *recipe, const nsk_board *board,
                                  const nsk_product *product, const nsk_limits *limits,
                                  nsk_progress progress, void *context, nsk_error *error);
void nsk_narrower_free(nsk_narrower *narrower);

#ifdef __cplusplus
}
#endif
#endif
