/* arithmetic: every formula of docs/arithmetic.md, one function each. The kernels are loops around
 * these.
 *
 * Right shifts of negative numbers must be arithmetic, which C leaves to the implementation; every
 * compiler that we know does so, and this line refuses one that does not. */
#ifndef NSK_DEVICE_ARITHMETIC_H
#define NSK_DEVICE_ARITHMETIC_H

#include <stdint.h>

#if defined(__cplusplus)
#define NSK_ASSERT static_assert
#else
#define NSK_ASSERT _Static_assert
#endif
/* cppcheck-suppress shiftNegativeLHS */
NSK_ASSERT((-3 >> 1) == -2, "right shifts of negative numbers must round toward minus infinity");

/* A multiplier stands for m / 2^s, m in [2^30, 2^31), s in [1, 62]. */
enum nsk_shift_range { NSK_SHIFT_LEAST = 1, NSK_SHIFT_BY_HIGH_WORD = 33, NSK_SHIFT_MOST = 62 };
#define NSK_MULTIPLIER_LEAST (INT32_C(1) << 30)

/* Past this a rescaled value is clamped anyway. */
#define NSK_RESCALED_MOST (INT32_C(1) << 30)

/* The high word of a product of 32 by 32 bits, b not below zero. Where multiplication has no more
 * than a low word, from four products of halves, none of which overflows. */
static inline int32_t nsk_high_word(int32_t a, int32_t b) {
#if defined(__ARM_ARCH_6M__) || defined(__ARM_ARCH_8M_BASE__)
    uint32_t a_low = (uint32_t)a & 0xffffU;
    uint32_t b_low = (uint32_t)b & 0xffffU;
    int32_t a_high = a >> 16;
    int32_t b_high = b >> 16;
    uint32_t middle = (a_low * b_low >> 16) + a_low * (uint32_t)b_high;
    int32_t other = a_high * (int32_t)b_low + (int32_t)(middle & 0xffffU);
    return a_high * b_high + (int32_t)(middle >> 16) + (other >> 16);
#else
    return (int32_t)((int64_t)a * b >> 32);
#endif
}

/* floor((acc x m + 2^(s-1)) / 2^s), saturated to +-2^30. For s >= 33, NSK_SHIFT_BY_HIGH_WORD, the
 * high word of the product and one rounding shift give exactly this: nested floors of integer steps
 * are one floor. */
static inline int32_t nsk_rescale(int32_t acc, int32_t multiplier, unsigned shift) {
    if (shift >= NSK_SHIFT_BY_HIGH_WORD) {
        int32_t high = nsk_high_word(acc, multiplier);
        return ((high >> (shift - NSK_SHIFT_BY_HIGH_WORD)) + 1) >> 1;
    }
    int64_t value = ((int64_t)acc * multiplier + (INT64_C(1) << (shift - 1))) >> shift;
    return value > NSK_RESCALED_MOST    ? NSK_RESCALED_MOST
           : value < -NSK_RESCALED_MOST ? -NSK_RESCALED_MOST
                                        : (int32_t)value;
}

static inline int32_t nsk_limit(int32_t value, int32_t low, int32_t high) {
    return value < low ? low : value > high ? high : value;
}

static inline int8_t nsk_clamp(int32_t value, int32_t low, int32_t high) {
    return (int8_t)nsk_limit(value, low, high);
}

/* The clamp of an int8, for which some cores have an instruction. */
static inline int8_t nsk_saturate(int32_t value) {
#if defined(__ARM_FEATURE_SAT) && defined(__GNUC__)
    __asm__("ssat %0, #8, %0" : "+r"(value));
    return (int8_t)value;
#else
    return nsk_clamp(value, -128, 127);
#endif
}

/* What makes an output of a sum of products stands in one word: from the lowest bit on, four bits
 * m, five bits t, both above zero, and the bias. The sum, bias included, times m / 2^t is the
 * output's level above its zero point. No |sum| is above NSK_SUM_MOST, so that nothing overflows.
 */
enum nsk_requantise_sizes {
    NSK_REQUANTISE_FACTORS = 16,
    NSK_REQUANTISE_SHIFTS = 32,
    NSK_REQUANTISE_BIAS_BITS = 23
};
#define NSK_SUM_MOST ((INT32_C(1) << 30) / 15)

static inline int32_t nsk_requantise_bias(int32_t requantise) {
    return requantise >> 9;
}

static inline int32_t nsk_requantise_factor(int32_t requantise) {
    return requantise & 15;
}

static inline int32_t nsk_requantise_shift(int32_t requantise) {
    return requantise >> 4 & 31;
}

/* floor((sum m + 2^(t-1)) / 2^t) */
static inline int32_t nsk_scale_down(int32_t sum, int32_t requantise) {
    int32_t shift = nsk_requantise_shift(requantise);
    return (sum * nsk_requantise_factor(requantise) + (INT32_C(1) << (shift - 1))) >> shift;
}

/* The output of a sum, bias included. */
static inline int8_t nsk_requantise(int32_t sum, int32_t requantise, int32_t zero, int32_t low,
                                    int32_t high) {
    return nsk_clamp(nsk_scale_down(sum, requantise) + zero, low, high);
}

/* floor((a x ka + b x kb + 2^(s-1)) / 2^s), with a and b less their zero points. */
static inline int32_t nsk_weighted_sum(int32_t a, int32_t ka, int32_t b, int32_t kb,
                                       unsigned shift) {
    return (a * ka + b * kb + (INT32_C(1) << (shift - 1))) >> shift;
}

/* Two neighbours, (2^11 - part) of a and part of b, in units of 2^-11. */
enum nsk_blend_sizes { NSK_BLEND_BITS = 11, NSK_BLEND_ONE = 1 << NSK_BLEND_BITS };
static inline int32_t nsk_blend_pair(int32_t a, int32_t b, int32_t part) {
    return a * (NSK_BLEND_ONE - part) + b * part;
}

/* Back from units of 2^-22, to the nearest, halves up. */
static inline int32_t nsk_blend_round(int32_t value) {
    return (value + (INT32_C(1) << (2 * NSK_BLEND_BITS - 1))) >> (2 * NSK_BLEND_BITS);
}

/* What makes shares of a sum in units of 2^-30: a factor from 2^15 to 2^16, and a shift from 1 to
 * 17. The share of a part, at most 65535 and not above the sum: floor(part x factor / 2^shift),
 * which 32 bits hold. */
typedef struct nsk_divider {
    uint32_t factor, shift;
} nsk_divider;

static inline nsk_divider nsk_divider_of(uint32_t sum) {
    nsk_divider d = {0, 1};
    for (; sum >> 16 != 0; sum >>= 1) {
        d.shift++;
    }
    d.factor = (UINT32_C(1) << 31) / (sum | 0x8000U); /* set in any sum of sound tables */
    return d;
}

static inline uint32_t nsk_divide(const nsk_divider *by, uint32_t part) {
    return part * by->factor >> by->shift;
}

/* Share of `part` in `sum` as a score: floor((256 part + floor(sum / 2)) / sum) - 128, at most 127,
 * which the whole has. */
static inline int8_t nsk_share(uint32_t part, uint32_t sum) {
    uint32_t share = part < sum ? (part * 256U + sum / 2U) / sum : 255U;
    return (int8_t)((int32_t)(share > 255U ? 255U : share) - 128);
}

/* The largest |q - zero| that an int8 can have. */
static inline int32_t nsk_reach(int32_t zero) {
    return zero < 0 ? 127 - zero : 128 + zero;
}

#endif
