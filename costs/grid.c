#include "grid.h"

#include <math.h>

#include "base/random.h"
#include "device/arithmetic.h"
#include "device/layer.h"
#include "lower/lower.h"
#include "modelfile/write.h"
#include "passes/schedule.h"

const grid_shape grid_shapes[] = {
    {NSK_KIND_CONV, 12, 3, 8, 3, 1},
    {NSK_KIND_CONV, 24, 3, 16, 3, 2},
    {NSK_KIND_CONV, 48, 3, 16, 3, 2},
    {NSK_KIND_CONV, 16, 8, 16, 3, 1},
    {NSK_KIND_CONV, 8, 32, 32, 3, 1},
    {NSK_KIND_CONV, 12, 16, 20, 5, 2},
    {NSK_KIND_CONV, 6, 64, 64, 3, 1},
    {NSK_KIND_CONV, 20, 4, 24, 3, 1},
    {NSK_KIND_CONV, 20, 32, 12, 3, 1},
    {NSK_KIND_CONV, 10, 48, 24, 3, 1},
    {NSK_KIND_CONV, 12, 32, 8, 5, 1},
    {NSK_KIND_CONV, 24, 16, 16, 1, 1},
    {NSK_KIND_CONV, 12, 32, 64, 1, 1},
    {NSK_KIND_CONV, 12, 64, 64, 1, 1},
    {NSK_KIND_CONV, 6, 64, 128, 1, 1},
    {NSK_KIND_CONV, 6, 128, 128, 1, 1},
    {NSK_KIND_CONV, 8, 24, 96, 1, 1},
    {NSK_KIND_CONV, 16, 8, 48, 1, 1},
    {NSK_KIND_CONV, 5, 96, 24, 1, 1},
    {NSK_KIND_CONV, 4, 256, 64, 1, 1},
    {NSK_KIND_DEPTHWISE, 24, 16, 16, 3, 1},
    {NSK_KIND_DEPTHWISE, 24, 32, 32, 3, 2},
    {NSK_KIND_DEPTHWISE, 12, 64, 64, 3, 1},
    {NSK_KIND_DEPTHWISE, 6, 128, 128, 3, 1},
    {NSK_KIND_DEPTHWISE, 12, 64, 64, 3, 2},
    {NSK_KIND_DEPTHWISE, 16, 24, 24, 5, 1},
    {NSK_KIND_DEPTHWISE, 10, 48, 48, 3, 1},
    {NSK_KIND_DEPTHWISE, 12, 16, 16, 5, 2},
    {NSK_KIND_DEPTHWISE, 8, 32, 32, 5, 1},
    {NSK_KIND_DEPTHWISE, 10, 8, 8, 7, 1},
    {NSK_KIND_DEPTHWISE, 20, 12, 12, 5, 1},
    {NSK_KIND_DEPTHWISE, 14, 20, 20, 2, 1},
    {NSK_KIND_DEPTHWISE, 6, 96, 96, 5, 1},
    {NSK_KIND_DEPTHWISE, 48, 8, 8, 3, 1},
    {NSK_KIND_DEPTHWISE, 16, 48, 48, 3, 2},
    {NSK_KIND_DEPTHWISE, 8, 96, 96, 3, 2},
    {NSK_KIND_DEPTHWISE, 32, 16, 16, 3, 2},
    {NSK_KIND_DEPTHWISE, 8, 64, 64, 3, 1},
    {NSK_KIND_DEPTHWISE, 18, 24, 24, 3, 1},
    {NSK_KIND_CONV, 20, 3, 32, 3, 2},
    {NSK_KIND_CONV, 16, 12, 48, 3, 1},
    {NSK_KIND_CONV, 24, 1, 8, 5, 1},
    {NSK_KIND_CONV, 10, 24, 12, 3, 2},
    {NSK_KIND_CONV, 24, 8, 16, 1, 1},
    {NSK_KIND_CONV, 12, 96, 16, 1, 1},
    {NSK_KIND_CONV, 3, 192, 192, 1, 1},
    {NSK_KIND_CONV, 20, 24, 24, 1, 1},
    {NSK_KIND_CONV, 10, 48, 8, 1, 1},
    {NSK_KIND_CONV, 18, 12, 72, 1, 1},
    /* odd numbers of channels, pixels and taps */
    {NSK_KIND_CONV, 11, 3, 7, 3, 1},
    {NSK_KIND_CONV, 15, 1, 6, 3, 1},
    {NSK_KIND_CONV, 9, 6, 10, 3, 2},
    {NSK_KIND_CONV, 13, 5, 9, 5, 1},
    {NSK_KIND_CONV, 7, 11, 33, 3, 1},
    {NSK_KIND_CONV, 21, 2, 5, 7, 2},
    {NSK_KIND_CONV, 32, 3, 24, 5, 1},
    {NSK_KIND_CONV, 9, 16, 48, 5, 2},
    {NSK_KIND_CONV, 11, 10, 18, 1, 1},
    {NSK_KIND_CONV, 9, 6, 26, 1, 1},
    {NSK_KIND_CONV, 13, 27, 45, 1, 1},
    {NSK_KIND_CONV, 5, 4, 14, 1, 1},
    {NSK_KIND_CONV, 7, 20, 27, 1, 1},
    {NSK_KIND_CONV, 9, 36, 13, 1, 1},
    {NSK_KIND_CONV, 3, 68, 33, 1, 1},
    {NSK_KIND_CONV, 24, 12, 6, 1, 1},
    {NSK_KIND_CONV, 1, 128, 32, 1, 1},
    {NSK_KIND_CONV, 1, 32, 128, 1, 1},
    {NSK_KIND_CONV, 32, 16, 24, 1, 1},
    {NSK_KIND_CONV, 16, 8, 3, 1, 1},
    {NSK_KIND_CONV, 16, 8, 2, 3, 1},
    {NSK_KIND_CONV, 12, 16, 24, 1, 2},
    {NSK_KIND_DEPTHWISE, 12, 6, 6, 3, 1},
    {NSK_KIND_DEPTHWISE, 20, 10, 10, 3, 1},
    {NSK_KIND_DEPTHWISE, 20, 10, 10, 3, 2},
    {NSK_KIND_DEPTHWISE, 24, 8, 8, 3, 2},
    {NSK_KIND_DEPTHWISE, 11, 13, 13, 3, 2},
    {NSK_KIND_DEPTHWISE, 9, 12, 12, 3, 1},
    {NSK_KIND_DEPTHWISE, 13, 18, 18, 3, 1},
    {NSK_KIND_DEPTHWISE, 17, 27, 27, 3, 2},
    {NSK_KIND_DEPTHWISE, 7, 45, 45, 3, 1},
    {NSK_KIND_DEPTHWISE, 4, 160, 160, 3, 1},
    {NSK_KIND_DEPTHWISE, 3, 256, 256, 3, 1},
    {NSK_KIND_DEPTHWISE, 5, 72, 72, 3, 2},
    {NSK_KIND_DEPTHWISE, 33, 20, 20, 3, 1},
    {NSK_KIND_DEPTHWISE, 40, 32, 32, 3, 1},
    {NSK_KIND_DEPTHWISE, 9, 40, 40, 5, 1},
    {NSK_KIND_DEPTHWISE, 13, 27, 27, 5, 2},
    {NSK_KIND_DEPTHWISE, 12, 24, 24, 7, 2},
    {NSK_KIND_DEPTHWISE, 14, 6, 6, 5, 1},
    {NSK_KIND_DEPTHWISE, 20, 20, 20, 7, 1},
    {NSK_KIND_DEPTHWISE, 9, 10, 10, 2, 1},
    {NSK_KIND_DEPTHWISE, 16, 12, 12, 5, 2},
    {NSK_KIND_DEPTHWISE, 24, 4, 4, 4, 1},
    {NSK_KIND_DEPTHWISE, 8, 40, 40, 7, 1},
    {NSK_KIND_DEPTHWISE, 18, 16, 16, 7, 2},
    {NSK_KIND_DEPTHWISE, 12, 24, 24, 9, 1},
    {NSK_KIND_DEPTHWISE, 16, 10, 10, 9, 2},
    {NSK_KIND_DEPTHWISE, 10, 16, 16, 8, 1},
    /* rows of sixteen taps and fewer */
    {NSK_KIND_CONV, 24, 1, 8, 3, 1},
    {NSK_KIND_CONV, 20, 1, 16, 3, 2},
    {NSK_KIND_CONV, 28, 1, 12, 3, 1},
    {NSK_KIND_CONV, 13, 1, 32, 3, 1},
    {NSK_KIND_CONV, 9, 3, 20, 2, 1},
    {NSK_KIND_CONV, 16, 4, 12, 2, 2},
    {NSK_KIND_CONV, 6, 16, 64, 1, 1},
    {NSK_KIND_AVERAGE_POOL, 16, 12, 12, 2, 2},
    {NSK_KIND_AVERAGE_POOL, 6, 8, 8, 6, 1},
    {NSK_KIND_AVERAGE_POOL, 10, 4, 4, 3, 1},
    {NSK_KIND_AVERAGE_POOL, 8, 40, 40, 2, 2},
    {NSK_KIND_AVERAGE_POOL, 9, 24, 24, 3, 2},
    {NSK_KIND_MAX_POOL, 10, 40, 40, 3, 2},
    {NSK_KIND_MAX_POOL, 12, 12, 12, 2, 2},
    {NSK_KIND_AVERAGE_POOL, 12, 64, 64, 12, 1},
    {NSK_KIND_AVERAGE_POOL, 4, 256, 256, 4, 1},
    {NSK_KIND_AVERAGE_POOL, 12, 32, 32, 2, 2},
    {NSK_KIND_MAX_POOL, 12, 24, 24, 3, 1},
    {NSK_KIND_MAX_POOL, 16, 16, 16, 2, 2},
    {NSK_KIND_MAX_POOL, 24, 8, 8, 3, 2},
    {NSK_KIND_MAX_POOL, 8, 64, 64, 2, 2},
    {NSK_KIND_AVERAGE_POOL, 16, 16, 16, 2, 2},
    {NSK_KIND_AVERAGE_POOL, 24, 8, 8, 3, 2},
    {NSK_KIND_AVERAGE_POOL, 6, 128, 128, 6, 1},
    {NSK_KIND_ADD, 12, 16, 16, 1, 1},
    {NSK_KIND_ADD, 6, 64, 64, 1, 1},
    {NSK_KIND_ADD, 24, 8, 8, 1, 1},
    {NSK_KIND_MULTIPLY, 12, 16, 16, 1, 1},
    {NSK_KIND_MULTIPLY, 6, 64, 64, 1, 1},
    {NSK_KIND_MULTIPLY, 24, 8, 8, 1, 1},
    {NSK_KIND_LUT, 12, 16, 16, 1, 1},
    {NSK_KIND_LUT, 6, 64, 64, 1, 1},
    {NSK_KIND_LUT, 24, 8, 8, 1, 1},
    {NSK_KIND_DENSE, 1, 64, 10, 1, 1},
    {NSK_KIND_DENSE, 4, 32, 20, 1, 1},
    {NSK_KIND_DENSE, 6, 16, 64, 1, 1},
    {NSK_KIND_DENSE, 1, 256, 6, 1, 1},
    {NSK_KIND_DENSE, 1, 40, 2, 1, 1},
    {NSK_KIND_DENSE, 1, 128, 3, 1, 1},
    {NSK_KIND_DENSE, 3, 21, 19, 1, 1},
    {NSK_KIND_DENSE, 8, 24, 96, 1, 1},
    {NSK_KIND_DENSE, 1, 12, 5, 1, 1},
    {NSK_KIND_DENSE, 1, 8, 24, 1, 1},
    {NSK_KIND_DENSE, 1, 16, 40, 1, 1},
    {NSK_KIND_DENSE, 1, 10, 3, 1, 1},
    {NSK_KIND_DENSE, 1, 64, 32, 1, 1},
    {NSK_KIND_DENSE, 1, 84, 50, 1, 1},
    {NSK_KIND_AVERAGE_POOL, 13, 27, 27, 2, 2},
    {NSK_KIND_AVERAGE_POOL, 6, 40, 40, 6, 1},
    {NSK_KIND_AVERAGE_POOL, 15, 32, 32, 3, 2},
    {NSK_KIND_AVERAGE_POOL, 3, 256, 256, 3, 1},
    {NSK_KIND_MAX_POOL, 15, 32, 32, 3, 2},
    {NSK_KIND_MAX_POOL, 13, 6, 6, 2, 2},
    {NSK_KIND_SOFTMAX, 1, 10, 10, 1, 1},
    {NSK_KIND_SOFTMAX, 1, 100, 100, 1, 1},
    {NSK_KIND_SOFTMAX, 4, 8, 8, 1, 1},
    {NSK_KIND_MAX, 12, 16, 16, 1, 1},
    {NSK_KIND_MAX, 6, 64, 64, 1, 1},
    {NSK_KIND_MAX, 24, 8, 8, 1, 1},
    {NSK_KIND_MIN, 12, 16, 16, 1, 1},
    {NSK_KIND_MIN, 6, 64, 64, 1, 1},
    {NSK_KIND_MIN, 24, 8, 8, 1, 1},
    /* a shuffle, a transposition, a slice, heads of an attention: see draw_moves */
    {NSK_KIND_COPY, 12, 16, 16, 1, 1},
    {NSK_KIND_COPY, 6, 64, 64, 1, 1},
    {NSK_KIND_COPY, 24, 8, 8, 1, 1},
    {NSK_KIND_COPY, 6, 36, 36, 2, 1},
    {NSK_KIND_COPY, 11, 20, 20, 2, 1},
    {NSK_KIND_COPY, 6, 64, 64, 3, 1},
    {NSK_KIND_COPY, 9, 48, 48, 3, 1},
    {NSK_KIND_COPY, 6, 64, 64, 4, 1},
    {NSK_KIND_COPY, 5, 96, 96, 4, 1},
    {NSK_KIND_CONSTANT, 12, 16, 16, 1, 1},
    {NSK_KIND_CONSTANT, 6, 64, 64, 1, 1},
    {NSK_KIND_CONSTANT, 24, 8, 8, 1, 1},
    {NSK_KIND_RESIZE, 8, 16, 16, 1, 2},
    {NSK_KIND_RESIZE, 6, 32, 32, 1, 2},
    {NSK_KIND_RESIZE, 12, 8, 8, 1, 2},
    {NSK_KIND_CONV_TRANSPOSE, 8, 16, 16, 3, 2},
    {NSK_KIND_CONV_TRANSPOSE, 6, 32, 16, 2, 2},
    {NSK_KIND_CONV_TRANSPOSE, 8, 8, 12, 4, 2},
    {NSK_KIND_MATMUL, 12, 16, 12, 1, 1},
    {NSK_KIND_MATMUL, 6, 64, 6, 1, 1},
    {NSK_KIND_MATMUL, 24, 8, 24, 1, 1},
    {NSK_KIND_MATMUL, 9, 16, 9, 1, 1},
    {NSK_KIND_MATMUL, 16, 32, 16, 1, 1},
    {NSK_KIND_MATMUL, 20, 12, 20, 1, 1},
    {NSK_KIND_MATMUL, 10, 37, 10, 1, 1},
    {NSK_KIND_MATMUL, 5, 96, 5, 1, 1},
    {NSK_KIND_MATMUL, 24, 24, 24, 1, 1},
    {NSK_KIND_MATMUL, 33, 15, 33, 1, 1},
    /* in as many groups as the kernel says */
    {NSK_KIND_NORMALISE, 12, 16, 16, 1, 1},
    {NSK_KIND_NORMALISE, 6, 64, 64, 1, 1},
    {NSK_KIND_NORMALISE, 9, 48, 48, 2, 1},
    {NSK_KIND_NORMALISE, 7, 24, 24, 4, 1},
    {NSK_KIND_NORMALISE, 4, 192, 192, 1, 1},
    {NSK_KIND_NORMALISE_WHOLE, 12, 16, 16, 1, 1},
    {NSK_KIND_NORMALISE_WHOLE, 6, 64, 64, 4, 1},
    {NSK_KIND_NORMALISE_WHOLE, 20, 8, 8, 8, 1},
    {NSK_KIND_NORMALISE_WHOLE, 9, 48, 48, 2, 1},
    /* which read a fine tensor */
    {NSK_KIND_CONV_FINE, 12, 3, 8, 3, 1},
    {NSK_KIND_CONV_FINE, 24, 3, 16, 3, 2},
    {NSK_KIND_CONV_FINE, 12, 16, 24, 1, 1},
    {NSK_KIND_CONV_FINE, 6, 32, 40, 1, 1},
    {NSK_KIND_CONV_FINE, 9, 8, 7, 3, 1},
    {NSK_KIND_CONV_FINE, 5, 6, 11, 5, 1},
    {NSK_KIND_CONV_FINE, 1, 128, 12, 1, 1},
    {NSK_KIND_CONV_FINE, 16, 8, 48, 1, 1},
    {NSK_KIND_DEPTHWISE_FINE, 12, 16, 16, 3, 1},
    {NSK_KIND_DEPTHWISE_FINE, 20, 10, 10, 3, 2},
    {NSK_KIND_DEPTHWISE_FINE, 9, 24, 24, 5, 1},
    {NSK_KIND_DEPTHWISE_FINE, 24, 8, 8, 3, 1},
    {NSK_KIND_DEPTHWISE_FINE, 7, 45, 45, 3, 1},
    {NSK_KIND_LUT_FINE, 12, 16, 16, 1, 1},
    {NSK_KIND_LUT_FINE, 6, 64, 64, 1, 1},
    {NSK_KIND_LUT_FINE, 24, 8, 8, 1, 1},
    {NSK_KIND_ADD_FINE, 12, 16, 16, 1, 1},
    {NSK_KIND_ADD_FINE, 6, 64, 64, 1, 1},
    {NSK_KIND_ADD_FINE, 24, 8, 8, 1, 1},
    {NSK_KIND_NORMALISE_FINE, 12, 16, 16, 1, 1},
    {NSK_KIND_NORMALISE_FINE, 6, 64, 64, 1, 1},
    {NSK_KIND_NORMALISE_FINE, 7, 24, 24, 4, 1},
    {NSK_KIND_NORMALISE_FINE, 4, 192, 192, 1, 1},
    /* packed weights: bits by turns, see grid_add_layer */
    {NSK_KIND_CONV_PACKED, 24, 16, 32, 1, 1},
    {NSK_KIND_CONV_PACKED, 12, 32, 64, 1, 1},
    {NSK_KIND_CONV_PACKED, 12, 64, 48, 1, 1},
    {NSK_KIND_CONV_PACKED, 6, 64, 128, 1, 1},
    {NSK_KIND_CONV_PACKED, 6, 128, 96, 1, 1},
    {NSK_KIND_CONV_PACKED, 4, 96, 40, 1, 1},
    {NSK_KIND_CONV_PACKED, 3, 192, 112, 1, 1},
    {NSK_KIND_CONV_PACKED, 9, 36, 30, 1, 1},
    {NSK_KIND_CONV_PACKED, 5, 8, 24, 1, 1},
    {NSK_KIND_CONV_PACKED, 16, 24, 8, 1, 1},
    {NSK_KIND_CONV_PACKED, 7, 20, 54, 1, 1},
    {NSK_KIND_CONV_PACKED, 2, 256, 80, 1, 1},
    {NSK_KIND_CONV_PACKED, 10, 48, 20, 1, 1},
    {NSK_KIND_CONV_PACKED, 12, 8, 16, 3, 1},
    {NSK_KIND_CONV_PACKED, 6, 24, 36, 3, 1},
    {NSK_KIND_CONV_PACKED, 16, 3, 24, 3, 2},
    {NSK_KIND_CONV_PACKED, 8, 16, 32, 5, 2},
    {NSK_KIND_CONV_PACKED, 9, 6, 14, 3, 1},
    {NSK_KIND_CONV_PACKED, 12, 12, 18, 1, 2},
    {NSK_KIND_CONV_PACKED, 24, 6, 10, 1, 1},
    {NSK_KIND_CONV_PACKED, 12, 22, 42, 1, 1},
    {NSK_KIND_CONV_PACKED, 24, 1, 8, 3, 1},
    {NSK_KIND_CONV_PACKED, 13, 1, 32, 3, 1},
    {NSK_KIND_CONV_PACKED, 9, 3, 20, 2, 1},
    {NSK_KIND_CONV_PACKED, 20, 1, 12, 3, 2},
    {NSK_KIND_CONV_PACKED, 12, 12, 40, 1, 1},
    {NSK_KIND_DENSE_PACKED, 1, 64, 10, 1, 1},
    {NSK_KIND_DENSE_PACKED, 4, 32, 20, 1, 1},
    {NSK_KIND_DENSE_PACKED, 6, 16, 66, 1, 1},
    {NSK_KIND_DENSE_PACKED, 1, 256, 6, 1, 1},
    {NSK_KIND_DENSE_PACKED, 1, 128, 32, 1, 1},
    {NSK_KIND_DENSE_PACKED, 3, 21, 19, 1, 1},
    {NSK_KIND_DENSE_PACKED, 2, 24, 96, 1, 1},
    {NSK_KIND_SCORES, 1, 2, 2, 1, 1},
    {NSK_KIND_SCORES, 1, 10, 10, 1, 1},
    {NSK_KIND_SCORES, 1, 100, 100, 1, 1},
};
const int grid_shape_count = G_N_ELEMENTS(grid_shapes);

