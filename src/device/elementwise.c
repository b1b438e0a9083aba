/* Sum, product, larger and smaller, element by element. The second of two inputs is
 * as large as the first, or one pixel that meets every pixel of the first, or one number. */
#include "arithmetic.h"
#include "check.h"
#include "format.h"

static bool check_sum(const nsk_model *m, const nsk_layer *l) {
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

static bool check_product(const nsk_model *m, const nsk_layer *l) {
    return nsk_pair_is_good(l) && nsk_check_multipliers(m, l, 1, 1) && nsk_multiplier_is_good(l, 0);
}

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
    const int8_t *a = workspace + l->in.offset;
    const int8_t *b = workspace + l->second.offset;
    int8_t *out = workspace + l->out.offset;
    uint32_t row = (uint32_t)l->out.width * l->out.channels;
    uint32_t period = nsk_tensor_elements(&l->second);
    uint32_t k = 0;
    for (uint32_t y = 0; y < l->out.height; y++) {
        for (uint32_t i = 0; i < row; i++) {
            int32_t value = both(l, a[i] - l->in.zero, b[k] - l->second.zero);
            out[i] = nsk_clamp(value + l->out.zero, l->low, l->high);
            k = k + 1U == period ? 0U : k + 1U;
        }
        a += row;
        out += row;
    }
}

static void run_sum(const nsk_layer *l, int8_t *workspace) {
    elementwise(l, workspace, weighted_sum);
}

static void run_product(const nsk_layer *l, int8_t *workspace) {
    elementwise(l, workspace, product);
}

static void run_larger(const nsk_layer *l, int8_t *workspace) {
    elementwise(l, workspace, larger);
}

static void run_smaller(const nsk_layer *l, int8_t *workspace) {
    elementwise(l, workspace, smaller);
}

const nsk_operation nsk_operation_add = {check_sum, run_sum};
const nsk_operation nsk_operation_multiply = {check_product, run_product};
const nsk_operation nsk_operation_max = {check_sum, run_larger};
const nsk_operation nsk_operation_min = {check_sum, run_smaller};
