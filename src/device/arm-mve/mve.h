/* mve: what the vector kernels of Cortex-M with the vector extension share. */
#ifndef NSK_DEVICE_ARM_MVE_MVE_H
#define NSK_DEVICE_ARM_MVE_MVE_H

#include <arm_mve.h>

#include <stdint.h>

/* Of four outputs: factors, and shifts below zero. */
typedef struct nsk_four {
    int32x4_t factor, shift;
} nsk_four;

static inline nsk_four nsk_four_of(int32x4_t requantise) {
    nsk_four f;
    f.factor = vandq_s32(requantise, vdupq_n_s32(15));
    f.shift = vnegq_s32(vandq_s32(vshrq_n_s32(requantise, 4), vdupq_n_s32(31)));
    return f;
}

/* nsk_scale_down */
static inline int32x4_t nsk_scale_down_four(int32x4_t sum, nsk_four f) {
    return vrshlq_s32(vmulq_s32(sum, f.factor), f.shift);
}

/* nsk_requantise, where the clamp is an int8's. In the low byte of each lane. */
static inline int32x4_t nsk_requantise_four(int32x4_t sum, nsk_four f, int32_t zero) {
    int32x4_t value = vaddq_n_s32(nsk_scale_down_four(sum, f), zero);
    return vshrq_n_s32(vqshlq_n_s32(value, 24), 24);
}

/* Four numbers, clamped to what an int8 holds, as bytes. */
static inline void nsk_put_four(int8_t *out, int32x4_t value) {
    vstrbq_s32(out, vshrq_n_s32(vqshlq_n_s32(value, 24), 24));
}

#endif
