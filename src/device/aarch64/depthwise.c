/* Sixteen channels at a time, two taps at a time: products are 16 bits wide, and so is the sum of
 * two. */
#include "../depthwise.h"

#include "../arch.h"

#if defined(NSK_ARCH_AARCH64)

#include <string.h>

#include "../sixteen.h"
#include "neon.h"

enum { QUARTERS = 4, LANES = 4 };

typedef struct block {
    int8x16_t weights[NSK_SIXTEEN_TAPS + 1];
    int32x4_t bias[QUARTERS];
    nsk_four finish[QUARTERS];
    const nsk_layer *layer;
    int32_t pairs, first;
    bool exact;
} block;

static void start(void *state, const nsk_layer *l, int32_t first) {
    block *b = (block *)state;
    int32_t taps = (int32_t)nsk_kernel_area(l);
    const int8_t *w = (const int8_t *)l->weights + first;
    b->layer = l;
    b->first = first;
    b->pairs = (taps + 1) / 2;
    b->exact = true;
    for (int32_t k = 0; k < taps; k++, w += l->out.channels) {
        b->weights[k] = vld1q_s8(w);
    }
    b->weights[taps] = vdupq_n_s8(0);
    for (int32_t i = 0; i < QUARTERS; i++) {
        int32_t from = first + LANES * i;
        int32_t bias[LANES];
        for (int32_t k = 0; k < LANES; k++) {
            bias[k] = nsk_word(l->bias, (uint32_t)(from + k));
        }
        b->bias[i] = vld1q_s32(bias);
        b->finish[i] = nsk_four_of(l->multipliers, l->shifts, from, l->out.channels);
        nsk_four_clamp(&b->finish[i], l->out.zero, l->low, l->high);
        b->exact = b->exact && b->finish[i].exact;
    }
}

static NSK_APART void write_slowly(const block *b, const int32x4_t *sums, int8_t *out) {
    int32_t acc[NSK_SIXTEEN];
    memcpy(acc, sums, sizeof acc);
    for (uint32_t i = 0; i < NSK_SIXTEEN; i++) {
        const nsk_layer *l = b->layer;
        uint32_t k = (uint32_t)b->first + i;
        int32_t value = nsk_rescale(acc[i], nsk_word(l->multipliers, k), l->shifts[k]);
        out[i] = nsk_clamp(value + l->out.zero, l->low, l->high);
    }
}

static inline void write_pixel(const block *b, const int8_t *const *at, int32_t step, int8_t *out) {
    int32x4_t sums[QUARTERS] = {b->bias[0], b->bias[1], b->bias[2], b->bias[3]};
    for (int32_t k = 0; k < b->pairs; k++) {
        int8x16_t x = vld1q_s8(at[2 * k] + step);
        int8x16_t y = vld1q_s8(at[2 * k + 1] + step);
        int8x16_t v = b->weights[2 * k];
        int8x16_t w = b->weights[2 * k + 1];
        int16x8_t low = vmull_s8(vget_low_s8(x), vget_low_s8(v));
        int16x8_t high = vmull_high_s8(x, v);
        low = vmlal_s8(low, vget_low_s8(y), vget_low_s8(w));
        high = vmlal_high_s8(high, y, w);
        sums[0] = vaddw_s16(sums[0], vget_low_s16(low));
        sums[1] = vaddw_high_s16(sums[1], low);
        sums[2] = vaddw_s16(sums[2], vget_low_s16(high));
        sums[3] = vaddw_high_s16(sums[3], high);
    }
    if (!b->exact) {
        write_slowly(b, sums, out);
        return;
    }
    int16x8_t low = vcombine_s16(nsk_four_outputs(&b->finish[0], sums[0]),
                                 nsk_four_outputs(&b->finish[1], sums[1]));
    int16x8_t high = vcombine_s16(nsk_four_outputs(&b->finish[2], sums[2]),
                                  nsk_four_outputs(&b->finish[3], sums[3]));
    vst1q_s8(out, vcombine_s8(vqmovn_s16(low), vqmovn_s16(high)));
}

static void write(const void *state, const int8_t *const *at, int32_t step, int32_t pixels,
                  int8_t *out) {
    const block *b = (const block *)state;
    for (int32_t moved = 0; pixels > 0; pixels--, moved += step) {
        write_pixel(b, at, moved, out);
        out += b->layer->out.channels;
    }
}

void nsk_depthwise_run(const nsk_layer *l, int8_t *workspace) {
    static const nsk_sixteen_kernel kernel = {start, write};
    if (nsk_sixteen_fits(l)) {
        block b;
        nsk_sixteen_run(l, workspace, &kernel, &b);
    } else {
        nsk_depthwise_run_plain(l, workspace);
    }
}

#endif