static int add_tensor(nsk_lowered *net, int size, int channels) {
    const nsk_lowered_tensor t = {.height = size,
                                  .width = size,
                                  .channels = channels,
                                  .shares = NSK_NONE,
                                  .alias_of = NSK_NONE};
    g_array_append_val(net->tensors, t);
    return (int)net->tensors->len - 1;
}

/* How a kind sees its shape. */
typedef struct kind_form {
    bool window;  /* slides its kernel over the picture */
    bool pads;    /* by half of its kernel */
    bool pair;    /* has two inputs */
    bool weights; /* one set an output channel */
    bool grows;   /* the picture, by its stride */
} kind_form;

static const kind_form forms[NSK_KINDS] = {
    [NSK_KIND_CONV] = {.window = true, .pads = true, .weights = true},
    [NSK_KIND_DEPTHWISE] = {.window = true, .pads = true, .weights = true},
    [NSK_KIND_DENSE] = {.weights = true},
    [NSK_KIND_CONV_FINE] = {.window = true, .pads = true, .weights = true},
    [NSK_KIND_DEPTHWISE_FINE] = {.window = true, .pads = true, .weights = true},
    [NSK_KIND_CONV_PACKED] = {.window = true, .pads = true, .weights = true},
    [NSK_KIND_DENSE_PACKED] = {.weights = true},
    [NSK_KIND_ADD_FINE] = {.pair = true},
    [NSK_KIND_MAX_POOL] = {.window = true},
    [NSK_KIND_AVERAGE_POOL] = {.window = true},
    [NSK_KIND_ADD] = {.pair = true},
    [NSK_KIND_MULTIPLY] = {.pair = true},
    [NSK_KIND_MATMUL] = {.pair = true},
    [NSK_KIND_MAX] = {.pair = true},
    [NSK_KIND_MIN] = {.pair = true},
    [NSK_KIND_RESIZE] = {.grows = true},
    [NSK_KIND_CONV_TRANSPOSE] = {.weights = true, .grows = true},
};

