/* Depthwise convolution of tensors that may be fine; weights and what requantises stand as for the
 * usual one. */
#include "check.h"
#include "fine.h"
#include "format.h"

static bool check(const nsk_model *m, const nsk_layer *l) {
    uint32_t channels = l->out.channels;
    nsk_weights_form form = {1, channels, nsk_kernel_area(l), 0, 128};
    return nsk_elements_are_fine(l) && channels % l->in.channels == 0 && nsk_window_is_good(l) &&
           nsk_check_weights(m, l, &form);
}

/* One row of the kernel from pixel `column` on: at most 255 products, which 32 bits hold. `inside`:
 * all of it is in the picture. */
static int32_t meet_row(const nsk_layer *l, const int8_t *in, const int8_t *weights, int32_t row,
                        int32_t column, bool inside) {
    const int32_t step = l->dilate_across * l->in.channels;
    int32_t at = (row * l->in.width + column) * l->in.channels;
    int32_t sum = 0;
    for (int32_t kx = 0; kx < l->kernel_width; kx++, column += l->dilate_across, at += step) {
        int32_t x = nsk_zero_parts(&l->in);
        if (inside || (row >= 0 && row < l->in.height && column >= 0 && column < l->in.width)) {
            x = nsk_parts_at(&l->in, in, (uint32_t)at);
        }
        sum += *weights * x;
        weights += l->out.channels;
    }
    return sum;
}

/* All of a pixel's outputs. */
static void run_pixel(const nsk_layer *l, const int8_t *in, int32_t y, int32_t x, int8_t *out,
                      uint32_t place) {
    const int32_t each = l->out.channels / l->in.channels;
    const int32_t top = y * l->stride_down - l->pad_top;
    const int32_t left = x * l->stride_across - l->pad_left;
    const bool inside = top >= 0 && left >= 0 &&
                        top + (l->kernel_height - 1) * l->dilate_down < l->in.height &&
                        left + (l->kernel_width - 1) * l->dilate_across < l->in.width;
    for (int32_t c = 0; c < l->out.channels; c++) {
        const int8_t *weights = (const int8_t *)l->weights + c;
        const int8_t *channel = in + c / each * l->in.element;
        int32_t row = top;
        int64_t sum = 0;
        for (int32_t ky = 0; ky < l->kernel_height; ky++, row += l->dilate_down) {
            sum += meet_row(l, channel, weights, row, left, inside);
            weights += l->kernel_width * l->out.channels;
        }
        nsk_put_products(l, out, place + (uint32_t)c, sum, (uint32_t)c);
    }
}

static void run(const nsk_layer *l, int8_t *workspace) {
    const int8_t *in = workspace + l->in.offset;
    int8_t *out = workspace + l->out.offset;
    uint32_t place = 0;
    for (int32_t y = 0; y < l->out.height; y++) {
        for (int32_t x = 0; x < l->out.width; x++, place += l->out.channels) {
            run_pixel(l, in, y, x, out, place);
        }
    }
}

const nsk_operation nsk_operation_depthwise_fine = {check, run};
