/* fine: tensors between layers whose levels have 256 parts each: int16, value = scale (q / 256 -
 * zero). Layers that read or write one are kinds of their own, which take a tensor of int8 as well,
 * as one whose parts are 0. Their numbers are those of the usual layer: where a sum is in parts, so
 * is what comes of it. */
#ifndef NSK_DEVICE_FINE_H
#define NSK_DEVICE_FINE_H

#include "arithmetic.h"
#include "format.h"
#include "layer.h"

enum nsk_fine_sizes { NSK_PART_BITS = 8, NSK_PARTS = 1 << NSK_PART_BITS, NSK_FINE_TABLE = 257 };

/* Element i of a tensor that stands at `at` without gaps, in parts of a level. */
static inline int32_t nsk_parts_at(const nsk_tensor *t, const int8_t *at, uint32_t i) {
    return t->element == 2 ? ((const int16_t *)(const void *)at)[i] : at[i] * NSK_PARTS;
}

static inline int32_t nsk_zero_parts(const nsk_tensor *t) {
    return t->zero * NSK_PARTS;
}

/* What an output holds, in parts where it is fine: a clamp counts, if it is one. */
static inline int32_t nsk_fine_low(const nsk_layer *l) {
    return l->out.element == 2 ? l->low * NSK_PARTS : l->low;
}

static inline int32_t nsk_fine_high(const nsk_layer *l) {
    return l->out.element != 2 ? l->high : l->high < INT8_MAX ? l->high * NSK_PARTS : INT16_MAX;
}

/* Tensors are of int8 or fine, and the output is no slice. */
static inline bool nsk_elements_are_fine(const nsk_layer *l) {
    const nsk_tensor *const tensors[] = {&l->in, &l->second, &l->out};
    bool good = !l->out.slice;
    for (int32_t i = 0; i < 3; i++) {
        good = good && tensors[i]->element == 1 + tensors[i]->fraction / NSK_PART_BITS;
    }
    return good;
}

/* Element i of the output, from floor((sum + 2^(shift-1)) / 2^shift), parts above its zero point;
 * of an int8 the nearest level. */
static inline void nsk_put_parts(const nsk_layer *l, int8_t *out, uint32_t i, int64_t sum,
                                 int32_t shift) {
    const bool fine = l->out.element == 2;
    const int32_t bits = fine ? shift : shift + NSK_PART_BITS;
    const int64_t level = ((sum + (INT64_C(1) << (bits - 1))) >> bits) +
                          (fine ? nsk_zero_parts(&l->out) : l->out.zero);
    const int32_t low = nsk_fine_low(l);
    const int32_t high = nsk_fine_high(l);
    const int64_t held = level < low ? low : level > high ? high : level;
    if (fine) {
        ((int16_t *)(void *)out)[i] = (int16_t)held;
    } else {
        out[i] = (int8_t)held;
    }
}

/* Output c of products in parts, the bias not yet with them. */
static inline void nsk_put_products(const nsk_layer *l, int8_t *out, uint32_t i, int64_t products,
                                    uint32_t c) {
    const int32_t word = nsk_word(l->requantise, c);
    const int64_t sum = products + (int64_t)nsk_requantise_bias(word) * NSK_PARTS;
    nsk_put_parts(l, out, i, sum * nsk_requantise_factor(word), nsk_requantise_shift(word));
}

/* So many products of a weight and a number of 16 bits are within 32 bits. */
enum nsk_fine_run { NSK_FINE_RUN = 256 };

#endif