static bool is_dense(nsk_kind kind) {
    return nsk_kind_unpacked(kind) == NSK_KIND_DENSE;
}

static int output_size(const grid_shape *s) {
    const kind_form *form = &forms[s->kind];
    int pad = form->pads ? s->kernel / 2 : 0;
    return form->window        ? (s->size + 2 * pad - s->kernel) / s->stride + 1
           : form->grows       ? s->size * s->stride
           : is_dense(s->kind) ? 1
                               : s->size;
}

static int taps_of(const grid_shape *s) {
    int area = s->kernel * s->kernel;
    bool depthwise = s->kind == NSK_KIND_DEPTHWISE || s->kind == NSK_KIND_DEPTHWISE_FINE;
    return depthwise           ? area
           : is_dense(s->kind) ? s->size * s->size * s->in_channels
                               : area * s->in_channels;
}

static void draw_weights(nsk_lowered_layer *l, int taps, int channels, random_state *r) {
    l->taps = taps;
    l->weights = g_new(float, (gsize)taps *(gsize)channels);
    l->bias = g_new0(float, channels);
    for (int i = 0; i < taps * channels; i++) {
        l->weights[i] = (float)(random_normal(r) / sqrt(taps));
    }
}

static void draw_values(nsk_lowered_layer *l, int count, random_state *r) {
    l->value_count = count;
    l->values = g_new(float, (gsize)count);
    for (int i = 0; i < count; i++) {
        l->values[i] = (float)(random_normal(r) / sqrt(count));
    }
}

