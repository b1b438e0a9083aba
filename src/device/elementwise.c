/* Sum, product, larger and smaller, element by element. The second of two inputs is
 * as large as the first, or one pixel that meets every pixel of the first, or one number. */
#include "elementwise.h"

#include "arch.h"
#include "arithmetic.h"
#include "check.h"
#include "format.h"

static NSK_SELDOM bool check_sum(const nsk_model *m, const nsk_layer *l) {
    if (!nsk_pair_is_good(l) || !nsk_check_multipliers(m, l, 2, 1) || l->shifts[0] < 1 ||
        l->shifts[0] > 30) {
        return false;
    }
    int64_t most = (int64_t)1 << (l->shifts[0] - 1);
    const nsk_tensor *const inputs[] = {&l->in, &l->second};
    for (uint32_t k = 0; k < 2; k++) {
        int64_t factor = nsk_word(l->multipliers, k);
        most += (factor < 0 ? -factor : factor) * nsk_reach(inputs[k]->zero);
    }
    return most <= INT32_MAX;
}

static NSK_SELDOM bool check_product(const nsk_model *m, const nsk_layer *l) {
    return nsk_pair_is_good(l) && nsk_check_multipliers(m, l, 1, 1) && nsk_multiplier_is_good(l, 0);
}

/* What does not change stands in names of its own: bytes that are written could be anything's, for
 * all that a compiler knows. The zero points are taken off at the end: within what was checked. */
NSK_ALWAYS_INLINE int32_t sum_rest(const nsk_elements *e) {
    return (INT32_C(1) << (e->shift - 1)) - e->a_zero * e->a_factor - e->b_zero * e->b_factor;
}

#if !defined(NSK_HAS_VECTORS)
void nsk_add_elements(const nsk_elements *e) {
    const int8_t *b = e->b;
    int8_t *out = e->out;
    const uint32_t b_step = e->b_step;
    const int32_t a_factor = e->a_factor;
    const int32_t b_factor = e->b_factor;
    const int32_t rest = sum_rest(e);
    const int32_t shift = e->shift;
    const int32_t zero = e->zero;
    for (const int8_t *a = e->a, *end = a + e->count; a < end; a++, b += b_step, out++) {
        int32_t value = *a * a_factor + rest;
        value += *b * b_factor;
        *out = nsk_saturate((value >> shift) + zero);
    }
}
#endif

/* For small shifts, which are rare. */
static NSK_NOINLINE int32_t rescale_slowly(int32_t value, int32_t multiplier, unsigned shift) {
    return nsk_rescale(value, multiplier, shift);
}

void NSK_PLAIN_BESIDE_VECTORS(nsk_multiply_elements)(const nsk_elements *e) {
    const int8_t *b = e->b;
    int8_t *out = e->out;
    const uint32_t b_step = e->b_step;
    const int32_t a_zero = e->a_zero;
    const int32_t b_zero = e->b_zero;
    const int32_t multiplier = e->a_factor;
    const unsigned shift = (unsigned)e->shift;
    const int32_t zero = e->zero;
    const bool slowly = shift < NSK_SHIFT_BY_HIGH_WORD;
    for (const int8_t *a = e->a, *end = a + e->count; a < end; a++, b += b_step, out++) {
        int32_t value = (*a - a_zero) * (*b - b_zero);
        value = slowly ? rescale_slowly(value, multiplier, shift)
                       : nsk_rescale(value, multiplier, shift);
        *out = nsk_saturate(value + zero);
    }
}

/* The number itself by the one factor, or the other by the other: whichever comes out larger; or
 * smaller, which is the larger of both turned round. */
static NSK_NOINLINE void choose(const nsk_elements *e, int32_t sign) {
    const int8_t *b = e->b;
    int8_t *out = e->out;
    const uint32_t b_step = e->b_step;
    const int32_t a_factor = sign * e->a_factor;
    const int32_t b_factor = sign * e->b_factor;
    const int32_t a_rest = -e->a_zero * a_factor;
    const int32_t b_rest = -e->b_zero * b_factor;
    const int32_t shift = e->shift;
    const int32_t half = INT32_C(1) << (shift - 1);
    const int32_t zero = e->zero;
    for (const int8_t *a = e->a, *end = a + e->count; a < end; a++, b += b_step, out++) {
        int32_t left = *a * a_factor + a_rest;
        int32_t right = *b * b_factor + b_rest;
        int32_t value = sign * (left > right ? left : right);
        *out = nsk_saturate(((value + half) >> shift) + zero);
    }
}

static void choose_larger(const nsk_elements *e) {
    choose(e, 1);
}

static void choose_smaller(const nsk_elements *e) {
    choose(e, -1);
}

static NSK_NOINLINE void limit(int8_t *out, uint32_t count, int32_t low, int32_t high) {
    for (const int8_t *end = out + count; out < end; out++) {
        *out = nsk_clamp(*out, low, high);
    }
}

static void elementwise(const nsk_layer *l, int8_t *workspace, void (*both)(const nsk_elements *)) {
    const uint32_t all = nsk_tensor_elements(&l->out);
    const uint32_t period = nsk_tensor_elements(&l->second);
    nsk_elements e;
    e.a = workspace + l->in.offset;
    e.b = workspace + l->second.offset;
    e.out = workspace + l->out.offset;
    e.count = period > 1 ? period : all;
    e.b_step = period > 1;
    e.a_zero = l->in.zero;
    e.b_zero = l->second.zero;
    e.zero = l->out.zero;
    e.a_factor = nsk_word(l->multipliers, 0);
    e.b_factor = l->kind == NSK_KIND_MULTIPLY ? 0 : nsk_word(l->multipliers, 1);
    e.shift = l->shifts[0];
    for (uint32_t done = 0; done < all; done += e.count) {
        both(&e);
        e.a += e.count;
        e.out += e.count;
    }
    if (!nsk_requantise_is_plain(l)) {
        limit(workspace + l->out.offset, all, l->low, l->high);
    }
}

static void run_sum(const nsk_layer *l, int8_t *workspace) {
    elementwise(l, workspace, nsk_add_elements);
}

static void run_product(const nsk_layer *l, int8_t *workspace) {
    elementwise(l, workspace, nsk_multiply_elements);
}

static void run_larger(const nsk_layer *l, int8_t *workspace) {
    elementwise(l, workspace, choose_larger);
}

static void run_smaller(const nsk_layer *l, int8_t *workspace) {
    elementwise(l, workspace, choose_smaller);
}

const nsk_operation nsk_operation_add = {check_sum, run_sum};
const nsk_operation nsk_operation_multiply = {check_product, run_product};
const nsk_operation nsk_operation_max = {check_sum, run_larger};
const nsk_operation nsk_operation_min = {check_sum, run_smaller};
