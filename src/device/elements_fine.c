/* Functions and sums, element by element, of tensors that may be fine. A function's table has its
 * values, in parts, at every level and one behind the last; between them it is a line. */
#include "check.h"
#include "fine.h"
#include "format.h"

static bool check_table(const nsk_model *m, const nsk_layer *l) {
    return nsk_elements_are_fine(l) && nsk_same_size(&l->in, &l->out) &&
           nsk_lies_inside(m, l->table, 2U * NSK_FINE_TABLE, 2);
}

static int32_t entry(const nsk_layer *l, int32_t index) {
    return (int16_t)nsk_load16(l->table + 2 * index);
}

static void run_table(const nsk_layer *l, int8_t *workspace) {
    const int8_t *in = workspace + l->in.offset;
    int8_t *out = workspace + l->out.offset;
    const int32_t low = nsk_fine_low(l);
    const int32_t high = nsk_fine_high(l);
    const uint32_t count = nsk_tensor_elements(&l->out);
    for (uint32_t i = 0; i < count; i++) {
        const int32_t x = nsk_parts_at(&l->in, in, i) + 128 * NSK_PARTS;
        const int32_t index = x >> NSK_PART_BITS;
        const int32_t part = x & (NSK_PARTS - 1);
        const int32_t value = entry(l, index) * (NSK_PARTS - part) + entry(l, index + 1) * part;
        const int32_t parts = (value + NSK_PARTS / 2) >> NSK_PART_BITS;
        if (l->out.element == 2) {
            ((int16_t *)(void *)out)[i] = (int16_t)nsk_limit(parts, low, high);
        } else {
            out[i] = nsk_clamp((parts + NSK_PARTS / 2) >> NSK_PART_BITS, low, high);
        }
    }
}

static bool check_sum(const nsk_model *m, const nsk_layer *l) {
    return nsk_elements_are_fine(l) && nsk_pair_is_good(l) && nsk_check_multipliers(m, l, 2, 1) &&
           l->shifts[0] >= 1 && l->shifts[0] <= 30;
}

static void run_sum(const nsk_layer *l, int8_t *workspace) {
    const int8_t *a = workspace + l->in.offset;
    const int8_t *b = workspace + l->second.offset;
    const nsk_fine_out out = nsk_fine_out_of(l, workspace);
    const int64_t ka = nsk_word(l->multipliers, 0);
    const int64_t kb = nsk_word(l->multipliers, 1);
    const uint32_t count = nsk_tensor_elements(&l->out);
    const uint32_t period = nsk_tensor_elements(&l->second);
    const int32_t shift = l->shifts[0];
    uint32_t k = 0;
    for (uint32_t i = 0; i < count; i++) {
        const int64_t sum = (nsk_parts_at(&l->in, a, i) - nsk_zero_parts(&l->in)) * ka +
                            (nsk_parts_at(&l->second, b, k) - nsk_zero_parts(&l->second)) * kb;
        nsk_put_parts(&out, i, sum, shift);
        k = k + 1U == period ? 0U : k + 1U;
    }
}

const nsk_operation nsk_operation_lut_fine = {check_table, run_table};
const nsk_operation nsk_operation_add_fine = {check_sum, run_sum};