/* Moves by the shape's kernel. 1: channels in two groups that take turns, as a channel shuffle has
 * them; 2: channels before pixels; 3: the same place, in one run; 4: four heads of channels apart,
 * pixels innermost. */
static void draw_moves(nsk_lowered_layer *l, const grid_shape *s) {
    const int32_t pixels = s->size * s->size;
    const int32_t all = s->channels;
    const int32_t half = all / 2;
    const int32_t head = all / 4;
    const int32_t moves[][12] = {
        {0, 0, 0, half, 1, 2, 2, half, 1, pixels, all, all},
        {0, 0, 0, pixels, all, 1, all, 1, pixels},
        {0, 0, 0, pixels * all, 1, 1},
        {0, 0, 0, pixels, all, 1, head, 1, pixels, 4, head, head * pixels},
    };
    static const int loops[] = {3, 2, 1, 3};
    l->loops = loops[s->kernel - 1];
    l->moves = g_memdup2(moves[s->kernel - 1], (gsize)(3 + 3 * l->loops) * sizeof **moves);
}

/* Each row and column halfway between two. */
static void draw_blends(nsk_lowered_layer *l, const grid_shape *s) {
    int out = s->size * s->stride;
    l->blends = g_new(uint16_t, 3 * 2 * (gsize)out);
    for (int i = 0; i < 2 * out; i++) {
        int first = i % out / s->stride;
        l->blends[3 * i] = (uint16_t)first;
        l->blends[3 * i + 1] = (uint16_t)MIN(first + 1, s->size - 1);
        l->blends[3 * i + 2] = NSK_BLEND_ONE / 2;
    }
}

