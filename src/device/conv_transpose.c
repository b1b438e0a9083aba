/* Transposed convolution, grouped or not: every output gathers the inputs whose spread reaches it.
 * Weights as [out][row][column][in of the group]. */
#include "arithmetic.h"
#include "check.h"
#include "format.h"

/* Any pad is safe: taps that no input meets are left out. */
static NSK_SELDOM bool check(const nsk_model *m, const nsk_layer *l) {
    if (l->count < 1 || l->in.channels % l->count != 0 || l->out.channels % l->count != 0 ||
        l->kernel_height < 1 || l->kernel_width < 1 || l->stride_down < 1 || l->stride_across < 1 ||
        l->dilate_down < 1 || l->dilate_across < 1 ||
        nsk_kernel_area(l) * l->in.channels > NSK_MOST_TAPS) {
        return false;
    }
    uint32_t taps = (uint32_t)nsk_conv_taps(l);
    nsk_weights_form form = {taps, 1, taps, 0, nsk_reach(l->in.zero)};
    return nsk_check_weights(m, l, &form);
}

/* The input's coordinate that tap `tap` brings to output `at`, or -1. */
static int32_t source(int32_t at, int32_t tap, int32_t stride, int32_t dilate, int32_t pad,
                      int32_t size) {
    int32_t spread = at + pad - tap * dilate;
    return spread >= 0 && spread % stride == 0 && spread / stride < size ? spread / stride : -1;
}

static NSK_NOINLINE int32_t dot(const int8_t *in, int32_t zero, const int8_t *weights,
                                int32_t count) {
    int32_t sum = 0;
    for (int32_t i = 0; i < count; i++) {
        sum += (in[i] - zero) * weights[i];
    }
    return sum;
}

/* One row of the kernel on one row of the input. */
static int32_t gather_row(const nsk_layer *l, const int8_t *row, int32_t x, const int8_t *weights,
                          int32_t inputs) {
    int32_t sum = 0;
    for (int32_t kx = 0; kx < l->kernel_width; kx++, weights += inputs) {
        int32_t ix = source(x, kx, l->stride_across, l->dilate_across, l->pad_left, l->in.width);
        if (ix >= 0) {
            sum += dot(row + ix * l->in.channels, l->in.zero, weights, inputs);
        }
    }
    return sum;
}

static int32_t accumulate(const nsk_layer *l, const int8_t *in, int32_t y, int32_t x,
                          int32_t channel) {
    int32_t inputs = l->in.channels / (int32_t)l->count;
    int32_t group = channel / (l->out.channels / (int32_t)l->count);
    const int8_t *w =
        (const int8_t *)l->weights + channel * l->kernel_height * l->kernel_width * inputs;
    int32_t acc = nsk_requantise_bias(nsk_word(l->requantise, (uint32_t)channel));
    for (int32_t ky = 0; ky < l->kernel_height; ky++, w += l->kernel_width * inputs) {
        int32_t iy = source(y, ky, l->stride_down, l->dilate_down, l->pad_top, l->in.height);
        if (iy >= 0) {
            acc += gather_row(l, in + iy * l->in.width * l->in.channels + group * inputs, x, w,
                              inputs);
        }
    }
    return acc;
}

static void run(const nsk_layer *l, int8_t *workspace) {
    const int8_t *in = workspace + l->in.offset;
    int8_t *out = workspace + l->out.offset;
    for (int32_t y = 0; y < l->out.height; y++) {
        for (int32_t x = 0; x < l->out.width; x++) {
            for (uint32_t c = 0; c < l->out.channels; c++) {
                int32_t acc = accumulate(l, in, y, x, (int32_t)c);
                out[c] =
                    nsk_requantise(acc, nsk_word(l->requantise, c), l->out.zero, l->low, l->high);
            }
            out += l->out.pixel_stride;
        }
    }
}

const nsk_operation nsk_operation_conv_transpose = {check, run};
