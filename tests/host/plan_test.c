#include <stdbool.h>
#include <stdio.h>

#include "../suites.h"
#include "base/random.h"
#include "passes/plan.h"

enum { MOST = 12, MOST_LAYERS = 30 };

static void buffers_never_meet(void) {
    random_state r = {41};
    int met = 0;
    int below = 0;
    for (int round = 0; round < 5000; round++) {
        nsk_buffer b[MOST];
        int count = 1 + random_below(&r, MOST);
        for (int i = 0; i < count; i++) {
            int first = random_below(&r, 10);
            b[i] = (nsk_buffer){1 + (uint32_t)random_below(&r, 500),
                                first,
                                first + random_below(&r, 4),
                                0,
                                NULL,
                                0};
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

/* A network with branches: every layer reads the one before, some an earlier one, too. */
static int draw_network(random_state *r, nsk_buffer *b) {
    int count = 4 + random_below(r, MOST_LAYERS - 3);
    for (int i = 0; i < count; i++) {
        b[i] = (nsk_buffer){4 * (1 + (uint32_t)random_below(r, 2000)), i, i + 1, 0, NULL, 0};
        if (i > 1 && random_below(r, 3) == 0) {
            int earlier = i - 2 - random_below(r, i - 1 < 8 ? i - 1 : 8);
            earlier = earlier < 0 ? 0 : earlier;
            b[earlier].last = i > b[earlier].last ? i : b[earlier].last;
        }
    }
    return count;
}

/* A replay that knows nothing of plans: each step writes every word that is new, and reads every
 * word that is old and still wanted, whose owner must be as it was. */
static bool replay_is_clean(const nsk_buffer *b, int count, uint32_t total) {
    static int owner[MOST_LAYERS * 2000];
    for (int step = 0; step <= count; step++) {
        for (int i = 0; i < count; i++) {
            for (uint32_t k = b[i].place / 4;
                 b[i].first == step && k < (b[i].place + b[i].bytes) / 4; k++) {
                owner[k] = i;
            }
        }
        for (int i = 0; i < count; i++) {
            bool alive = b[i].first <= step && b[i].last >= step;
            for (uint32_t k = b[i].place / 4; alive && k < (b[i].place + b[i].bytes) / 4; k++) {
                if (owner[k] != i) {
                    return false;
                }
            }
            if (b[i].place + b[i].bytes > total) {
                return false;
            }
        }
    }
    return true;
}

/* The bound is no plan: for some networks none can meet it. Of the seven here that are not met, an
 * exhaustive search has shown two to be such, and one of them to need over 2 % more. */
static void networks_meet_the_bound(void) {
    enum { ROUNDS = 10000 };
    random_state r = {43};
    int met = 0;
    int near = 0;
    int clean = 0;
    double worst = 1.0;
    for (int round = 0; round < ROUNDS; round++) {
        nsk_buffer b[MOST_LAYERS];
        int count = draw_network(&r, b);
        uint32_t total = nsk_plan_place(b, count);
        double over = (double)total / nsk_plan_lower_bound(b, count);
        met += total == nsk_plan_lower_bound(b, count);
        near += over <= 1.02;
        worst = over > worst ? over : worst;
        clean += round % TESTS_FEWER != 0 || replay_is_clean(b, count, total);
    }
    printf("[%d of %d at the bound, %d within 2 %%, the worst %.1f %% above] ", met, ROUNDS, near,
           100.0 * (worst - 1.0));
    CU_ASSERT_EQUAL(clean, ROUNDS);
    CU_ASSERT(met >= ROUNDS * 99 / 100);
    CU_ASSERT(near >= ROUNDS * 999 / 1000);
}

static void chains_need_no_more_than_the_bound(void) {
    random_state r = {42};
    for (int round = 0; round < 500; round++) {
        nsk_buffer b[MOST];
        for (int i = 0; i < MOST; i++) {
            b[i] = (nsk_buffer){4 * (1 + (uint32_t)random_below(&r, 200)), i, i + 1, 0, NULL, 0};
        }
        CU_ASSERT_EQUAL(nsk_plan_lower_bound(b, 2), b[0].bytes + b[1].bytes);
        CU_ASSERT_EQUAL(nsk_plan_place(b, 2), b[0].bytes + b[1].bytes);
        CU_ASSERT(nsk_plan_place(b, MOST) >= nsk_plan_lower_bound(b, MOST));
    }
}

CU_TestInfo plan_tests[] = {
    {"buffers that live together never meet", buffers_never_meet},
    {"random networks meet the lower bound", networks_meet_the_bound},
    {"chains", chains_need_no_more_than_the_bound},
    CU_TEST_INFO_NULL,
};
