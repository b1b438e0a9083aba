/* Runs in slices: the same bytes as in one go, whatever a slice may cost, and no slice above that.
 */
#include <stdlib.h>
#include <string.h>

#include "../suites.h"
#include "../support.h"
#include "base/random.h"
#include "device/firmware/slices.h"
#include "device/layer.h"
#include "grid.h"
#include "netsuke/budget.h"

enum { MOST_LAYERS = 128 };

static uint8_t *draw_frame(const nsk_model *model, random_state *r) {
    size_t size = (size_t)model->width * model->height * model->channels;
    uint8_t *frame = g_malloc(size);
    for (size_t i = 0; i < size; i++) {
        frame[i] = (uint8_t)random_below(r, 256);
    }
    return frame;
}

static void begin(const nsk_model *model, const uint8_t *frame, void *workspace) {
    memset(workspace, 0x5a, model->workspace_bytes);
    nsk_prepare(model, frame, (size_t)model->width * model->channels, workspace);
}

static void begin_layer(void *context, const nsk_model *model, unsigned layer) {
    unsigned *counted = context;
    CU_ASSERT_EQUAL(layer, counted[0]);
    CU_ASSERT_EQUAL(counted[0], counted[1]);
    (void)model;
    counted[0]++;
}

static void end_layer(void *context, const nsk_model *model, unsigned layer) {
    unsigned *counted = context;
    CU_ASSERT_EQUAL(layer, counted[1]);
    (void)model;
    counted[1]++;
}

/* How much ran between two places, in rows' costs. */
static uint64_t cost_between(const nsk_model *model, const uint32_t *costs, nsk_slices from,
                             nsk_slices to) {
    uint64_t sum = 0;
    for (unsigned i = from.layer; i <= to.layer && i < model->layers; i++) {
        nsk_layer l;
        nsk_layer_decode(model, i, &l);
        const int32_t first = i == from.layer ? from.row : 0;
        const int32_t end = i == to.layer ? to.row : nsk_slice_rows(&l);
        sum += (uint64_t)(end - first) * costs[i];
    }
    return sum;
}

/* One run in slices of at most `most`. */
static int run_in_slices(const nsk_model *model, void *workspace, const uint32_t *costs,
                         uint32_t most) {
    unsigned counted[2] = {model->streamed, model->streamed}; /* begun; done */
    const nsk_observer observer = {begin_layer, end_layer, counted};
    nsk_slices at;
    int slices = 0;
    nsk_slices_start(&at, model);
    for (bool all = false; !all; slices++) {
        const nsk_slices from = at;
        all = nsk_run_some(model, workspace, &at, costs, most, &observer);
        CU_ASSERT_EQUAL(all, at.layer == model->layers);
        const uint32_t first = costs[from.layer]; /* runs, whatever it costs */
        CU_ASSERT(cost_between(model, costs, from, at) <= (first > most ? first : most));
    }
    CU_ASSERT_EQUAL(counted[0], model->layers);
    CU_ASSERT_EQUAL(counted[1], model->layers);
    return slices;
}

static void compare(const nsk_model_file *file, random_state *r) {
    nsk_model model;
    uint32_t costs[MOST_LAYERS];
    CU_ASSERT_EQUAL_FATAL(nsk_open(&model, file->bytes, file->size), NSK_STATUS_OK);
    CU_ASSERT_FATAL(model.layers <= MOST_LAYERS);
    uint8_t *frame = draw_frame(&model, r);
    void *workspace = g_malloc(model.workspace_bytes);
    size_t bytes = sizeof(int32_t) * model.classes;
    int32_t *expected = g_malloc(bytes);
    begin(&model, frame, workspace);
    nsk_run(&model, workspace, NULL);
    memcpy(expected, nsk_scores(&model, workspace), bytes);
    for (int way = 0; way < 4; way++) {
        for (unsigned i = 0; i < model.layers; i++) {
            costs[i] = way == 0 ? 1U : (uint32_t)random_below(r, 1000);
        }
        const uint32_t most = way == 0 ? 1U : way == 1 ? 0U : (uint32_t)random_below(r, 5000);
        begin(&model, frame, workspace);
        run_in_slices(&model, workspace, costs, most);
        CU_ASSERT_EQUAL(memcmp(expected, nsk_scores(&model, workspace), bytes), 0);
    }
    g_free(expected);
    g_free(workspace);
    g_free(frame);
}

/* All kinds of layer, whole and over their inputs, and with streamed layers before them. */
static void every_kind_runs_in_slices(void) {
    random_state r = {71};
    for (int i = 0; i < grid_shape_count; i++) {
        for (int way = 0; way < GRID_WAYS; way++) {
            nsk_error error = {.text = ""};
            if (way == GRID_STREAMED && (i % 4 != 0 || grid_shapes[i].kind != NSK_KIND_CONV)) {
                continue;
            }
            nsk_model_file *file = grid_model(&grid_shapes[i], (grid_way)way, &error);
            CU_ASSERT_PTR_NOT_NULL_FATAL(file);
            compare(file, &r);
            nsk_model_file_free(file);
        }
    }
}

/* By the board's own table: many slices, and in one where all fit. */
static void the_kiln_line_runs_in_slices(void) {
    kiln k;
    random_state r = {72};
    nsk_error error = {.text = ""};
    nsk_model model;
    uint32_t costs[MOST_LAYERS];
    kiln_load(&k, 12);
    nsk_board *board = nsk_board_read(k.brief->board, &error);
    assert_error(&error, "");
    compare(k.file, &r);
    CU_ASSERT(nsk_row_costs(k.file, board, costs, &error));
    nsk_open(&model, k.file->bytes, k.file->size);
    uint8_t *frame = draw_frame(&model, &r);
    void *workspace = g_malloc(model.workspace_bytes);
    begin(&model, frame, workspace);
    CU_ASSERT_EQUAL(run_in_slices(&model, workspace, costs, UINT32_MAX), 1);
    begin(&model, frame, workspace);
    CU_ASSERT(run_in_slices(&model, workspace, costs, 100000) > 20);
    CU_ASSERT(nsk_row_costs(k.file, NULL, costs, &error));
    /* multiply-accumulates of a row in the middle: three rows of 24 windows, one column outside */
    CU_ASSERT_EQUAL(costs[0], 3 * (24 * 3 - 1) * 3 * 16);
    g_free(workspace);
    g_free(frame);
    nsk_board_free(board);
    kiln_free(&k);
}

CU_TestInfo slices_tests[] = {
    {"every kind runs in slices", every_kind_runs_in_slices},
    {"the kiln line runs in slices", the_kiln_line_runs_in_slices},
    CU_TEST_INFO_NULL,
};
