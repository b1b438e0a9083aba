/* Convolution, grouped or not, of tensors that may be fine; also what a dense layer is. Weights and
 * what requantises stand as for a convolution. A window is gathered as int16, then met by every
 * output's weights. */
#include "arch.h"
#include "check.h"
#include "fine.h"
#include "format.h"

static bool check(const nsk_model *m, const nsk_layer *l) {
    if (!nsk_elements_are_fine(l) || l->count < 1 || l->in.channels % l->count != 0 ||
        l->out.channels % l->count != 0 || !nsk_window_is_good(l) ||
        nsk_kernel_area(l) * l->in.channels > NSK_MOST_TAPS ||
        !nsk_scratch_is_good(m, l, nsk_layer_scratch(l))) {
        return false;
    }
    uint32_t taps = (uint32_t)nsk_conv_taps(l);
    uint32_t row = (uint32_t)nsk_row_bytes((int32_t)taps);
    nsk_weights_form form = {row, 1, taps, row - taps, 128};
    return nsk_check_weights(m, l, &form);
}

#if !defined(NSK_ARCH_ARM_DSP)

NSK_NOINLINE void nsk_meet_both(const int16_t *x, const int8_t *v, const int8_t *w, int32_t taps,
                                nsk_both_sums *sums) {
    sums->first = sums->second = 0;
    for (; taps > 0; taps -= NSK_FINE_RUN) {
        const int8_t *end = v + nsk_limit(taps, 0, NSK_FINE_RUN);
        int32_t first = 0;
        int32_t second = 0;
        for (; v < end; x += 4, v += 4, w += 4) {
            first += x[0] * v[0] + x[1] * v[1] + x[2] * v[2] + x[3] * v[3];
            second += x[0] * w[0] + x[1] * w[1] + x[2] * w[2] + x[3] * w[3];
        }
        sums->first += first;
        sums->second += second;
    }
}

#endif

static int16_t *fill(int16_t *to, int32_t count, int32_t parts) {
    for (const int16_t *end = to + count; to < end;) {
        *to++ = (int16_t)parts;
    }
    return to;
}

/* Elements that stand side by side. */
static int16_t *take(const nsk_tensor *in, const int8_t *at, int32_t first, int32_t count,
                     int16_t *to) {
    const int16_t *end = to + count;
    if (in->element == 2) {
        const int16_t *from = (const int16_t *)(const void *)at + first;
        while (to < end) {
            *to++ = *from++;
        }
    } else {
        const int8_t *from = at + first;
        while (to < end) {
            *to++ = (int16_t)(*from++ * NSK_PARTS);
        }
    }
    return to;
}

/* A kernel's row of pixels, so many numbers each from `at` on; `row` may be outside. Where nothing
 * stands between them, what lies in the picture is taken at once. */
static int16_t *gather_row(const nsk_layer *l, const int8_t *in, int32_t row, int32_t column,
                           int32_t at, int32_t count, int16_t *to) {
    const int32_t width = l->kernel_width;
    const int32_t zero = nsk_zero_parts(&l->in);
    if (row < 0 || row >= l->in.height) {
        return fill(to, width * count, zero);
    }
    const int32_t start = row * l->in.width;
    if (l->dilate_across == 1 && l->count == 1) {
        const int32_t before = nsk_limit(-column, 0, width);
        const int32_t behind = nsk_limit(column + width - l->in.width, 0, width - before);
        to = fill(to, before * count, zero);
        to = take(&l->in, in, (start + column + before) * count, (width - before - behind) * count,
                  to);
        return fill(to, behind * count, zero);
    }
    for (int32_t kx = 0; kx < width; kx++, column += l->dilate_across) {
        to = column >= 0 && column < l->in.width
                 ? take(&l->in, in, (start + column) * l->in.channels + at, count, to)
                 : fill(to, count, zero);
    }
    return to;
}

static const int16_t *gather(const nsk_layer *l, const int8_t *in, int32_t y, int32_t x,
                             int32_t group, int16_t *window) {
    const int32_t channels = l->in.channels / (int32_t)l->count;
    const int32_t column = x * l->stride_across - l->pad_left;
    int32_t row = nsk_window_top(l, y);
    int16_t *to = window;
    for (int32_t ky = 0; ky < l->kernel_height; ky++, row += l->dilate_down) {
        to = gather_row(l, in, row, column, group * channels, channels, to);
    }
    return window;
}

/* A group's outputs of one pixel; the last of an odd number is done twice. */
static void put_group(const nsk_layer *l, const int16_t *window, uint32_t first, uint32_t count,
                      const nsk_fine_out *out, uint32_t place) {
    const int32_t row = nsk_row_bytes(nsk_conv_taps(l));
    const int8_t *weights = (const int8_t *)l->weights + (int32_t)first * row;
    const uint8_t *requantise = l->requantise + 4U * first;
    for (uint32_t c = 0; c < count; c += 2, weights += 2 * row) {
        const uint32_t other = c + 1U < count ? 1U : 0U;
        nsk_both_sums sums;
        nsk_meet_both(window, weights, weights + (int32_t)other * row, row, &sums);
        nsk_put_products(out, place + c, sums.first, nsk_word(requantise, c));
        nsk_put_products(out, place + c + other, sums.second, nsk_word(requantise, c + other));
    }
}

/* Whether a window is what stands in the workspace as it is. */
static bool is_direct(const nsk_layer *l) {
    return l->in.element == 2 && nsk_conv_is_direct(l) && l->in.height == l->out.height &&
           l->in.width == l->out.width;
}

static void run(const nsk_layer *l, int8_t *workspace) {
    const uint32_t outputs = l->out.channels / l->count;
    const int32_t channels = l->in.channels / (int32_t)l->count;
    const int32_t taps = nsk_conv_taps(l);
    int16_t *window = (int16_t *)(void *)(workspace + l->scratch);
    const int8_t *in = workspace + l->in.offset;
    const int16_t *standing = is_direct(l) ? (const int16_t *)(const void *)in : NULL;
    const nsk_fine_out out = nsk_fine_out_of(l, workspace);
    uint32_t place = 0;
    fill(window + taps, nsk_row_bytes(taps) - taps, 0);
    for (int32_t y = 0; y < l->out.height; y++) {
        for (int32_t x = 0; x < l->out.width; x++) {
            for (uint32_t group = 0; group < l->count; group++, place += outputs) {
                const int16_t *met = standing;
                if (standing != NULL) {
                    standing += channels;
                } else {
                    met = gather(l, in, y, x, (int32_t)group, window);
                }
                put_group(l, met, group * outputs, outputs, &out, place);
            }
        }
    }
}

const nsk_operation nsk_operation_conv_fine = {check, run};
