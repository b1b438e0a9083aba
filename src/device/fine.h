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

/* Where outputs go, and what they are held within: copied out of the layer, as bytes that are
 * written could change it, for all that a compiler knows. */
typedef struct nsk_fine_out {
    int8_t *at;
    int32_t coarser;         /* bits of a part that are rounded away: 0 where the output is fine */
    int32_t zero, low, high; /* levels, or parts */
} nsk_fine_out;

static inline nsk_fine_out nsk_fine_out_of(const nsk_layer *l, int8_t *workspace) {
    const bool fine = l->out.element == 2;
    const nsk_fine_out o = {workspace + l->out.offset, fine ? 0 : (int32_t)NSK_PART_BITS,
                            fine ? nsk_zero_parts(&l->out) : l->out.zero, nsk_fine_low(l),
                            nsk_fine_high(l)};
    return o;
}

/* Element i of the output, from floor((sum + 2^(shift-1)) / 2^shift), parts above its zero point;
 * of an int8 the nearest level. Both round halves up: floor((2 x + 1) / 2). */
enum nsk_fine_most { NSK_MOST_TWICE = 1 << 20 }; /* far beyond what an output holds */
static inline void nsk_put_parts(const nsk_fine_out *o, uint32_t i, int64_t sum, int32_t shift) {
    const int64_t twice = sum >> (shift + o->coarser - 1);
    const int32_t most = NSK_MOST_TWICE;
    const int32_t near = twice < -most ? -most : twice > most ? most : (int32_t)twice;
    const int32_t level = nsk_limit(((near + 1) >> 1) + o->zero, o->low, o->high);
    if (o->coarser == 0) {
        ((int16_t *)(void *)o->at)[i] = (int16_t)level;
    } else {
        o->at[i] = (int8_t)level;
    }
}

/* Output i of products in parts, the bias not yet with them; `word` is what requantises it. */
static inline void nsk_put_products(const nsk_fine_out *o, uint32_t i, int64_t products,
                                    int32_t word) {
    const int64_t sum = products + (int64_t)nsk_requantise_bias(word) * NSK_PARTS;
    nsk_put_parts(o, i, sum * nsk_requantise_factor(word), nsk_requantise_shift(word));
}

/* Two sums of products of numbers in parts with weights, `taps` a multiple of four. */
typedef struct nsk_both_sums {
    int64_t first, second;
} nsk_both_sums;
void nsk_meet_both(const int16_t *x, const int8_t *v, const int8_t *w, int32_t taps,
                   nsk_both_sums *sums);

/* So many products of a weight and a number of 16 bits are within 32 bits. */
enum nsk_fine_run { NSK_FINE_RUN = 256 };

#endif
