#include "small.h"

#include "check.h"

#include "arch.h"
#include "format.h"
#include "weights.h"

bool nsk_lies_inside(const nsk_model *m, const uint8_t *at, uint32_t bytes, uint32_t alignment) {
    size_t offset = (size_t)(at - m->bytes);
    return offset >= NSK_HEADER_BYTES && offset % alignment == 0 && offset <= m->size &&
           bytes <= m->size - offset;
}

bool nsk_multiplier_is_good(const nsk_layer *l, uint32_t k) {
    return nsk_word(l->multipliers, k) >= NSK_MULTIPLIER_LEAST && l->shifts[k] >= NSK_SHIFT_LEAST &&
           l->shifts[k] <= NSK_SHIFT_MOST;
}

bool nsk_check_multipliers(const nsk_model *m, const nsk_layer *l, uint32_t multipliers,
                           uint32_t shifts) {
    return nsk_lies_inside(m, l->multipliers, 4 * multipliers, 4) &&
           nsk_lies_inside(m, l->shifts, shifts, 1);
}

static bool axis_is_good(int32_t in, int32_t out, int32_t kernel, int32_t stride, int32_t dilate,
                         int32_t pad) {
    return kernel >= 1 && stride >= 1 && dilate >= 1 && pad <= (kernel - 1) * dilate &&
           (out - 1) * stride - pad < in;
}

bool nsk_window_is_good(const nsk_layer *l) {
    return axis_is_good(l->in.height, l->out.height, l->kernel_height, l->stride_down,
                        l->dilate_down, l->pad_top) &&
           axis_is_good(l->in.width, l->out.width, l->kernel_width, l->stride_across,
                        l->dilate_across, l->pad_left);
}

bool nsk_scratch_is_good(const nsk_model *m, const nsk_layer *l, uint64_t bytes) {
    return l->scratch % 4 == 0 && l->scratch + bytes <= m->workspace_bytes;
}

int32_t nsk_paired_weight(const int8_t *pair, uint32_t tap, bool second) {
    const int8_t *at = pair + nsk_paired_place(tap);
    return second ? at[1] + (at[0] < 0 ? 1 : 0) : at[0];
}

#if defined(NSK_READS_BLOCKS)
uint32_t nsk_blocked_place(uint32_t outputs, uint32_t row, uint32_t c, uint32_t tap) {
    const uint32_t first = c / NSK_BLOCK * NSK_BLOCK;
    const uint32_t left = outputs - first;
    return first * row + tap * (left < NSK_BLOCK ? left : (uint32_t)NSK_BLOCK) + c - first;
}
#endif

static int32_t weight_at(const nsk_layer *l, uint32_t channel, uint32_t tap,
                         const nsk_weights_form *form) {
    const int8_t *weights = (const int8_t *)l->weights;
#if defined(NSK_READS_BLOCKS)
    if (nsk_weights_are_blocked(l)) {
        const uint32_t outputs = l->out.channels / l->count;
        const uint32_t c = channel % outputs;
        return weights[(channel - c) * form->start +
                       nsk_blocked_place(outputs, form->start, c, tap)];
    }
#endif
    return nsk_weights_are_paired(l)
               ? nsk_paired_weight(weights + (channel & ~1U) * form->start, tap, channel % 2U == 1U)
               : weights[channel * form->start + tap * form->step];
}

bool nsk_check_weights(const nsk_model *m, const nsk_layer *l, const nsk_weights_form *form) {
    uint32_t channels = l->out.channels;
    uint64_t bytes = (uint64_t)channels * (form->taps + form->fill);
    return bytes <= m->size && nsk_lies_inside(m, l->weights, (uint32_t)bytes, 4) &&
           nsk_lies_inside(m, l->requantise, 4 * channels, 4) &&
           nsk_weights_fit(l, form, weight_at);
}
