/* neon: what AArch64's vectors of 128 bits make of the sums of four neighbouring outputs. */
#ifndef NSK_DEVICE_AARCH64_NEON_H
#define NSK_DEVICE_AARCH64_NEON_H

#include <arm_neon.h>

#include "../arithmetic.h"
#include "../format.h"

/* nsk_requantise. */
typedef struct nsk_four {
    int32x4_t bias, factors;
    int32x4_t shifts; /* to the left */
    int32x4_t zero, low, high;
} nsk_four;

/* `requantise`: of the first; lanes past the last of `outputs` hold what they may. */
static inline nsk_four nsk_four_of(const uint8_t *requantise, int32_t outputs) {
    int32_t words[4];
    nsk_four f;
    for (int32_t i = 0; i < 4; i++) {
        words[i] = nsk_word(requantise, (uint32_t)(i < outputs ? i : outputs - 1));
    }
    int32x4_t all = vld1q_s32(words);
    f.bias = vshrq_n_s32(all, 9);
    f.factors = vandq_s32(all, vdupq_n_s32(15));
    f.shifts = vnegq_s32(vandq_s32(vshrq_n_s32(all, 4), vdupq_n_s32(31)));
    f.zero = f.low = f.high = vdupq_n_s32(0);
    return f;
}

static inline void nsk_four_clamp(nsk_four *f, int32_t zero, int32_t low, int32_t high) {
    f->zero = vdupq_n_s32(zero);
    f->low = vdupq_n_s32(low);
    f->high = vdupq_n_s32(high);
}

/* Of sums that have the bias. */
static inline int16x4_t nsk_four_outputs(const nsk_four *f, int32x4_t sum) {
    int32x4_t value = vaddq_s32(vrshlq_s32(vmulq_s32(sum, f->factors), f->shifts), f->zero);
    return vqmovn_s32(vminq_s32(vmaxq_s32(value, f->low), f->high));
}

#endif
