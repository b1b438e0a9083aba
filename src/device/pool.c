#include "small.h"

#include "pool.h"

nsk_window nsk_inside(int32_t start, int32_t taps, int32_t dilate, int32_t size) {
    nsk_window w = {start, taps};
    for (; w.taps > 0 && w.start < 0; w.taps--) {
        w.start += dilate;
    }
    while (w.taps > 0 && w.start + (w.taps - 1) * dilate >= size) {
        w.taps--;
    }
    return w;
}

void nsk_pool(const nsk_layer *l, int8_t *workspace, nsk_pool_window *window) {
    const int8_t *in = workspace + l->in.offset;
    int8_t *out = workspace + l->out.offset;
    for (int32_t y = 0; y < l->out.height; y++) {
        nsk_window rows = nsk_rows(l, y);
        for (int32_t x = 0; x < l->out.width; x++) {
            nsk_window columns = nsk_columns(l, x);
            const int8_t *first = in + (rows.start * l->in.width + columns.start) * l->in.channels;
            window(l, first, rows.taps, columns.taps, out);
            out += l->out.pixel_stride;
        }
    }
}
