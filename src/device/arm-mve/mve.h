/* mve: what the vector kernels of Cortex-M with the vector extension share. */
#ifndef NSK_MVE_H
#define NSK_MVE_H

#include <arm_mve.h>

/* nsk_rescale of four sums for shifts of 33 at least, `shift` being what is left behind the high
 * word, below zero; then the zero point, and the clamp of an int8. In the low byte of each lane. */
static inline int32x4_t nsk_finish_four(int32x4_t acc, int32x4_t multiplier, int32x4_t shift,
                                        int32_t zero) {
    int32x4_t value = vaddq_n_s32(vrshlq_s32(vmulhq_s32(acc, multiplier), shift), zero);
    return vshrq_n_s32(vqshlq_n_s32(value, 24), 24);
}

#endif
