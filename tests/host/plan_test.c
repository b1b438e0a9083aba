#include <stdio.h>

#include "../suites.h"
#include "quantise/plan.h"
#include "train/random.h"

enum { MOST = 12 };

static void buffers_never_meet(void) {
    random_state r = {41};
    int met = 0;
    int below = 0;
    for (int round = 0; round < 5000; round++) {
        nsk_buffer b[MOST];
        int count = 1 + random_below(&r, MOST);
        for (int i = 0; i < count; i++) {
            int first = random_below(&r, 10);
            b[i] = (nsk_buffer){1 + (uint32_t)random_below(&r, 500), first,
                                first + random_below(&r, 4), 0};
        }
        uint32_t total = nsk_plan_place(b, count);
        below += total < nsk_plan_lower_bound(b, count);
        for (int i = 0; i < count; i++) {
            met += b[i].place % 4 != 0 || b[i].place + b[i].bytes > total;
            for (int k = 0; k < i; k++) {
                met += b[i].first <= b[k].last && b[k].first <= b[i].last &&
                       b[i].place < b[k].place + b[k].bytes && b[k].place < b[i].place + b[i].bytes;
            }
        }
    }
    CU_ASSERT_EQUAL(met, 0);
    CU_ASSERT_EQUAL(below, 0);
}

static void chains_need_no_more_than_the_bound(void) {
    random_state r = {42};
    for (int round = 0; round < 500; round++) {
        nsk_buffer b[MOST];
        for (int i = 0; i < MOST; i++) {
            b[i] = (nsk_buffer){4 * (1 + (uint32_t)random_below(&r, 200)), i, i + 1, 0};
        }
        CU_ASSERT_EQUAL(nsk_plan_lower_bound(b, 2), b[0].bytes + b[1].bytes);
        CU_ASSERT_EQUAL(nsk_plan_place(b, 2), b[0].bytes + b[1].bytes);
        CU_ASSERT(nsk_plan_place(b, MOST) >= nsk_plan_lower_bound(b, MOST));
    }
}

CU_TestInfo plan_tests[] = {
    {"buffers that live together never meet", buffers_never_meet},
    {"chains", chains_need_no_more_than_the_bound},
    CU_TEST_INFO_NULL,
};
