/* Sixteen channels at a time, two taps at a time: a pair of products makes one sum of 32 bits. */
#include "../depthwise.h"

#include "../arch.h"
#include "../sixteen.h"

#if defined(NSK_ARCH_X86_64)

#include "avx2.h"
#include "ways.h"

/* Sixteen channels' weights of two taps; the second's are 0 where there is none. */
typedef struct pair {
    __m256i low, high; /* channels 0-3 and 8-11; 4-7 and 12-15 */
} pair;

typedef struct block {
    pair weights[(NSK_SIXTEEN_TAPS + 1) / 2];
    nsk_eight requantise[2];
    const nsk_layer *layer;
    int32_t pairs;
} block;

NSK_AVX2 static inline __m256i widened(const int8_t *at) {
    return _mm256_cvtepi8_epi16(_mm_loadu_si128((const __m128i *)at));
}

NSK_AVX2 static void start(void *state, const nsk_layer *l, int32_t first) {
    block *b = state;
    int32_t channels = l->out.channels;
    int32_t taps = l->kernel_height * l->kernel_width;
    const int8_t *w = (const int8_t *)l->weights + first;
    b->layer = l;
    b->pairs = (taps + 1) / 2;
    for (int32_t k = 0; k < b->pairs; k++) {
        bool alone = 2 * k + 1 == taps;
        __m256i x = widened(w + 2 * k * channels);
        __m256i y = alone ? _mm256_setzero_si256() : widened(w + (2 * k + 1) * channels);
        b->weights[k] = (pair){_mm256_unpacklo_epi16(x, y), _mm256_unpackhi_epi16(x, y)};
    }
    for (int32_t i = 0; i < 2; i++) {
        b->requantise[i] = nsk_eight_of(l->requantise + 4 * (first + 8 * i), 8);
        nsk_eight_clamp(&b->requantise[i], l->out.zero, l->low, l->high);
    }
}

NSK_AVX2 static inline void write_pixel(const block *b, const int8_t *const *at, int32_t step,
                                        int8_t *out) {
    __m256i low = _mm256_setzero_si256();
    __m256i high = low;
    for (int32_t k = 0; k < b->pairs; k++) {
        __m256i x = widened(at[2 * k] + step);
        __m256i y = widened(at[2 * k + 1] + step);
        low = _mm256_add_epi32(low,
                               _mm256_madd_epi16(_mm256_unpacklo_epi16(x, y), b->weights[k].low));
        high = _mm256_add_epi32(high,
                                _mm256_madd_epi16(_mm256_unpackhi_epi16(x, y), b->weights[k].high));
    }
    __m256i sums[2] = {
        _mm256_add_epi32(_mm256_permute2x128_si256(low, high, 0x20), b->requantise[0].bias),
        _mm256_add_epi32(_mm256_permute2x128_si256(low, high, 0x31), b->requantise[1].bias)};
    __m128i bytes = _mm_unpacklo_epi64(nsk_eight_bytes(&b->requantise[0], sums[0]),
                                       nsk_eight_bytes(&b->requantise[1], sums[1]));
    _mm_storeu_si128((__m128i *)out, bytes);
}

NSK_AVX2 static void write(const void *state, const int8_t *const *at, int32_t step, int32_t pixels,
                           int8_t *out) {
    const block *b = state;
    for (int32_t moved = 0; pixels > 0; pixels--, moved += step) {
        write_pixel(b, at, moved, out);
        out += b->layer->out.pixel_stride;
    }
}

void nsk_depthwise_run(const nsk_layer *l, int8_t *workspace) {
    static const nsk_sixteen_kernel kernel = {start, write};
    if (nsk_sixteen_fits(l) && nsk_has_avx2()) {
        block b;
        nsk_sixteen_run(l, workspace, &kernel, &b);
    } else {
        nsk_depthwise_run_direct(l, workspace);
    }
}

#endif