static bool normalises(nsk_kind kind) {
    return kind == NSK_KIND_NORMALISE || kind == NSK_KIND_NORMALISE_WHOLE ||
           kind == NSK_KIND_NORMALISE_FINE;
}

/* Gains of both signs, some offset. */
static void draw_gains(nsk_lowered_layer *l, const grid_shape *s, random_state *r) {
    int pixels = s->kind == NSK_KIND_NORMALISE_WHOLE ? s->size * s->size : 1;
    l->window.groups = s->kernel;
    l->block = pixels * s->channels / s->kernel;
    l->centred = true;
    l->variance = 1e-5;
    l->gains = g_new(float, s->channels);
    l->offsets = g_new(float, s->channels);
    for (int c = 0; c < s->channels; c++) {
        l->gains[c] = (float)(0.7 + 0.3 * random_normal(r));
        l->offsets[c] = (float)(0.2 * random_normal(r));
    }
}

void grid_add_layer(nsk_lowered *net, const grid_shape *s, const char *name, random_state *r) {
    const kind_form *form = &forms[s->kind];
    int pad = form->pads ? s->kernel / 2 : 0;
    nsk_lowered_layer l = {.kind = nsk_kind_unpacked(s->kind),
                           .name = name,
                           .sign = {1, 1},
                           .low = -INFINITY,
                           .high = INFINITY};
    if (l.kind != s->kind) {
        l.bits = NSK_LEAST_BITS + s->channels / 2 % 3;
    }
    l.in = (int)net->tensors->len - 1;
    l.second = form->pair ? l.in : NSK_NONE;
    l.out = add_tensor(net, output_size(s), s->channels);
    l.shares = s->kind == NSK_KIND_SCORES;
    nsk_lowered_tensor_at(net, l.out)->element = l.shares ? NSK_ELEMENT_32 : NSK_ELEMENT_8;
    l.window = (nsk_window_attributes){.kernel = {s->kernel, s->kernel},
                                       .stride = {s->stride, s->stride},
                                       .dilation = {1, 1},
                                       .pad_before = {pad, pad},
                                       .pad_after = {pad, pad},
                                       .groups = 1};
    if (form->weights) {
        draw_weights(&l, taps_of(s), s->channels, r);
    } else if (s->kind == NSK_KIND_CONSTANT) {
        draw_values(&l, s->size * s->size * s->channels, r);
    } else if (s->kind == NSK_KIND_COPY) {
        draw_moves(&l, s);
    } else if (s->kind == NSK_KIND_RESIZE) {
        draw_blends(&l, s);
    } else if (normalises(s->kind)) {
        draw_gains(&l, s, r);
    }
    g_array_append_val(net->layers, l);
    /* cppcheck-suppress memleak; the array holds what the layer points to */
}

