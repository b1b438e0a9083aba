/* normalise: what normalisations share: the spread of a block of numbers, and what becomes of one
 * of them. */
#ifndef NSK_DEVICE_NORMALISE_H
#define NSK_DEVICE_NORMALISE_H

#include "arithmetic.h"
#include "format.h"
#include "layer.h"

/* (count q - from) up / 2^down is d: so many units of 16 / root from the mean. */
typedef struct nsk_spread {
    int32_t count, from, up, down, factor;
} nsk_spread;

/* Of `count` numbers, whose sum above their zero point is `from` less count times that, from
 * count^2 times their variance. */
nsk_spread nsk_spread_of(int32_t count, int32_t from, uint64_t variance);

/* What the network adds to count^2 times the variance. */
static inline uint64_t nsk_normalise_least(const nsk_layer *l) {
    return (uint64_t)(uint32_t)nsk_word(l->multipliers, NSK_N_LEAST + 1) << 32 |
           (uint32_t)nsk_word(l->multipliers, NSK_N_LEAST);
}

/* A number's level, not yet held within bounds. */
enum nsk_normalise_most { NSK_MOST_AWAY = 1 << 17 };
static inline int32_t nsk_normalised(const nsk_spread *by, int32_t q, int32_t gain, int32_t offset,
                                     int32_t shift) {
    int32_t d = (by->count * q - by->from) * by->up >> by->down;
    int32_t z = nsk_limit(d, -NSK_MOST_AWAY, NSK_MOST_AWAY) * by->factor;
    z = (z + (1 << (23 - NSK_GAIN_BITS))) >> (24 - NSK_GAIN_BITS);
    return (z * gain + offset) >> shift;
}

/* Whether gains, offsets and the rest are there, and good, for groups of a pixel's channels whose
 * blocks are of so many pixels; `most` bounds the upper word of what is added to the variance. */
bool nsk_check_normalise(const nsk_model *m, const nsk_layer *l, uint32_t pixels, uint32_t most);

#endif
