/* conv: what is asked of every convolution, packed or not. */
#ifndef NSK_DEVICE_CONV_H
#define NSK_DEVICE_CONV_H

#include "arch.h"
#include "check.h"

/* In pairs, outputs in twos; in an order of a core's own, with the clamp of an int8. */
static inline bool nsk_order_is_good(const nsk_model *m, const nsk_layer *l) {
    const uint32_t version = nsk_load16(m->bytes + NSK_H_VERSION);
    if (nsk_weights_are_paired(l)) {
        return version == NSK_VERSION_ORDERED && l->out.channels / l->count % 2U == 0 &&
               nsk_requantise_is_plain(l);
    }
#if defined(NSK_READS_BLOCKS)
    if (nsk_weights_are_blocked(l)) {
        return version == NSK_VERSION_BLOCKED && nsk_requantise_is_plain(l);
    }
#endif
    return true;
}

/* All of a convolution but its weights. */
static inline bool nsk_conv_is_good(const nsk_model *m, const nsk_layer *l) {
    if (l->count < 1 || l->in.channels % l->count != 0 || l->out.channels % l->count != 0 ||
        !nsk_window_is_good(l) || nsk_kernel_area(l) * l->in.channels > NSK_MOST_TAPS ||
        !nsk_scratch_is_good(m, l, (uint32_t)nsk_conv_scratch(l))) {
        return false;
    }
    /* pixels that stand as they are wanted are taken one behind the other: none is left out */
    if (nsk_conv_is_direct(l) && (l->in.height != l->out.height || l->in.width != l->out.width)) {
        return false;
    }
    return nsk_order_is_good(m, l);
}

/* How its weights stand, of one that is good. */
static inline nsk_weights_form nsk_conv_form(const nsk_layer *l) {
    uint32_t taps = (uint32_t)nsk_conv_taps(l);
    uint32_t row = (uint32_t)nsk_row_bytes((int32_t)taps);
    const nsk_weights_form form = {row, 1, taps, row - taps, 128};
    return form;
}

#endif