nsk_model_file *grid_write(const nsk_lowered *net, const nsk_schedule *schedule, nsk_error *error) {
    int tensors = (int)net->tensors->len;
    int layers = (int)net->layers->len;
    const nsk_input input = {
        .width = nsk_lowered_tensor_at(net, 0)->width,
        .height = nsk_lowered_tensor_at(net, 0)->height,
        .colour = nsk_lowered_tensor_at(net, 0)->channels == 1 ? NSK_COLOUR_GREY : NSK_COLOUR_RGB,
        .mean = {0.5, 0.5, 0.5},
        .deviation = {0.25, 0.25, 0.25},
        .top = 1.0};
    const int classes = nsk_lowered_tensor_at(net, net->output)->channels;
    char **names = g_new0(char *, (gsize)classes + 1);
    const nsk_labels labels = {.count = classes, .names = names};
    for (int i = 0; i < classes; i++) {
        names[i] = (char *)"a";
    }
    nsk_scale *scales = g_new0(nsk_scale, (gsize)tensors + 1);
    nsk_integer_layer *integers = g_new0(nsk_integer_layer, layers);
    bool good = true;
    for (int i = 0; i < tensors; i++) {
        const nsk_range range = {-2.0F, 2.0F};
        const nsk_lowered_tensor *t = nsk_lowered_tensor_at(net, i);
        scales[i] =
            t->element == NSK_ELEMENT_8 || t->fine ? nsk_scale_of(range) : nsk_wide_scale_of(range);
    }
    for (int i = 0; i < layers && good; i++) {
        const nsk_lowered_layer *l = nsk_lowered_layer_at(net, i);
        integers[i].channels = nsk_lowered_tensor_at(net, l->out)->channels;
        integers[i].table_count =
            nsk_lowered_tensor_at(net, l->out)->height + nsk_lowered_tensor_at(net, l->out)->width;
        good = nsk_integer_layer_make(l, scales[l->in], scales[l->in], scales[l->out], &integers[i],
                                      error);
    }
    nsk_graph *no_graph = nsk_graph_new(); /* whose input is taken as it is */
    const nsk_model_parts parts = {.facts = {"grid", "", "", "", ""},
                                   .labels = &labels,
                                   .input = &input,
                                   .graph = no_graph,
                                   .lowered = net,
                                   .scales = scales,
                                   .layers = integers,
                                   .schedule = schedule};
    nsk_model_file *file = good ? nsk_model_write(&parts, error) : NULL;
    for (int i = 0; i < layers; i++) {
        nsk_integer_layer_clear(&integers[i]);
    }
    nsk_graph_free(no_graph);
    g_free(names);
    g_free(integers);
    g_free(scales);
    return file;
}

