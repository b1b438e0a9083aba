/* A vector lane an output: eight outputs side by side. A block of outputs' weights is turned into
 * that order, as pairs of 16 bits, and meets a tile of pixels, widened the same way. */
#include "../product.h"

#include "../arch.h"

#if defined(NSK_ARCH_X86_64)

#include "avx2.h"
#include "ways.h"

enum {
    LANES = 8,
    PIXELS = 4,
    MOST_WORDS = NSK_WAYS_ROW / 4, /* of a row; longer ones go the portable way */
    TILE_WORDS = 4096              /* of all pixels of a tile */
};

/* Of eight outputs' weights for four inputs: the first and third, the second and fourth. */
typedef struct turned {
    __m256i even, odd;
} turned;

/* Four inputs in that order. */
typedef struct widened {
    int32_t even, odd;
} widened;

typedef struct tile {
    widened inputs[TILE_WORDS]; /* pixel by pixel */
    int32_t pixels, words;      /* words a pixel */
} tile;

/* Lanes past the last output repeat it. */
NSK_AVX2 static void turn(const nsk_matmul *p, int32_t first, turned *to) {
    int32_t offset[LANES];
    for (int32_t i = 0; i < LANES; i++) {
        int32_t output = first + i < p->outputs ? first + i : p->outputs - 1;
        offset[i] = output * p->row;
    }
    __m256i rows = _mm256_loadu_si256((const __m256i *)offset);
    for (int32_t i = 0; i < p->row / 4; i++) {
        const int *at = (const int *)(const void *)(p->weights + 4 * (int64_t)i);
        __m256i w = _mm256_i32gather_epi32(at, rows, 1);
        to[i].even = _mm256_srai_epi16(_mm256_slli_epi16(w, 8), 8);
        to[i].odd = _mm256_srai_epi16(w, 8);
    }
}

/* Eight words a round, then one. */
NSK_AVX2 static void widen(const int8_t *in, int32_t words, widened *to) {
    int32_t i = 0;
    for (; i + 8 <= words; i += 8) {
        __m256i x = _mm256_loadu_si256((const __m256i *)(in + 4 * (int64_t)i));
        __m256i even = _mm256_srai_epi16(_mm256_slli_epi16(x, 8), 8);
        __m256i odd = _mm256_srai_epi16(x, 8);
        __m256i low = _mm256_unpacklo_epi32(even, odd); /* words 0, 1, 4, 5 */
        __m256i high = _mm256_unpackhi_epi32(even, odd);
        __m256i *at = (__m256i *)(to + i);
        _mm256_storeu_si256(at, _mm256_permute2x128_si256(low, high, 0x20));
        _mm256_storeu_si256(at + 1, _mm256_permute2x128_si256(low, high, 0x31));
    }
    for (; i < words; i++) {
        int32_t word;
        memcpy(&word, in + 4 * (int64_t)i, sizeof word);
        __m128i x = _mm_cvtsi32_si128(word);
        to[i].even = _mm_cvtsi128_si32(_mm_srai_epi16(_mm_slli_epi16(x, 8), 8));
        to[i].odd = _mm_cvtsi128_si32(_mm_srai_epi16(x, 8));
    }
}

NSK_AVX2 static inline __m256i meet(__m256i acc, const turned *w, const widened *x) {
    acc = _mm256_add_epi32(acc, _mm256_madd_epi16(_mm256_set1_epi32(x->even), w->even));
    return _mm256_add_epi32(acc, _mm256_madd_epi16(_mm256_set1_epi32(x->odd), w->odd));
}

NSK_AVX2 static inline void accumulate_four(const turned *w, const widened *x, int32_t words,
                                            __m256i *acc) {
    __m256i a0 = acc[0];
    __m256i a1 = acc[1];
    __m256i a2 = acc[2];
    __m256i a3 = acc[3];
    for (int32_t i = 0; i < words; i++, x++, w++) {
        a0 = meet(a0, w, x);
        a1 = meet(a1, w, x + words);
        a2 = meet(a2, w, x + 2 * (int64_t)words);
        a3 = meet(a3, w, x + 3 * (int64_t)words);
    }
    acc[0] = a0;
    acc[1] = a1;
    acc[2] = a2;
    acc[3] = a3;
}

/* Eight sums, or fewer at the end, of one pixel. */
NSK_AVX2 static inline void write_outputs(const nsk_matmul *p, const nsk_eight *e, __m256i acc,
                                          int32_t first, int8_t *out) {
    int32_t count = p->outputs - first;
    __m128i bytes = nsk_eight_bytes(e, acc);
    if (count >= LANES) {
        _mm_storel_epi64((__m128i *)(out + first), bytes);
        return;
    }
    int8_t some[LANES];
    _mm_storel_epi64((__m128i *)some, bytes);
    memcpy(out + first, some, (size_t)count);
}

/* Eight outputs, or fewer at the end, of all pixels of a tile. */
NSK_AVX2 static void tile_outputs(const nsk_matmul *p, const tile *t, int32_t first,
                                  const turned *weights, int8_t *out) {
    nsk_eight e = nsk_eight_of(p->requantise + 4 * first, p->outputs - first);
    nsk_eight_clamp(&e, p->zero, p->low, p->high);
    for (int32_t i = 0; i < t->pixels; i += PIXELS) {
        int32_t left = t->pixels - i < PIXELS ? t->pixels - i : PIXELS;
        __m256i acc[PIXELS] = {e.bias, e.bias, e.bias, e.bias};
        if (left == PIXELS) {
            accumulate_four(weights, t->inputs + i * t->words, t->words, acc);
        } else {
            for (int32_t k = 0; k < left * t->words; k++) {
                __m256i *sum = &acc[k / t->words];
                *sum = meet(*sum, &weights[k % t->words], &t->inputs[i * t->words + k]);
            }
        }
        for (int32_t k = 0; k < left; k++) {
            write_outputs(p, &e, acc[k], first, out + (i + k) * p->out_step);
        }
    }
}

bool nsk_has_avx2(void) {
    return __builtin_cpu_supports("avx2");
}

NSK_AVX2 void nsk_multiply_out_avx2(const nsk_matmul *p, const int8_t *in, int32_t pixels,
                                    int8_t *out) {
    turned weights[MOST_WORDS];
    tile t = {.words = p->row / 4};
    int32_t most = TILE_WORDS / t.words;
    for (; pixels > 0; pixels -= t.pixels) {
        t.pixels = pixels < most ? pixels : most;
        for (int32_t i = 0; i < t.pixels; i++, in += p->in_step) {
            widen(in, t.words, t.inputs + i * t.words);
        }
        for (int32_t first = 0; first < p->outputs; first += LANES) {
            turn(p, first, weights);
            tile_outputs(p, &t, first, weights, out);
        }
        out += t.pixels * p->out_step;
    }
}

void nsk_multiply_out(const nsk_matmul *p, const int8_t *in, int32_t pixels, int8_t *out) {
    const bool fits = p->row <= NSK_WAYS_ROW && !p->wide;
    if (fits && nsk_has_vnni()) {
        nsk_multiply_out_vnni(p, in, pixels, out);
    } else if (fits && nsk_has_avx2()) {
        nsk_multiply_out_avx2(p, in, pixels, out);
    } else {
        nsk_multiply_out_plain(p, in, pixels, out);
    }
}

#endif
