/* What the network ends in: the score of each class, in units of 2^-30. They are shares of a
 * softmax, sigmoids, or the inputs as they are.
 *
 * Five tables of eight u16 have e^(-scale d): of d = 0 ... 7 in units of 1/65535; then of d = 0, 8
 * ... 56 and so on, less 1, in units of 1/65536, so that what differs by nothing is multiplied
 * by 1. */
#include "arithmetic.h"
#include "check.h"
#include "format.h"

enum { SHARES = NSK_FLAG_SHARES, EACH = NSK_FLAG_EACH, DIGIT = NSK_SCORES_ENTRIES, AS_IT_IS = 22 };

/* e^(-scale x below); nothing is left of it where the tables end. */
static uint32_t part(const nsk_layer *l, uint32_t below) {
    const uint8_t *table = l->table;
    uint32_t product = nsk_load16(table + 2U * (below % DIGIT));
    for (uint32_t digit = 1; digit < NSK_SCORES_TABLES; digit++) {
        below /= DIGIT;
        table += 2 * DIGIT;
        product = product * (nsk_load16(table + 2U * (below % DIGIT)) + 1U) >> 16;
    }
    return below < DIGIT ? product : 0U;
}

static NSK_SELDOM bool check(const nsk_model *m, const nsk_layer *l) {
    bool as_they_are = (l->flags & (SHARES | EACH)) == 0;
    return nsk_tensor_elements(&l->in) == nsk_tensor_elements(&l->out) &&
           (as_they_are ? l->in.element == 1
                        : nsk_lies_inside(m, l->table, 2U * NSK_SCORES_TABLES * DIGIT, 2));
}

/* e^x over the sum of all, for each. */
static NSK_NOINLINE void share_out(const nsk_layer *l, int32_t *x, uint32_t count) {
    const int32_t *end = x + count;
    int32_t top = *x;
    uint32_t sum = 0;
    for (const int32_t *at = x; at < end; at++) {
        top = *at > top ? *at : top;
    }
    for (int32_t *at = x; at < end; at++) {
        *at = (int32_t)part(l, (uint32_t)(top - *at));
        sum += (uint32_t)*at;
    }
    const nsk_divider by = nsk_divider_of(sum);
    for (int32_t *at = x; at < end; at++) {
        *at = (int32_t)nsk_divide(&by, (uint32_t)*at);
    }
}

/* A sigmoid is the share of x beside 0. */
static int32_t other_score(const nsk_layer *l, int32_t x) {
    int32_t pair[2] = {x, 0};
    if ((l->flags & EACH) == 0) {
        return x * (1 << AS_IT_IS);
    }
    share_out(l, pair, 2);
    return pair[0];
}

static void run(const nsk_layer *l, int8_t *workspace) {
    const int8_t *in = workspace + l->in.offset;
    const int16_t *wide = (const int16_t *)(const void *)in;
    int32_t *out = (int32_t *)(void *)(workspace + l->out.offset);
    const uint32_t count = nsk_tensor_elements(&l->in);
    bool alone = (l->flags & SHARES) == 0;
    for (uint32_t c = 0; c < count; c++) {
        int32_t x = (l->in.element == 1 ? in[c] : wide[c]) - l->in.zero;
        out[c] = alone ? other_score(l, x) : x;
    }
    if (!alone) {
        share_out(l, out, count);
    }
}

const nsk_operation nsk_operation_scores = {check, run};
