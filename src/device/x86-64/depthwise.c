/* Sixteen channels at a time, two taps at a time: a pair of products makes one sum of 32 bits. */
#include "../depthwise.h"

#include "../arch.h"

#if defined(NSK_ARCH_X86_64)

#include "avx2.h"

enum {
    CHANNELS = 16,
    PAIRS = 32 /* of taps; more go the portable way */
};

/* Sixteen channels' weights of two taps; the second's are 0 where there is none. */
typedef struct pair {
    __m256i low, high; /* channels 0-3 and 8-11; 4-7 and 12-15 */
} pair;

/* What stays the same over the pixels of sixteen channels. */
typedef struct block {
    const nsk_layer *layer;
    const int8_t *in; /* channel 0 of pixel 0 */
    pair weights[PAIRS];
    int32_t pairs, first; /* the first channel */
    __m256i bias[2];
    nsk_eight finish[2];
    int8_t zeroes[CHANNELS];
} block;

NSK_AVX2 static inline __m256i widened(const int8_t *at) {
    return _mm256_cvtepi8_epi16(_mm_loadu_si128((const __m128i *)at));
}

NSK_AVX2 static void start_block(block *b, int32_t first) {
    const nsk_layer *l = b->layer;
    int32_t channels = l->out.channels;
    int32_t taps = l->kernel_height * l->kernel_width;
    const int8_t *w = (const int8_t *)l->weights + first;
    b->first = first;
    b->pairs = (taps + 1) / 2;
    for (int32_t k = 0; k < b->pairs; k++) {
        bool alone = 2 * k + 1 == taps;
        __m256i x = widened(w + 2 * k * channels);
        __m256i y = alone ? _mm256_setzero_si256() : widened(w + (2 * k + 1) * channels);
        b->weights[k] = (pair){_mm256_unpacklo_epi16(x, y), _mm256_unpackhi_epi16(x, y)};
    }
    for (int32_t i = 0; i < 2; i++) {
        const uint8_t *bias = l->bias + 4 * (first + 8 * i);
        b->bias[i] = _mm256_loadu_si256((const __m256i *)(const void *)bias);
        b->finish[i] = nsk_eight_of(l->multipliers, l->shifts, first + 8 * i, channels);
        nsk_eight_clamp(&b->finish[i], l->out.zero, l->low, l->high);
    }
}

/* Where a pixel's taps read the block's channels: the picture, or zero points outside of it. */
static void find_taps(const block *b, int32_t y, int32_t x, const int8_t **to) {
    const nsk_layer *l = b->layer;
    const int8_t **at = to;
    for (int32_t ky = 0; ky < l->kernel_height; ky++) {
        int32_t row = y * l->stride_down - l->pad_top + ky * l->dilate_down;
        for (int32_t kx = 0; kx < l->kernel_width; kx++) {
            int32_t column = x * l->stride_across - l->pad_left + kx * l->dilate_across;
            bool inside = row >= 0 && row < l->in.height && column >= 0 && column < l->in.width;
            *at++ = inside ? b->in + (row * l->in.width + column) * l->in.channels + b->first
                           : b->zeroes;
        }
    }
    *at = to[0]; /* what the weights of a pair's missing half, all 0, meet */
}

/* `at` moved by `step` bytes: taps of another pixel. */
NSK_AVX2 static void write_sixteen(const block *b, const int8_t *const *at, int64_t step,
                                   int8_t *out) {
    __m256i low = _mm256_setzero_si256();
    __m256i high = low;
    for (int32_t k = 0; k < b->pairs; k++) {
        __m256i x = widened(at[2 * k] + step);
        __m256i y = widened(at[2 * k + 1] + step);
        low = _mm256_add_epi32(
            low, _mm256_madd_epi16(_mm256_unpacklo_epi16(x, y), b->weights[k].low));
        high = _mm256_add_epi32(
            high, _mm256_madd_epi16(_mm256_unpackhi_epi16(x, y), b->weights[k].high));
    }
    __m256i sums[2] = {
        _mm256_add_epi32(_mm256_permute2x128_si256(low, high, 0x20), b->bias[0]),
        _mm256_add_epi32(_mm256_permute2x128_si256(low, high, 0x31), b->bias[1])};
    if (b->finish[0].exact && b->finish[1].exact) {
        __m128i bytes = _mm_unpacklo_epi64(nsk_eight_bytes(&b->finish[0], sums[0]),
                                           nsk_eight_bytes(&b->finish[1], sums[1]));
        _mm_storeu_si128((__m128i *)out, bytes);
        return;
    }
    int32_t acc[CHANNELS];
    memcpy(acc, sums, sizeof acc);
    for (uint32_t i = 0; i < CHANNELS; i++) {
        uint32_t k = (uint32_t)b->first + i;
        int32_t value =
            nsk_rescale(acc[i], nsk_word(b->layer->multipliers, k), b->layer->shifts[k]);
        out[i] = nsk_clamp(value + b->layer->out.zero, b->layer->low, b->layer->high);
    }
}

/* One row: pixels whose taps all lie in the picture are a step away from the one before. */
NSK_AVX2 static void write_row(const block *b, int32_t y, int8_t *out) {
    const nsk_layer *l = b->layer;
    const int8_t *at[2 * PAIRS + 1];
    int64_t pixel = (int64_t)l->stride_across * l->in.channels;
    nsk_window rows = nsk_rows(l, y);
    bool all_rows = rows.last - rows.first == l->kernel_height;
    int64_t step = 0;
    bool inner = false;
    for (int32_t x = 0; x < l->out.width; x++, out += l->out.channels) {
        nsk_window columns = nsk_columns(l, x);
        bool was = inner;
        inner = all_rows && columns.last - columns.first == l->kernel_width;
        step += pixel;
        if (!was || !inner) {
            find_taps(b, y, x, at);
            step = 0;
        }
        write_sixteen(b, at, step, out);
    }
}

NSK_AVX2 static void run_avx2(const nsk_layer *l, int8_t *workspace) {
    block b = {.layer = l, .in = workspace + l->in.place};
    memset(b.zeroes, l->in.zero, sizeof b.zeroes);
    for (int32_t c = 0; c < l->out.channels; c += CHANNELS) {
        /* the last sixteen may have been partly done */
        int32_t last = l->out.channels - CHANNELS;
        start_block(&b, c < last ? c : last);
        for (int32_t y = 0; y < l->out.height; y++) {
            write_row(&b, y,
                      workspace + l->out.place + y * l->out.width * l->out.channels + b.first);
        }
    }
}

void nsk_depthwise_run(const nsk_layer *l, int8_t *workspace) {
    bool fits = l->in.channels == l->out.channels && l->out.channels >= CHANNELS &&
                l->kernel_height * l->kernel_width <= 2 * PAIRS;
    if (fits && nsk_has_avx2()) {
        run_avx2(l, workspace);
    } else {
        nsk_depthwise_run_plain(l, workspace);
    }
}

#endif
