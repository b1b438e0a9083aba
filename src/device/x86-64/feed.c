/* Eight bytes at a time, as they stand: as many vectors of slopes as there are channels repeat. */
#include "../feed.h"

#include "../arch.h"

#if defined(NSK_ARCH_X86_64)

#include "avx2.h"
#include "ways.h"

enum { LANES = 8, MOST_CHANNELS = 4 };

/* A pixel's next channel. */
static size_t after(size_t channel, size_t channels) {
    return channel + 1U < channels ? channel + 1U : 0;
}

void nsk_prepare_by_tables(const int8_t *tables, const uint8_t *from, size_t bytes, size_t count,
                           int8_t *to) {
    for (size_t i = 0, c = 0; i < bytes; i++, c = after(c, count)) {
        to[i] = tables[256U * c + from[i]];
    }
}

/* The bytes from `first` on, whose channel is the first. */
static void one_by_one(const uint8_t *lines, const uint8_t *from, size_t first, size_t bytes,
                       size_t channels, int8_t *to) {
    for (size_t i = first, c = 0; i < bytes; i++, c = after(c, channels)) {
        const uint8_t *line = lines + NSK_LINE_BYTES * c;
        const int32_t slope = nsk_word(line, NSK_P_SLOPE);
        to[i] = (int8_t)((from[i] * slope + nsk_word(line, NSK_P_START)) >> NSK_LINE_BITS);
    }
}

/* Whole periods; how many bytes those are. */
NSK_AVX2 static size_t by_vectors(const uint8_t *lines, const uint8_t *from, size_t bytes,
                                  size_t channels, int8_t *to) {
    int32_t slopes[MOST_CHANNELS][LANES];
    int32_t starts[MOST_CHANNELS][LANES];
    for (size_t i = 0, c = 0; i < LANES * channels; i++, c = after(c, channels)) {
        slopes[i / LANES][i % LANES] = nsk_word(lines + NSK_LINE_BYTES * c, NSK_P_SLOPE);
        starts[i / LANES][i % LANES] = nsk_word(lines + NSK_LINE_BYTES * c, NSK_P_START);
    }
    size_t done = 0;
    for (; done + LANES * channels <= bytes; done += LANES * channels) {
        for (size_t v = 0; v < channels; v++) {
            const size_t at = done + LANES * v;
            __m256i x = _mm256_cvtepu8_epi32(_mm_loadl_epi64((const __m128i *)(from + at)));
            x = _mm256_mullo_epi32(x, _mm256_loadu_si256((const __m256i *)slopes[v]));
            x = _mm256_add_epi32(x, _mm256_loadu_si256((const __m256i *)starts[v]));
            x = _mm256_srai_epi32(x, NSK_LINE_BITS);
            const __m128i halves =
                _mm_packs_epi32(_mm256_castsi256_si128(x), _mm256_extracti128_si256(x, 1));
            _mm_storel_epi64((__m128i *)(to + at), _mm_packs_epi16(halves, halves));
        }
    }
    return done;
}

void nsk_prepare_by_lines(const uint8_t *lines, const uint8_t *from, size_t bytes, size_t channels,
                          int8_t *to) {
    const bool wide = channels <= MOST_CHANNELS && nsk_has_avx2();
    const size_t done = wide ? by_vectors(lines, from, bytes, channels, to) : 0;
    one_by_one(lines, from, done, bytes, channels, to);
}

#endif
