/* What an engineer writes first: each tap asks whether it lies in the picture. The baseline. */
#include "depthwise.h"

#include "arithmetic.h"
#include "check.h"
#include "format.h"

static bool check(const nsk_model *m, const nsk_layer *l) {
    uint32_t channels = l->out.channels;
    uint32_t area = nsk_kernel_area(l);
    nsk_weights_form form = {1, channels, area, 0, 128};
    return channels % l->in.channels == 0 && nsk_check_weights(m, l, &form);
}

static int32_t sum_at(const nsk_layer *l, const int8_t *in, int32_t y, int32_t x, int32_t c) {
    int32_t acc = nsk_requantise_bias(nsk_word(l->requantise, (uint32_t)c));
    for (int32_t ky = 0; ky < l->kernel_height; ky++) {
        for (int32_t kx = 0; kx < l->kernel_width; kx++) {
            int32_t row = y * l->stride_down - l->pad_top + ky * l->dilate_down;
            int32_t column = x * l->stride_across - l->pad_left + kx * l->dilate_across;
            bool inside = row >= 0 && row < l->in.height && column >= 0 && column < l->in.width;
            int32_t value =
                inside ? in[(row * l->in.width + column) * l->in.channels + c] : l->in.zero;
            acc += value * (int8_t)l->weights[(ky * l->kernel_width + kx) * l->out.channels + c];
        }
    }
    return acc;
}

static void run(const nsk_layer *l, int8_t *workspace) {
    const int8_t *in = workspace + l->in.offset;
    int8_t *out = workspace + l->out.offset;
    for (int32_t y = 0; y < l->out.height; y++) {
        for (int32_t x = 0; x < l->out.width; x++) {
            for (int32_t c = 0; c < l->out.channels; c++) {
                int32_t requantise = nsk_word(l->requantise, (uint32_t)c);
                *out++ = nsk_requantise(sum_at(l, in, y, x, c), requantise, l->out.zero, l->low,
                                        l->high);
            }
        }
    }
}

const nsk_operation nsk_operation_depthwise = {check, run};
