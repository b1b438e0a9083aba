/* layer: one layer's record, decoded, and what each kind of layer can do. */
#ifndef NSK_LAYER_H
#define NSK_LAYER_H

#include "netsuke/device.h"

/* Numbers are wider than their fields so that nothing computed from them can overflow. */
typedef struct nsk_layer {
    nsk_kind kind;
    uint32_t flags, count;
    nsk_tensor in, second, out; /* `second` only where the kind has two inputs */
    bool has_second;
    int32_t kernel_height, kernel_width;
    int32_t stride_down, stride_across;
    int32_t dilate_down, dilate_across;
    int32_t pad_top, pad_left;
    int32_t low, high;
    const uint8_t *weights, *bias, *multipliers, *shifts; /* into the file */
} nsk_layer;

void nsk_layer_decode(const nsk_model *model, unsigned index, nsk_layer *layer);

/* Keeps an inner loop a function of its own: inlined into the loops around it, compilers run out of
 * registers for both and spill those of the inner one. */
#if defined(__GNUC__)
#define NSK_APART __attribute__((noinline))
#else
#define NSK_APART
#endif

/* A kernel reads and writes the tensors' places in the workspace. */
typedef void nsk_kernel(const nsk_layer *layer, int8_t *workspace);

nsk_kernel nsk_conv, nsk_depthwise, nsk_dense, nsk_max_pool, nsk_average_pool, nsk_add,
    nsk_multiply, nsk_table, nsk_softmax, nsk_larger, nsk_smaller, nsk_move, nsk_constant,
    nsk_resize, nsk_transposed;

/* The kernel taps [first, last) of a window that fall inside the picture, along one axis, and the
 * picture's coordinate of tap 0. */
typedef struct nsk_window {
    int32_t first, last, origin;
} nsk_window;

/* Output `at` of a window of `kernel` taps, `dilate` apart, on `size` pixels. */
static inline nsk_window nsk_window_at(int32_t at, int32_t stride, int32_t pad, int32_t kernel,
                                       int32_t dilate, int32_t size) {
    nsk_window w = {0, kernel, at * stride - pad};
    while (w.first < w.last && w.origin + w.first * dilate < 0) {
        w.first++;
    }
    while (w.last > w.first && w.origin + (w.last - 1) * dilate >= size) {
        w.last--;
    }
    return w;
}

static inline nsk_window nsk_rows(const nsk_layer *l, int32_t y) {
    return nsk_window_at(y, l->stride_down, l->pad_top, l->kernel_height, l->dilate_down,
                         l->in.height);
}

static inline nsk_window nsk_columns(const nsk_layer *l, int32_t x) {
    return nsk_window_at(x, l->stride_across, l->pad_left, l->kernel_width, l->dilate_across,
                         l->in.width);
}

static inline uint32_t nsk_tensor_bytes(const nsk_tensor *t) {
    return (uint32_t)t->height * t->width * t->channels;
}

#endif
