/* Sum, product, larger, smaller and table look-up, element by element. The second of two inputs is
 * as large as the first, or one pixel that meets every pixel of the first, or one number. */
#include "arithmetic.h"
#include "format.h"
#include "layer.h"

typedef int32_t combine(const nsk_layer *l, int32_t a, int32_t b);

static int32_t weighted_sum(const nsk_layer *l, int32_t a, int32_t b) {
    return nsk_weighted_sum(a, nsk_word(l->multipliers, 0), b, nsk_word(l->multipliers, 1),
                            l->shifts[0]);
}

static int32_t product(const nsk_layer *l, int32_t a, int32_t b) {
    return nsk_rescale(a * b, nsk_word(l->multipliers, 0), l->shifts[0]);
}

/* The number itself by the one factor, or the other by the other: whichever comes out larger. */
static int32_t larger(const nsk_layer *l, int32_t a, int32_t b) {
    int32_t left = a * nsk_word(l->multipliers, 0);
    int32_t right = b * nsk_word(l->multipliers, 1);
    return nsk_weighted_sum(left > right ? left : right, 1, 0, 0, l->shifts[0]);
}

static int32_t smaller(const nsk_layer *l, int32_t a, int32_t b) {
    int32_t left = a * nsk_word(l->multipliers, 0);
    int32_t right = b * nsk_word(l->multipliers, 1);
    return nsk_weighted_sum(left < right ? left : right, 1, 0, 0, l->shifts[0]);
}

static void elementwise(const nsk_layer *l, int8_t *workspace, combine *both) {
    const int8_t *a = workspace + l->in.place;
    const int8_t *b = workspace + l->second.place;
    int8_t *out = workspace + l->out.place;
    uint32_t count = nsk_tensor_bytes(&l->out);
    uint32_t period = nsk_tensor_bytes(&l->second);
    uint32_t k = 0;
    for (uint32_t i = 0; i < count; i++) {
        int32_t value = both(l, a[i] - l->in.zero, b[k] - l->second.zero);
        out[i] = nsk_clamp(value + l->out.zero, l->low, l->high);
        k = k + 1U == period ? 0U : k + 1U;
    }
}

void nsk_add(const nsk_layer *l, int8_t *workspace) {
    elementwise(l, workspace, weighted_sum);
}

void nsk_multiply(const nsk_layer *l, int8_t *workspace) {
    elementwise(l, workspace, product);
}

void nsk_larger(const nsk_layer *l, int8_t *workspace) {
    elementwise(l, workspace, larger);
}

void nsk_smaller(const nsk_layer *l, int8_t *workspace) {
    elementwise(l, workspace, smaller);
}

void nsk_table(const nsk_layer *l, int8_t *workspace) {
    const int8_t *in = workspace + l->in.place;
    int8_t *out = workspace + l->out.place;
    uint32_t count = nsk_tensor_bytes(&l->out);
    for (uint32_t i = 0; i < count; i++) {
        out[i] = (int8_t)l->weights[in[i] + 128];
    }
}
