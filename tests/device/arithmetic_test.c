/* The formulas of docs/arithmetic.md against exact 128-bit division. */
#include "device/arithmetic.h"

#include "../suites.h"
#include "base/random.h"
#include "reference/exact.h"

enum { CASES = 200000 };

/* Bits of every size are as likely as each other, so that edges are met. */
static int32_t any_int32(random_state *r) {
    int64_t value = (int64_t)(random_bits(r) >> (33 + random_below(r, 31)));
    value = random_chance(r, 0.5) ? value : -value - 1;
    return (int32_t)value;
}

static void rescale_is_exact(void) {
    static const int32_t edges[] = {0, 1, -1, 2, -2, 127, -128, INT32_MAX, INT32_MIN, 1 << 30};
    random_state r = {1};
    int wrong = 0;
    for (int i = 0; i < CASES; i++) {
        int32_t acc = i < 4000 ? edges[random_below(&r, 10)] : any_int32(&r);
        int32_t m = (int32_t)((UINT32_C(1) << 30) + (uint32_t)(random_bits(&r) >> 34));
        m = i % 7 == 0 ? NSK_MULTIPLIER_LEAST : i % 11 == 0 ? INT32_MAX : m;
        unsigned s = (unsigned)(1 + random_below(&r, 62));
        wrong += nsk_rescale(acc, m, s) != exact_rescale(acc, m, s);
    }
    CU_ASSERT_EQUAL(wrong, 0);
}

/* Accumulators right at the point where the result is half a level: ties go up. */
static void ties_go_up(void) {
    const int32_t m = INT32_C(1) << 30;
    for (unsigned s = 31; s <= 45; s++) {
        int32_t half = (int32_t)(INT64_C(1) << (s - 31));
        CU_ASSERT_EQUAL(nsk_rescale(half, m, s), 1);
        CU_ASSERT_EQUAL(nsk_rescale(-half, m, s), 0);
        CU_ASSERT_EQUAL(nsk_rescale(half - 1, m, s), 0);
        CU_ASSERT_EQUAL(nsk_rescale(-half - 1, m, s), -1);
    }
}

static void weighted_sum_is_exact(void) {
    random_state r = {2};
    int wrong = 0;
    for (int i = 0; i < CASES; i++) {
        int32_t a = random_below(&r, 511) - 255;
        int32_t b = random_below(&r, 511) - 255;
        int32_t ka = random_below(&r, (1 << 21) + 1);
        int32_t kb = random_below(&r, (1 << 21) + 1);
        unsigned s = (unsigned)(1 + random_below(&r, 30));
        wrong += nsk_weighted_sum(a, ka, b, kb, s) !=
                 exact_floor_divide((exact)a * ka + (exact)b * kb + ((exact)1 << (s - 1)),
                                    (exact)1 << s);
    }
    CU_ASSERT_EQUAL(wrong, 0);
}

static void share_is_exact(void) {
    random_state r = {3};
    int wrong = 0;
    for (int i = 0; i < CASES; i++) {
        uint32_t part = (uint32_t)random_below(&r, 65536);
        uint32_t sum = part + (uint32_t)random_below(&r, 1 << (1 + random_below(&r, 30)));
        sum = sum > 0 ? sum : 1;
        exact share = exact_floor_divide((exact)part * 256 + sum / 2, sum) - 128;
        wrong += nsk_share(part, sum) != (share > 127 ? 127 : share);
    }
    CU_ASSERT_EQUAL(wrong, 0);
}

static void clamp_and_reach(void) {
    CU_ASSERT_EQUAL(nsk_clamp(-300, -128, 127), -128);
    CU_ASSERT_EQUAL(nsk_clamp(300, -128, 127), 127);
    CU_ASSERT_EQUAL(nsk_clamp(5, 5, 5), 5);
    for (int zero = -128; zero < 128; zero++) {
        int reach = 0;
        for (int q = -128; q < 128; q++) {
            int distance = q > zero ? q - zero : zero - q;
            reach = distance > reach ? distance : reach;
        }
        CU_ASSERT_EQUAL(nsk_reach(zero), reach);
    }
}

CU_TestInfo arithmetic_tests[] = {
    {"rescaling equals one exact rounding", rescale_is_exact},
    {"ties go up", ties_go_up},
    {"weighted sum equals one exact rounding", weighted_sum_is_exact},
    {"softmax share equals one exact rounding", share_is_exact},
    {"clamp and reach", clamp_and_reach},
    CU_TEST_INFO_NULL,
};
