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

/* Which taps of a pixel's window lie in the picture: [first, end) of rows [first_row, end_row). */
typedef struct inside {
    int32_t first_row, end_row, first, end;
} inside;

/* The first tap, so many apart, that does not lie before `bound`. */
static int32_t taps_before(int32_t start, int32_t step, int32_t taps, int32_t bound) {
    int32_t tap = 0;
    while (tap < taps && start + tap * step < bound) {
        tap++;
    }
    return tap;
}

/* The sum of weights that meet zeroes. */
static const int8_t *skip(const int8_t *weights, int32_t count, int32_t step, int32_t *sum) {
    for (; count > 0; count--, weights += step) {
        *sum += *weights;
    }
    return weights;
}

/* Of a kernel's row what lies in the picture, so many of its taps from byte `at` on: at most 255
 * products, which 32 bits hold. */
static int32_t meet_row(const nsk_layer *l, const int8_t *in, int32_t at, int32_t count,
                        const int8_t *weights) {
    const int32_t next = l->dilate_across * l->in.pixel_stride;
    const int32_t step = l->out.channels;
    int32_t sum = 0;
    if (l->in.element == 2) {
        for (; count > 0; count--, at += next, weights += step) {
            sum += *weights * *(const int16_t *)(const void *)(in + at);
        }
        return sum;
    }
    for (; count > 0; count--, at += next, weights += step) {
        sum += *weights * in[at];
    }
    return sum * NSK_PARTS;
}

/* One output of the window that begins at row `top` and column `left`; `in` holds the channel's
 * first number. */
static int64_t meet(const nsk_layer *l, const inside *taps, const int8_t *in, int32_t top,
                    int32_t left, const int8_t *weights) {
    const int32_t step = l->out.channels;
    const int32_t width = l->kernel_width;
    int32_t beside = 0;
    int64_t sum = 0;
    for (int32_t ky = 0; ky < l->kernel_height; ky++) {
        const bool there = ky >= taps->first_row && ky < taps->end_row;
        const int32_t first = there ? taps->first : width;
        const int32_t end = there ? taps->end : width;
        weights = skip(weights, first, step, &beside);
        if (first < end) {
            const int32_t row = top + ky * l->dilate_down;
            const int32_t column = left + first * l->dilate_across;
            sum += meet_row(l, in, (row * l->in.width + column) * l->in.pixel_stride, end - first,
                            weights);
            weights += (end - first) * step;
        }
        weights = skip(weights, width - end, step, &beside);
    }
    return sum + (int64_t)beside * nsk_zero_parts(&l->in);
}

/* ---- windows within the picture: four channels at once ---- */

/* So many bytes from a tap to the next, from a row's last to the next row's first. */
typedef struct steps {
    int32_t across, down;
} steps;

static int32_t number_at(const int8_t *at, bool fine) {
    return fine ? *(const int16_t *)(const void *)at : *at;
}

/* `fine` is known where it is called: there are two of it. */
static inline void meet_four_as(const nsk_layer *l, const steps *by, const int8_t *x,
                                const int8_t *weights, bool fine, int32_t sum[4]) {
    const int32_t element = fine ? 2 : 1;
    const int32_t channels = l->out.channels;
    const int32_t width = l->kernel_width;
    int32_t a = 0;
    int32_t b = 0;
    int32_t c = 0;
    int32_t d = 0;
    for (int32_t rows = l->kernel_height; rows > 0; rows--, x += by->down) {
        for (int32_t left = width; left > 0; left--, x += by->across, weights += channels) {
            a += weights[0] * number_at(x, fine);
            b += weights[1] * number_at(x + element, fine);
            c += weights[2] * number_at(x + 2 * element, fine);
            d += weights[3] * number_at(x + 3 * element, fine);
        }
    }
    const int32_t parts = fine ? 1 : NSK_PARTS;
    sum[0] = a * parts;
    sum[1] = b * parts;
    sum[2] = c * parts;
    sum[3] = d * parts;
}

static NSK_NOINLINE void meet_four(const nsk_layer *l, const steps *by, const int8_t *x,
                                   const int8_t *weights, int32_t sum[4]) {
    if (l->in.element == 2) {
        meet_four_as(l, by, x, weights, true, sum);
    } else {
        meet_four_as(l, by, x, weights, false, sum);
    }
}

/* A pixel's channels, as far as they come by fours; returns how many. */
static int32_t put_fours(const nsk_layer *l, const steps *by, const int8_t *x,
                         const nsk_fine_out *out, uint32_t place) {
    const uint8_t *requantise = l->requantise;
    const int8_t *weights = (const int8_t *)l->weights;
    const int32_t fours = l->out.channels / 4 * 4;
    for (int32_t c = 0; c < fours; c += 4, requantise += 16, place += 4U) {
        int32_t sum[4];
        meet_four(l, by, x + c * l->in.element, weights + c, sum);
        for (uint32_t k = 0; k < 4; k++) {
            nsk_put_products(out, place + k, sum[k], nsk_word(requantise, k));
        }
    }
    return fours;
}

/* ---- a pixel ---- */

/* Whether sums of a whole window are within 32 bits, and channels are met one by one. */
static bool comes_in_fours(const nsk_layer *l) {
    return l->in.channels == l->out.channels && nsk_kernel_area(l) <= NSK_FINE_RUN;
}

static bool is_whole(const nsk_layer *l, const inside *taps) {
    return taps->first_row == 0 && taps->first == 0 && taps->end_row == l->kernel_height &&
           taps->end == l->kernel_width;
}

/* All of a pixel's outputs. */
static void run_pixel(const nsk_layer *l, const int8_t *in, int32_t y, int32_t x,
                      const nsk_fine_out *out, uint32_t place) {
    const int32_t each = l->out.channels / l->in.channels;
    const int32_t top = nsk_window_top(l, y);
    const int32_t left = x * l->stride_across - l->pad_left;
    const inside taps = {taps_before(top, l->dilate_down, l->kernel_height, 0),
                         taps_before(top, l->dilate_down, l->kernel_height, l->in.height),
                         taps_before(left, l->dilate_across, l->kernel_width, 0),
                         taps_before(left, l->dilate_across, l->kernel_width, l->in.width)};
    int32_t c = 0;
    if (is_whole(l, &taps) && comes_in_fours(l)) {
        const int32_t across = l->dilate_across * l->in.pixel_stride;
        const int32_t rows_apart = l->kernel_height > 1 ? l->dilate_down : 0;
        const steps by = {across,
                          rows_apart * l->in.width * l->in.pixel_stride - across * l->kernel_width};
        c = put_fours(l, &by, in + (top * l->in.width + left) * l->in.pixel_stride, out, place);
        in += c * l->in.element;
    }
    for (; c < l->out.channels; in += l->in.element) {
        for (int32_t k = 0; k < each; k++, c++) {
            const int64_t sum = meet(l, &taps, in, top, left, (const int8_t *)l->weights + c);
            nsk_put_products(out, place + (uint32_t)c, sum, nsk_word(l->requantise, (uint32_t)c));
        }
    }
}

static void run(const nsk_layer *l, int8_t *workspace) {
    const int8_t *in = workspace + l->in.offset;
    const nsk_fine_out out = nsk_fine_out_of(l, workspace);
    uint32_t place = 0;
    for (int32_t y = 0; y < l->out.height; y++) {
        for (int32_t x = 0; x < l->out.width; x++, place += l->out.channels) {
            run_pixel(l, in, y, x, &out, place);
        }
    }
}

const nsk_operation nsk_operation_depthwise_fine = {check, run};
