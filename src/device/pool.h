/* pool: what a maximum and an average have in common: one element a window and channel. */
#ifndef NSK_DEVICE_POOL_H
#define NSK_DEVICE_POOL_H

#include "layer.h"

/* How many taps of a window fall inside the picture, along one axis, and the picture's coordinate
 * of the first of them. */
typedef struct nsk_window {
    int32_t start, taps;
} nsk_window;

/* Of `taps`, `dilate` apart from `start` on, on `size` pixels. */
nsk_window nsk_inside(int32_t start, int32_t taps, int32_t dilate, int32_t size);

/* Those of an output row, of a column. */
static inline nsk_window nsk_rows(const nsk_layer *l, int32_t y) {
    return nsk_inside(nsk_window_top(l, y), l->kernel_height, l->dilate_down, l->in.height);
}

static inline nsk_window nsk_columns(const nsk_layer *l, int32_t x) {
    return nsk_inside(x * l->stride_across - l->pad_left, l->kernel_width, l->dilate_across,
                      l->in.width);
}

/* Writes the outputs of a pixel. `in`: the first pixel inside, of so many rows and columns. */
typedef void nsk_pool_window(const nsk_layer *layer, const int8_t *in, int32_t down, int32_t across,
                             int8_t *out);

void nsk_pool(const nsk_layer *layer, int8_t *workspace, nsk_pool_window *window);

/* Those of both kinds, which cores have their own of; the portable ones, for what those leave. */
nsk_pool_window nsk_average_window, nsk_most_window, nsk_average_window_plain,
    nsk_most_window_plain;

#endif
