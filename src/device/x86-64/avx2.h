/* avx2: vectors of 256 bits: eight 32-bit sums at a time. Only functions marked NSK_AVX2 may use
 * them, and only where nsk_has_avx2 says so. */
#ifndef NSK_AVX2_H
#define NSK_AVX2_H

#include <immintrin.h>
#include <stdbool.h>
#include <string.h>

#include "../arithmetic.h"
#include "../format.h"

#define NSK_AVX2 __attribute__((target("avx2")))

static inline bool nsk_has_avx2(void) {
    return __builtin_cpu_supports("avx2");
}

/* What turns the sums of eight neighbouring outputs into bytes: nsk_rescale, zero point, clamp. */
typedef struct nsk_eight {
    __m256i multipliers, odd_multipliers; /* the second: those of the odd lanes, in the even ones */
    __m256i half, shifts;                 /* of the high word */
    __m256i zero, low, high;
    bool exact; /* the high word suffices: all shifts are 33 at least */
} nsk_eight;

/* `first`: index of the first output; lanes past the last hold what they may. */
NSK_AVX2 static inline nsk_eight nsk_eight_of(const uint8_t *multipliers, const uint8_t *shifts,
                                              int32_t first, int32_t outputs) {
    int32_t m[8];
    int32_t s[8];
    nsk_eight e;
    memset(&e, 0, sizeof e);
    e.exact = true;
    for (int32_t i = 0; i < 8; i++) {
        uint32_t k = (uint32_t)(first + i < outputs ? first + i : outputs - 1);
        m[i] = nsk_word(multipliers, k);
        s[i] = shifts[k];
        e.exact = e.exact && s[i] >= 33;
        s[i] = s[i] >= 33 ? s[i] : 33;
    }
    e.multipliers = _mm256_loadu_si256((const __m256i *)m);
    e.odd_multipliers = _mm256_srli_epi64(e.multipliers, 32);
    e.shifts = _mm256_loadu_si256((const __m256i *)s);
    e.half =
        _mm256_sllv_epi32(_mm256_set1_epi32(1), _mm256_sub_epi32(e.shifts, _mm256_set1_epi32(33)));
    e.shifts = _mm256_sub_epi32(e.shifts, _mm256_set1_epi32(32));
    return e;
}

NSK_AVX2 static inline void nsk_eight_clamp(nsk_eight *e, int32_t zero, int32_t low, int32_t high) {
    e->zero = _mm256_set1_epi32(zero);
    e->low = _mm256_set1_epi32(low);
    e->high = _mm256_set1_epi32(high);
}

/* Where e->exact: eight bytes, in the low half. */
NSK_AVX2 static inline __m128i nsk_eight_bytes(const nsk_eight *e, __m256i acc) {
    __m256i even = _mm256_srli_epi64(_mm256_mul_epi32(acc, e->multipliers), 32);
    __m256i odd = _mm256_mul_epi32(_mm256_srli_epi64(acc, 32), e->odd_multipliers);
    __m256i value = _mm256_add_epi32(_mm256_blend_epi32(even, odd, 0xaa), e->half);
    value = _mm256_add_epi32(_mm256_srav_epi32(value, e->shifts), e->zero);
    value = _mm256_min_epi32(_mm256_max_epi32(value, e->low), e->high);
    __m128i halves =
        _mm_packs_epi32(_mm256_castsi256_si128(value), _mm256_extracti128_si256(value, 1));
    return _mm_packs_epi16(halves, halves);
}

#endif
