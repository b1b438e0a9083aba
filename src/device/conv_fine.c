/* Convolution, grouped or not, of tensors that may be fine; also what a dense layer is. Weights and
 * what requantises stand as for a convolution. A window is gathered as int16, then met by every
 * output's weights. */
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

/* Two outputs by one window, which share its loads. */
typedef struct both_sums {
    int64_t first, second;
} both_sums;

static NSK_NOINLINE void meet(const int16_t *x, const int8_t *v, const int8_t *w, int32_t taps,
                              both_sums *sums) {
    sums->first = sums->second = 0;
    while (taps > 0) {
        const int8_t *end = v + (taps < NSK_FINE_RUN ? taps : NSK_FINE_RUN);
        int32_t first = 0;
        int32_t second = 0;
        taps -= NSK_FINE_RUN;
        while (v < end) {
            const int32_t q = *x++;
            first += q * *v++;
            second += q * *w++;
        }
        sums->first += first;
        sums->second += second;
    }
}

/* Some channels of one pixel; `pixel` below 0 is outside of the picture. */
static int16_t *take(const nsk_layer *l, const int8_t *in, int32_t pixel, int32_t first,
                     int32_t count, int16_t *to) {
    const int32_t start = pixel * l->in.channels + first;
    for (int32_t i = start; i < start + count; i++) {
        *to++ =
            (int16_t)(pixel < 0 ? nsk_zero_parts(&l->in) : nsk_parts_at(&l->in, in, (uint32_t)i));
    }
    return to;
}

static void gather(const nsk_layer *l, const int8_t *in, int32_t y, int32_t x, int32_t group,
                   int16_t *to) {
    const int32_t channels = l->in.channels / (int32_t)l->count;
    int32_t row = y * l->stride_down - l->pad_top;
    for (int32_t ky = 0; ky < l->kernel_height; ky++, row += l->dilate_down) {
        int32_t column = x * l->stride_across - l->pad_left;
        for (int32_t kx = 0; kx < l->kernel_width; kx++, column += l->dilate_across) {
            bool inside = row >= 0 && row < l->in.height && column >= 0 && column < l->in.width;
            to = take(l, in, inside ? row * l->in.width + column : -1, group * channels, channels,
                      to);
        }
    }
}

/* A group's outputs of one pixel; the last of an odd number is done twice. */
static void put_group(const nsk_layer *l, const int16_t *window, uint32_t first, uint32_t count,
                      int8_t *out, uint32_t place) {
    const int32_t taps = nsk_conv_taps(l);
    const int32_t row = nsk_row_bytes(taps);
    const int8_t *weights = (const int8_t *)l->weights + (int32_t)first * row;
    for (uint32_t c = 0; c < count; c += 2, weights += 2 * row) {
        const uint32_t other = c + 1U < count ? 1U : 0U;
        both_sums sums;
        meet(window, weights, weights + (int32_t)other * row, taps, &sums);
        nsk_put_products(l, out, place + c, sums.first, first + c);
        nsk_put_products(l, out, place + c + other, sums.second, first + c + other);
    }
}

static void run(const nsk_layer *l, int8_t *workspace) {
    const uint32_t outputs = l->out.channels / l->count;
    int16_t *window = (int16_t *)(void *)(workspace + l->scratch);
    const int8_t *in = workspace + l->in.offset;
    int8_t *out = workspace + l->out.offset;
    uint32_t place = 0;
    for (int32_t y = 0; y < l->out.height; y++) {
        for (int32_t x = 0; x < l->out.width; x++) {
            for (uint32_t group = 0; group < l->count; group++, place += outputs) {
                gather(l, in, y, x, (int32_t)group, window);
                put_group(l, window, group * outputs, outputs, out, place);
            }
        }
    }
}

const nsk_operation nsk_operation_conv_fine = {check, run};
