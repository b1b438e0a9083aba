/* packed: weights that have 4, 5 or 6 bits each in flash, of convolutions and dense layers. Those
 * of up to sixteen outputs at a time are unpacked into the layer's scratch, where they stand as the
 * kernels want them, in whatever order the layer's flags say: nothing else knows that they were
 * packed, and every bit of the outputs is as if they had not been. */
#ifndef NSK_DEVICE_PACKED_H
#define NSK_DEVICE_PACKED_H

#include "check.h"

/* What of a packed layer is its own: the kind that it is besides, and what runs that one; the bytes
 * of an output's weights once they are unpacked, and from which byte of its scratch on they stand.
 */
typedef struct nsk_packed {
    nsk_kind kind;
    const nsk_operation *operation;
    uint32_t row, behind;
} nsk_packed;

/* Weights, what requantises, scratch. All else has been checked as of a layer of that kind. */
bool nsk_packed_check(const nsk_model *model, const nsk_layer *layer, const nsk_packed *packed,
                      const nsk_weights_form *form);
void nsk_packed_run(const nsk_layer *layer, const nsk_packed *packed, int8_t *workspace);

#endif
