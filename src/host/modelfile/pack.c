#include "modelfile/pack.h"

#include <string.h>

/* Of each group: four words with the lower halves of bytes, then those with what is above. */
enum { GROUP = 32, WORD = 4, LOWER = 16 };

size_t nsk_packed_bytes(size_t weights, int bits) {
    return (weights + GROUP - 1) / GROUP * (size_t)(GROUP * bits / 8);
}

/* Where a weight's bits stand: the lower four, and those above them. */
typedef struct place {
    size_t lower, upper;
    unsigned lower_shift, upper_shift;
} place;

static place place_of(size_t index, int bits) {
    const size_t group = index / GROUP * (size_t)(GROUP * bits / 8);
    const size_t lane = index % WORD;
    const size_t word = index % GROUP / WORD;
    const size_t above = word * (size_t)(bits - 4);
    return (place){.lower = group + word / 2 * WORD + lane,
                   .lower_shift = word % 2 * 4,
                   .upper = group + LOWER + above / 8 * WORD + lane,
                   .upper_shift = (unsigned)(above % 8)};
}

void nsk_pack_weights(const int8_t *weights, size_t count, int bits, uint8_t *packed) {
    const size_t bytes = nsk_packed_bytes(count, bits);
    memset(packed, 0, bytes);
    for (size_t i = 0; i < bytes * 8 / (size_t)bits;
         i++) { /* with those that fill the last group */
        const unsigned level = (unsigned)((i < count ? weights[i] : 0) + (1 << (bits - 1)));
        const place at = place_of(i, bits);
        packed[at.lower] |= (uint8_t)((level & 15U) << at.lower_shift);
        if (bits > 4) {
            packed[at.upper] |= (uint8_t)(level >> 4 << at.upper_shift);
        }
    }
}

void nsk_unpack_weights(const uint8_t *packed, size_t count, int bits, int8_t *weights) {
    for (size_t i = 0; i < count; i++) {
        const place at = place_of(i, bits);
        unsigned level = packed[at.lower] >> at.lower_shift & 15U;
        if (bits > 4) {
            const unsigned above = packed[at.upper] >> at.upper_shift;
            level |= (above & ((1U << (bits - 4)) - 1U)) << 4;
        }
        weights[i] = (int8_t)((int)level - (1 << (bits - 1)));
    }
}
