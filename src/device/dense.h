/* dense: what is asked of every dense layer, packed or not. */
#ifndef NSK_DEVICE_DENSE_H
#define NSK_DEVICE_DENSE_H

#include "check.h"

/* How the weights of a dense layer stand. */
static inline nsk_weights_form nsk_dense_form(const nsk_layer *l) {
    uint32_t taps = nsk_tensor_elements(&l->in);
    uint32_t row = nsk_dense_row(l);
    const nsk_weights_form form = {row, 1, taps, row - taps, 128};
    return form;
}

/* All but its weights. */
static inline bool nsk_dense_is_good(const nsk_model *m, const nsk_layer *l) {
    /* words are read, the row's last one whole */
    return l->out.height == 1 && l->out.width == 1 && l->in.offset % 4 == 0 &&
           l->in.offset + nsk_dense_row(l) <= m->workspace_bytes;
}

#endif