void grid_begin(nsk_lowered *net, int size, int channels) {
    net->tensors = g_array_new(FALSE, TRUE, sizeof(nsk_lowered_tensor));
    net->layers = g_array_new(FALSE, TRUE, sizeof(nsk_lowered_layer));
    net->output = 0;
    add_tensor(net, size, channels);
}

nsk_model_file *grid_finish(nsk_lowered *net, int streamed, bool over, nsk_error *error) {
    nsk_model_file *file = NULL;
    net->output = (int)net->tensors->len - 1;
    if (nsk_lowered_fit_scratch(net, error)) {
        nsk_schedule *s = nsk_schedule_of(net, streamed, 1);
        for (guint i = 0; i < net->tensors->len && !over; i++) {
            s->buffers[i].over = NULL;
        }
        nsk_schedule_place(net, s);
        file = grid_write(net, s, error);
        nsk_schedule_free(s);
    }
    for (int i = 0; i < (int)net->layers->len; i++) {
        g_free(nsk_lowered_layer_at(net, i)->weights);
        g_free(nsk_lowered_layer_at(net, i)->bias);
        g_free(nsk_lowered_layer_at(net, i)->moves);
        g_free(nsk_lowered_layer_at(net, i)->gains);
        g_free(nsk_lowered_layer_at(net, i)->offsets);
        g_free(nsk_lowered_layer_at(net, i)->values);
        g_free(nsk_lowered_layer_at(net, i)->blends);
    }
    g_array_free(net->tensors, TRUE);
    g_array_free(net->layers, TRUE);
    return file;
}

