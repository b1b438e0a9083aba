/* What a board at a link has said: kept, gone on with, and in the place of estimates. */
#include <math.h>
#include <string.h>

#include "../suites.h"
#include "../support.h"
#include "link/kept.h"
#include "netsuke/budget.h"

/* ---- kept ---- */

enum { CLASSES = 3, LAYERS = 2, BYTES = 4 * 3 * 3 };

static nsk_model shape(void) {
    return (nsk_model){.checksum = 0x12ab,
                       .classes = CLASSES,
                       .layers = LAYERS,
                       .width = 4,
                       .height = 3,
                       .channels = 3};
}

static void frame_of(int number, uint8_t *frame) {
    memset(frame, number, BYTES);
    frame[BYTES - 1] = 200; /* the last byte counts, too */
}

static void said_of(int number, int32_t *scores, nsk_link_layer *layers) {
    for (int i = 0; i < CLASSES; i++) {
        scores[i] = 1000 * number + i;
    }
    for (int i = 0; i <= LAYERS; i++) {
        layers[i] = (nsk_link_layer){.ticks = 4000000000U + (uint32_t)(10 * number + i),
                                     .stack = (uint32_t)i};
    }
}

static bool knows(nsk_kept *k, int number, bool with_layers) {
    uint8_t frame[BYTES];
    int32_t scores[CLASSES];
    int32_t wanted[CLASSES];
    nsk_link_layer layers[LAYERS + 1];
    nsk_link_layer wanted_layers[LAYERS + 1];
    frame_of(number, frame);
    said_of(number, wanted, wanted_layers);
    if (!nsk_kept_find(k, frame, scores, with_layers ? layers : NULL)) {
        return false;
    }
    CU_ASSERT_EQUAL(memcmp(scores, wanted, sizeof wanted), 0);
    for (int i = 0; i <= LAYERS && with_layers; i++) {
        CU_ASSERT(layers[i].ticks == wanted_layers[i].ticks &&
                  layers[i].stack == wanted_layers[i].stack);
    }
    return true;
}

static void add(nsk_kept *k, int number, bool with_layers, bool good) {
    uint8_t frame[BYTES];
    int32_t scores[CLASSES];
    nsk_link_layer layers[LAYERS + 1];
    nsk_error error = {.text = ""};
    frame_of(number, frame);
    said_of(number, scores, layers);
    CU_ASSERT_EQUAL(nsk_kept_add(k, frame, scores, with_layers ? layers : NULL, &error), good);
    CU_ASSERT_EQUAL(error.text[0] == '\0', good);
}

static void frames_are_kept(void) {
    const nsk_model model = shape();
    nsk_error error = {.text = ""};
    char *folder = scratch_new();
    char *inner = g_build_filename(folder, "kept", NULL);
    nsk_kept *k = nsk_kept_open(inner, &model, "cortex-m4/x", &error);
    CU_ASSERT_PTR_NOT_NULL_FATAL(k);
    CU_ASSERT(!knows(k, 1, false));
    add(k, 1, false, true);
    add(k, 2, true, true);
    nsk_kept_close(k);
    k = nsk_kept_open(inner, &model, "cortex-m4/x", &error);
    CU_ASSERT(knows(k, 1, false) && !knows(k, 1, true) && knows(k, 2, true) && knows(k, 2, false));
    CU_ASSERT(!knows(k, 3, false));
    CU_ASSERT_EQUAL(nsk_kept_found(k), 3);
    nsk_kept_close(k);
    /* a line that was cut, and lines that are none; what is whole counts */
    CU_ASSERT(runs(inner, "printf '%s 1 2' $(head -c 64 000012ab-cortex-m4_x.said) >> "
                          "000012ab-cortex-m4_x.said"));
    k = nsk_kept_open(inner, &model, "cortex-m4/x", &error);
    CU_ASSERT(knows(k, 1, false) && knows(k, 2, true));
    nsk_kept_close(k);
    CU_ASSERT(runs(inner, "sed -i 's/ / x/' 000012ab-cortex-m4_x.said"));
    k = nsk_kept_open(inner, &model, "cortex-m4/x", &error);
    CU_ASSERT(!knows(k, 1, false) && !knows(k, 2, false));
    CU_ASSERT(runs(folder, "rm -r kept"));
    add(k, 4, true, false); /* its folder is gone */
    nsk_kept_close(k);
    k = nsk_kept_open(inner, &model, "cortex-m0", &error); /* another core has another file */
    CU_ASSERT(k != NULL && !knows(k, 1, false));
    nsk_kept_close(k);
    CU_ASSERT_PTR_NULL(nsk_kept_open("/proc/nowhere", &model, "any", &error));
    assert_error(&error, "/proc/nowhere: ");
    g_free(inner);
    scratch_remove(folder);
}

/* ---- in the place of estimates ---- */

static void a_budget_takes_what_was_measured(void) {
    kiln k;
    nsk_error error = {.text = ""};
    kiln_load(&k, 6);
    nsk_board *board = nsk_board_read("boards/trimmer.ini", &error);
    CU_ASSERT_PTR_NOT_NULL_FATAL(board);
    nsk_product product = k.brief->product;
    for (int twice = 0; twice < 2; twice++) {
        product.twice = twice == 1;
        nsk_budget *b = nsk_budget_make(k.file, board, &product, &k.brief->limits, &error);
        CU_ASSERT_PTR_NOT_NULL_FATAL(b);
        double *cycles = g_new(double, (gsize)b->layers + 1);
        double wanted = b->cycles;
        const double before = b->watchdog;
        for (int i = 0; i <= b->layers; i++) {
            const double was = i < b->layers ? b->layer[i].cycles : b->preparation.cycles;
            cycles[i] = 100000.0 * (i + 1);
            wanted += (1 + twice) * (cycles[i] - was);
        }
        nsk_budget_set_cycles(b, board, &product, cycles, "a clock");
        CU_ASSERT_DOUBLE_EQUAL(b->cycles, wanted, 1e-3);
        CU_ASSERT_DOUBLE_EQUAL(b->seconds, wanted / board->clock, 1e-9);
        CU_ASSERT(b->measured && b->timed && b->watchdog > before);
        CU_ASSERT_DOUBLE_EQUAL(b->limits[NSK_LIMIT_LATENCY].value, b->seconds, 1e-12);
        CU_ASSERT_EQUAL(b->limits[NSK_LIMIT_LATENCY].holds,
                        b->seconds <= b->limits[NSK_LIMIT_LATENCY].limit);
        CU_ASSERT_DOUBLE_EQUAL(b->joules, b->seconds * board->active_power, 1e-12);
        CU_ASSERT_STRING_EQUAL(b->cycle_source, "a clock");
        CU_ASSERT_DOUBLE_EQUAL(b->layer[3].cycles, 400000.0, 1e-9);
        g_free(cycles);
        nsk_budget_free(b);
    }
    nsk_board_free(board);
    kiln_free(&k);
}

CU_TestInfo on_board_tests[] = {
    {"frames are kept", frames_are_kept},
    {"a budget takes what was measured", a_budget_takes_what_was_measured},
    CU_TEST_INFO_NULL,
};
