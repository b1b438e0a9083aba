/* pool: what a maximum and an average have in common: one byte a window and channel. */
#ifndef NSK_DEVICE_POOL_H
#define NSK_DEVICE_POOL_H

#include "layer.h"

/* `in`: the channel's byte of pixel 0. */
typedef int8_t nsk_pool_window(const nsk_layer *layer, const int8_t *in, nsk_window rows,
                               nsk_window columns);

static inline void nsk_pool(const nsk_layer *l, int8_t *workspace, nsk_pool_window *window) {
    const int8_t *in = workspace + l->in.offset;
    int8_t *out = workspace + l->out.offset;
    for (int32_t y = 0; y < l->out.height; y++) {
        nsk_window rows = nsk_rows(l, y);
        for (int32_t x = 0; x < l->out.width; x++) {
            nsk_window columns = nsk_columns(l, x);
            for (int32_t c = 0; c < l->out.channels; c++) {
                out[c] = window(l, in + c, rows, columns);
            }
            out += l->out.pixel_stride;
        }
    }
}

#endif
