#include "small.h"

#include "check.h"

#include "arch.h"
#include "arithmetic.h"
#include "format.h"

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
    const uint32_t in_four = tap % 4U;
    const uint32_t place = tap - in_four + (in_four == 0 || in_four == 3U ? in_four : 3U - in_four);
    const int8_t *at = pair + 2U * place;
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

/* No sum here leaves 32 bits: it ends where it is too large. */
static bool weights_fit(const nsk_layer *l, uint32_t channel, const nsk_weights_form *form) {
    int32_t requantise = nsk_word(l->requantise, channel);
    int32_t bias = nsk_requantise_bias(requantise);
    int32_t most = nsk_weights_are_paired(l) ? NSK_PAIRED_MOST : NSK_SUM_MOST;
    int32_t room = most - (bias < 0 ? -bias : bias);
    int32_t sum = 0;
    for (uint32_t i = 0; i < form->taps + form->fill; i++) {
        int32_t w = weight_at(l, channel, i, form);
        sum += w < 0 ? -w : w;
        /* none is the least: two products of it are one too large for 16 bits */
        if (w < -127 || w > 127 || sum > room || (i >= form->taps && w != 0)) {
            return false;
        }
    }
    return nsk_requantise_factor(requantise) > 0 && nsk_requantise_shift(requantise) > 0 &&
           sum <= room / form->reach;
}

bool nsk_check_weights(const nsk_model *m, const nsk_layer *l, const nsk_weights_form *form) {
    uint32_t channels = l->out.channels;
    uint64_t bytes = (uint64_t)channels * (form->taps + form->fill);
    if (bytes > m->size || !nsk_lies_inside(m, l->weights, (uint32_t)bytes, 4) ||
        !nsk_lies_inside(m, l->requantise, 4 * channels, 4)) {
        return false;
    }
    for (uint32_t c = 0; c < channels; c++) {
        if (!weights_fit(l, c, form)) {
            return false;
        }
    }
    return true;
}