nsk_model_file *grid_model(const grid_shape *shape, grid_way way, nsk_error *error) {
    random_state r = {4711};
    nsk_lowered net;
    grid_begin(&net, shape->size, 3);
    const bool fine = nsk_kind_is_fine(shape->kind);
    const grid_shape first = {
        fine ? NSK_KIND_CONV_FINE : NSK_KIND_CONV, shape->size, 3, shape->in_channels, 1, 1};
    grid_add_layer(&net, &first, "first", &r);
    if (fine) {
        nsk_lowered_tensor_at(&net, 1)->element = NSK_ELEMENT_16;
        nsk_lowered_tensor_at(&net, 1)->fine = true;
    }
    grid_add_layer(&net, shape, "tested", &r);
    if (shape->kind == NSK_KIND_SCORES) {
        return grid_finish(&net, 0, way == GRID_OVER, error);
    }
    if (way == GRID_CLIPPED) {
        nsk_lowered_layer *tested = nsk_lowered_layer_at(&net, GRID_TESTED_LAYER);
        tested->low = -1.0;
        tested->high = 1.5;
    }
    const nsk_lowered_tensor *tested = nsk_lowered_tensor_at(&net, 2);
    const grid_shape mean = {NSK_KIND_AVERAGE_POOL, tested->height, tested->channels,
                             tested->channels,      tested->height, 1};
    const grid_shape dense = {NSK_KIND_DENSE, 1, tested->channels, 2, 1, 1};
    const grid_shape scores = {NSK_KIND_SCORES, 1, 2, 2, 1, 1};
    grid_add_layer(&net, &mean, "mean", &r);
    grid_add_layer(&net, &dense, "dense", &r);
    nsk_lowered_tensor_at(&net, (int)net.tensors->len - 1)->element = NSK_ELEMENT_16;
    grid_add_layer(&net, &scores, "scores", &r);
    return grid_finish(&net, way == GRID_STREAMED ? GRID_TESTED_LAYER + 1 : 0, way == GRID_OVER,
                       error);
}
