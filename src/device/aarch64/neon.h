/* neon: what AArch64's vectors of 128 bits make of the sums of four neighbouring outputs. */
#ifndef NSK_NEON_H
#define NSK_NEON_H

#include <arm_neon.h>
#include <stdbool.h>

#include "../arithmetic.h"
#include "../format.h"

/* nsk_rescale, zero point, clamp. */
typedef struct nsk_four {
    int32x4_t multipliers;
    int32x4_t shifts; /* of the high word, to the left */
    int32x4_t zero, low, high;
    bool exact; /* the high word suffices: all shifts are 33 at least */
} nsk_four;

/* `first`: index of the first output; lanes past the last hold what they may. */
static inline nsk_four nsk_four_of(const uint8_t *multipliers, const uint8_t *shifts, int32_t first,
                                   int32_t outputs) {
    int32_t m[4];
    int32_t s[4];
    nsk_four f;
    f.exact = true;
    for (int32_t i = 0; i < 4; i++) {
        uint32_t k = (uint32_t)(first + i < outputs ? first + i : outputs - 1);
        m[i] = nsk_word(multipliers, k);
        s[i] = 32 - shifts[k];
        f.exact = f.exact && s[i] < 0;
    }
    f.multipliers = vld1q_s32(m);
    f.shifts = vld1q_s32(s);
    f.zero = f.low = f.high = vdupq_n_s32(0);
    return f;
}

static inline void nsk_four_clamp(nsk_four *f, int32_t zero, int32_t low, int32_t high) {
    f->zero = vdupq_n_s32(zero);
    f->low = vdupq_n_s32(low);
    f->high = vdupq_n_s32(high);
}

/* Where f->exact. */
static inline int16x4_t nsk_four_outputs(const nsk_four *f, int32x4_t acc) {
    int64x2_t low = vmull_s32(vget_low_s32(acc), vget_low_s32(f->multipliers));
    int64x2_t high = vmull_high_s32(acc, f->multipliers);
    int32x4_t words = vuzp2q_s32(vreinterpretq_s32_s64(low), vreinterpretq_s32_s64(high));
    int32x4_t value = vaddq_s32(vrshlq_s32(words, f->shifts), f->zero);
    return vqmovn_s32(vminq_s32(vmaxq_s32(value, f->low), f->high));
}

#endif
