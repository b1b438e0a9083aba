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
    nsk_four requantise[QUARTERS];
    int32_t pairs, out_step;
} block;

static void start(void *state, const nsk_layer *l, int32_t first) {
    block *b = (block *)state;
    int32_t taps = (int32_t)nsk_kernel_area(l);
    const int8_t *w = (const int8_t *)l->weights + first;
    b->out_step = l->out.pixel_stride;
    b->pairs = (taps + 1) / 2;
    for (int32_t k = 0; k < taps; k++, w += l->out.channels) {
        b->weights[k] = vld1q_s8(w);
    }
    b->weights[taps] = vdupq_n_s8(0);
    for (int32_t i = 0; i < QUARTERS; i++) {
        b->requantise[i] = nsk_four_of(l->requantise + 4 * (first + LANES * i), LANES);
        nsk_four_clamp(&b->requantise[i], l->out.zero, l->low, l->high);
    }
}

static inline void write_pixel(const block *b, const int8_t *const *at, int32_t step, int8_t *out) {
    int32x4_t sums[QUARTERS] = {b->requantise[0].bias, b->requantise[1].bias, b->requantise[2].bias,
                                b->requantise[3].bias};
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
    int16x8_t low = vcombine_s16(nsk_four_outputs(&b->requantise[0], sums[0]),
                                 nsk_four_outputs(&b->requantise[1], sums[1]));
    int16x8_t high = vcombine_s16(nsk_four_outputs(&b->requantise[2], sums[2]),
                                  nsk_four_outputs(&b->requantise[3], sums[3]));
    vst1q_s8(out, vcombine_s8(vqmovn_s16(low), vqmovn_s16(high)));
}

static void write(const void *state, const int8_t *const *at, int32_t step, int32_t pixels,
                  int8_t *out) {
    const block *b = (const block *)state;
    for (int32_t moved = 0; pixels > 0; pixels--, moved += step) {
        write_pixel(b, at, moved, out);
        out += b->out_step;
    }
}

void nsk_depthwise_run(const nsk_layer *l, int8_t *workspace) {
    static const nsk_sixteen_kernel kernel = {start, write};
    if (nsk_sixteen_fits(l)) {
        block b;
        nsk_sixteen_run(l, workspace, &kernel, &b);
    } else {
        nsk_depthwise_run_direct(l, workspace);
    }
}

#endif
