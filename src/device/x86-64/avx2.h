/* avx2: vectors of 256 bits: eight 32-bit sums at a time. Only functions marked NSK_AVX2 may use
 * them, and only where nsk_has_avx2 (ways.h) says so. */
#ifndef NSK_DEVICE_X86_64_AVX2_H
#define NSK_DEVICE_X86_64_AVX2_H

#include <immintrin.h>
#include <stdbool.h>
#include <string.h>

#include "../arithmetic.h"
#include "../format.h"

#define NSK_AVX2 __attribute__((target("avx2")))

/* What turns the sums of eight neighbouring outputs into bytes: nsk_requantise. */
typedef struct nsk_eight {
    __m256i bias, factors, halves, shifts;
    __m256i zero, low, high;
} nsk_eight;

/* `requantise`: of the first; lanes past the last of `outputs` hold what they may. */
NSK_AVX2 static inline nsk_eight nsk_eight_of(const uint8_t *requantise, int32_t outputs) {
    int32_t words[8];
    nsk_eight e;
    for (int32_t i = 0; i < 8; i++) {
        words[i] = nsk_word(requantise, (uint32_t)(i < outputs ? i : outputs - 1));
    }
    __m256i f = _mm256_loadu_si256((const __m256i *)words);
    __m256i one = _mm256_set1_epi32(1);
    e.bias = _mm256_srai_epi32(f, 9);
    e.factors = _mm256_and_si256(f, _mm256_set1_epi32(15));
    e.shifts = _mm256_and_si256(_mm256_srli_epi32(f, 4), _mm256_set1_epi32(31));
    e.halves = _mm256_sllv_epi32(one, _mm256_sub_epi32(e.shifts, one));
    e.zero = e.low = e.high = _mm256_setzero_si256();
    return e;
}

NSK_AVX2 static inline void nsk_eight_clamp(nsk_eight *e, int32_t zero, int32_t low, int32_t high) {
    e->zero = _mm256_set1_epi32(zero);
    e->low = _mm256_set1_epi32(low);
    e->high = _mm256_set1_epi32(high);
}

/* Of sums that have the bias: eight bytes, in the low half. */
NSK_AVX2 static inline __m128i nsk_eight_bytes(const nsk_eight *e, __m256i sum) {
    __m256i value = _mm256_add_epi32(_mm256_mullo_epi32(sum, e->factors), e->halves);
    value = _mm256_add_epi32(_mm256_srav_epi32(value, e->shifts), e->zero);
    value = _mm256_min_epi32(_mm256_max_epi32(value, e->low), e->high);
    __m128i halves =
        _mm_packs_epi32(_mm256_castsi256_si128(value), _mm256_extracti128_si256(value, 1));
    return _mm_packs_epi16(halves, halves);
}

#endif
