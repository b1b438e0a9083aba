/* Sixteen outputs by eight pixels, four products of bytes a lane (AVX-512 VNNI). The instruction
 * wants one side unsigned: weights are taken as w + 128, and 128 times the sum of a pixel's inputs
 * is taken off again. */
#include "ways.h"

#include "../arch.h"

#if defined(NSK_ARCH_X86_64)

#include <immintrin.h>
#include <string.h>

#include "../format.h"

#define VNNI __attribute__((target("avx512f,avx512bw,avx512vl,avx512dq,avx512vnni")))

enum { LANES = 16, PIXELS = 8, TILE = 256, WORDS = NSK_WAYS_ROW / 4 };

bool nsk_has_vnni(void) {
    return __builtin_cpu_supports("avx512f") && __builtin_cpu_supports("avx512bw") &&
           __builtin_cpu_supports("avx512vl") && __builtin_cpu_supports("avx512dq") &&
           __builtin_cpu_supports("avx512vnni");
}

/* Sixteen outputs, or fewer at the end. */
typedef struct sixteen {
    __m512i weights[WORDS]; /* of four inputs each, plus 128 */
    __m512i bias, factor, shift, half, zero, low, high;
    __mmask16 there;
} sixteen;

/* Lanes past the last output repeat it. */
VNNI static void set_outputs(const nsk_matmul *p, int32_t first, sixteen *s) {
    const int32_t left = p->outputs - first < LANES ? p->outputs - first : (int32_t)LANES;
    const __m512i one = _mm512_set1_epi32(1);
    const __m512i lanes =
        _mm512_min_epi32(_mm512_setr_epi32(0, 1, 2, 3, 4, 5, 6, 7, 8, 9, 10, 11, 12, 13, 14, 15),
                         _mm512_set1_epi32(left - 1));
    const __m512i rows = _mm512_mullo_epi32(_mm512_add_epi32(lanes, _mm512_set1_epi32(first)),
                                            _mm512_set1_epi32(p->row));
    for (int32_t i = 0; i < p->row / 4; i++) {
        const __m512i words = _mm512_i32gather_epi32(rows, p->weights + 4 * (int64_t)i, 1);
        s->weights[i] = _mm512_xor_si512(words, _mm512_set1_epi8(-128));
    }
    s->there = (__mmask16)((1U << left) - 1U);
    const __m512i requantise = _mm512_maskz_loadu_epi32(s->there, p->requantise + 4 * first);
    s->bias = _mm512_srai_epi32(requantise, 9);
    s->factor = _mm512_and_si512(requantise, _mm512_set1_epi32(15));
    s->shift = _mm512_and_si512(_mm512_srli_epi32(requantise, 4), _mm512_set1_epi32(31));
    s->half = _mm512_sllv_epi32(one, _mm512_sub_epi32(s->shift, one));
    s->zero = _mm512_set1_epi32(p->zero);
    s->low = _mm512_set1_epi32(p->low);
    s->high = _mm512_set1_epi32(p->high);
}

/* 128 times the sum of a pixel's inputs. */
VNNI static int32_t excess(const int8_t *in, int32_t row) {
    const __m256i ones = _mm256_set1_epi8(1);
    __m256i sums = _mm256_setzero_si256();
    for (int32_t i = 0; i < row; i += 32) {
        const int32_t left = row - i < 32 ? row - i : 32;
        const __mmask32 there = (__mmask32)((UINT64_C(1) << left) - 1U);
        sums = _mm256_dpbusd_epi32(sums, ones, _mm256_maskz_loadu_epi8(there, in + i));
    }
    __m128i half = _mm_add_epi32(_mm256_castsi256_si128(sums), _mm256_extracti128_si256(sums, 1));
    half = _mm_add_epi32(half, _mm_shuffle_epi32(half, 0x4e));
    half = _mm_add_epi32(half, _mm_shuffle_epi32(half, 0xb1));
    return 128 * _mm_cvtsi128_si32(half);
}

/* nsk_requantise */
VNNI static inline void put(const sixteen *s, __m512i sum, int8_t *out) {
    __m512i value = _mm512_add_epi32(_mm512_mullo_epi32(sum, s->factor), s->half);
    value = _mm512_add_epi32(_mm512_srav_epi32(value, s->shift), s->zero);
    value = _mm512_min_epi32(_mm512_max_epi32(value, s->low), s->high);
    _mm512_mask_cvtepi32_storeu_epi8(out, s->there, value);
}

/* Up to eight pixels; the first stands in for those that are not there. `off`: their excesses. */
VNNI static void write_pixels(const nsk_matmul *p, const sixteen *s, const int8_t *in,
                              int32_t pixels, const int32_t *off, int8_t *out) {
    const int32_t words = p->row / 4;
    const int8_t *at[PIXELS];
    __m512i sum[PIXELS];
    for (int32_t k = 0; k < PIXELS; k++) {
        const int32_t pixel = k < pixels ? k : 0;
        at[k] = in + pixel * p->in_step;
        sum[k] = _mm512_sub_epi32(s->bias, _mm512_set1_epi32(off[pixel]));
    }
    for (int32_t i = 0; i < words; i++) {
        const __m512i weights = s->weights[i];
#pragma GCC unroll 8
        for (int32_t k = 0; k < PIXELS; k++) {
            int32_t four;
            memcpy(&four, at[k] + 4 * (int64_t)i, sizeof four);
            sum[k] = _mm512_dpbusd_epi32(sum[k], weights, _mm512_set1_epi32(four));
        }
    }
    for (int32_t k = 0; k < pixels; k++) {
        put(s, sum[k], out + k * p->out_step);
    }
}

void nsk_multiply_out_vnni(const nsk_matmul *p, const int8_t *in, int32_t pixels, int8_t *out) {
    sixteen s;
    int32_t off[TILE];
    for (; pixels > 0; pixels -= TILE, in += TILE * p->in_step, out += TILE * p->out_step) {
        const int32_t some = pixels < TILE ? pixels : (int32_t)TILE;
        for (int32_t i = 0; i < some; i++) {
            off[i] = excess(in + i * p->in_step, p->row);
        }
        for (int32_t c = 0; c < p->outputs; c += LANES) {
            set_outputs(p, c, &s);
            for (int32_t i = 0; i < some; i += PIXELS) {
                const int32_t few = some - i < PIXELS ? some - i : (int32_t)PIXELS;
                write_pixels(p, &s, in + i * p->in_step, few, off + i, out + i * p->out_step + c);
            }
        }
    }
}

#endif
