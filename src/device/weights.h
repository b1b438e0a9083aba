/* weights: what is asked of weights, whatever way each is had; included where that is known, so
 * that nothing is called through a pointer. */
#ifndef NSK_DEVICE_WEIGHTS_H
#define NSK_DEVICE_WEIGHTS_H

#include "arithmetic.h"
#include "check.h"

/* The weight of an output at a tap. */
typedef int32_t nsk_weight_at(const nsk_layer *layer, uint32_t channel, uint32_t tap,
                              const nsk_weights_form *form);

/* No sum here leaves 32 bits: it ends where it is too large. */
static inline bool nsk_output_fits(const nsk_layer *l, uint32_t channel,
                                   const nsk_weights_form *form, nsk_weight_at *at) {
    int32_t requantise = nsk_word(l->requantise, channel);
    int32_t bias = nsk_requantise_bias(requantise);
    int32_t most = nsk_weights_are_paired(l) ? NSK_PAIRED_MOST : NSK_SUM_MOST;
    int32_t room = most - (bias < 0 ? -bias : bias);
    int32_t sum = 0;
    for (uint32_t i = 0; i < form->taps + form->fill; i++) {
        int32_t w = at(l, channel, i, form);
        sum += w < 0 ? -w : w;
        /* none is the least: two products of it are one too large for 16 bits */
        if (w < -127 || w > 127 || sum > room || (i >= form->taps && w != 0)) {
            return false;
        }
    }
    return nsk_requantise_factor(requantise) > 0 && nsk_requantise_shift(requantise) > 0 &&
           sum <= room / form->reach;
}

/* Of weights that are known to lie in the file. */
static inline bool nsk_weights_fit(const nsk_layer *l, const nsk_weights_form *form,
                                   nsk_weight_at *at) {
    for (uint32_t c = 0; c < l->out.channels; c++) {
        if (!nsk_output_fits(l, c, form, at)) {
            return false;
        }
    }
    return true;
}

#endif
