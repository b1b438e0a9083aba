/* Budgets: the sums by hand, and the estimates against an emulated Cortex-M4. */
#include <math.h>
#include <stdio.h>
#include <string.h>

#include "../suites.h"
#include "../support.h"
#include "budget/costs.h"
#include "emulator.h"

static void costs_by_hand(void) {
    const nsk_kernel_cost cost = {
        .term = {100, 20, 0.5, 10, 2.5}, .cycles_each = 1.5, .branches_each = 0.1};
    const nsk_work work = {.calls = 1, .rows = 5, .moved = 200, .outputs = 40, .macs = 120};
    nsk_layer_cost c = nsk_kernel_cost_of(&cost, &work, 2);
    CU_ASSERT_DOUBLE_EQUAL(c.instructions, 1000, 1e-9);
    CU_ASSERT_DOUBLE_EQUAL(c.cycles, 1700, 1e-9);
}

static void the_tighter_limit_counts(void) {
    kiln k;
    nsk_error error = {.text = ""};
    kiln_load(&k, 6);
    nsk_board *board = nsk_board_read(k.brief->board, &error);
    CU_ASSERT_PTR_NOT_NULL_FATAL(board);
    const nsk_limits none = {INFINITY, INFINITY, INFINITY, INFINITY};
    nsk_budget *b = nsk_budget_make(k.file, board, &none, &error);
    CU_ASSERT_PTR_NOT_NULL_FATAL(b);
    CU_ASSERT_EQUAL(b->limits[0].limit, board->flash);
    CU_ASSERT_EQUAL(b->limits[1].limit, board->ram);
    CU_ASSERT_DOUBLE_EQUAL(b->limits[2].limit, 1.0 / board->frame_rate, 1e-12);
    CU_ASSERT(b->limits[0].holds && b->limits[1].holds && b->limits[2].holds);
    CU_ASSERT_EQUAL(b->flash_model, (double)k.file->size);
    CU_ASSERT_EQUAL(b->flash, b->flash_model + b->flash_code);
    CU_ASSERT_EQUAL(b->ram, b->ram_workspace + b->ram_frame + b->ram_stack);
    CU_ASSERT_EQUAL(b->ram_frame, 48 * 48 * 3);
    CU_ASSERT_DOUBLE_EQUAL(b->joules, board->active_power * b->seconds, 1e-12);
    double cycles = b->preparation.cycles;
    for (int i = 0; i < b->layers; i++) {
        cycles += b->layer[i].cycles;
    }
    CU_ASSERT_DOUBLE_EQUAL(cycles, b->cycles, 1.0);
    const nsk_limits tight = {b->flash - 1, b->ram, b->seconds * 0.99, INFINITY};
    nsk_budget *t = nsk_budget_make(k.file, board, &tight, &error);
    CU_ASSERT_PTR_NOT_NULL_FATAL(t);
    CU_ASSERT(!t->limits[0].holds && t->limits[1].holds && !t->limits[2].holds);
    nsk_budget_free(t);
    nsk_budget_free(b);
    nsk_board_free(board);
    kiln_free(&k);
}

static void tables_are_checked(void) {
    static const char *const tables[][2] = {
        {"[table]\nkernels = x\n", "'core' is missing"},
        {"[table]\ncore = cortex-m0\n", "the board's core is cortex-m4, its cost table is for"},
        {"[table]\ncore = cortex-m4\n", "no sizes under [code]"},
        {"[table]\ncore = cortex-m4\n[code]\na = 3 B\n", "'deepest' is missing"},
        {"[table]\ncore = cortex-m4\n[code]\na = 3 B\n[stack]\ndeepest = 9 B\n",
         "nothing on [conv]; `make costs` writes"},
    };
    kiln k;
    nsk_error error = {.text = ""};
    kiln_load(&k, 6);
    char *folder = scratch_new();
    char *path = scratch_path(folder, "costs.ini");
    nsk_board *board = nsk_board_read(k.brief->board, &error);
    CU_ASSERT_PTR_NOT_NULL_FATAL(board);
    g_free(board->costs);
    board->costs = path;
    for (size_t i = 0; i < G_N_ELEMENTS(tables); i++) {
        scratch_write_text(path, tables[i][0]);
        CU_ASSERT_PTR_NULL(nsk_budget_make(k.file, board, &k.brief->limits, &error));
        assert_error(&error, tables[i][1]);
    }
    nsk_board_free(board); /* and the path with it */
    scratch_remove(folder);
    kiln_free(&k);
}

/* Runs some frames of the held-out set on an emulated core; checks every score. */
static void run_emulated(const kiln *k, const char *core, int count, emulated_run *run) {
    char *folder = scratch_new();
    char *model_path = scratch_path(folder, "k.nsk");
    char *frames_path = scratch_path(folder, "frames");
    size_t size = nsk_images_frame_bytes(k->held_out);
    uint8_t *frames = g_malloc(size * (size_t)count);
    nsk_error error = {.text = ""};
    nsk_model model;
    for (int i = 0; i < count; i++) {
        int image = i * nsk_images_count(k->held_out) / count;
        CU_ASSERT(nsk_images_frame(k->held_out, image, frames + size * (size_t)i, &error));
    }
    CU_ASSERT(nsk_model_file_write(k->file, model_path, &error));
    scratch_write(frames_path, frames, size * (size_t)count);
    char *elf = g_strdup_printf("%s/%s/replay.elf", NSK_BARE_METAL, core);
    bool good = emulate(emulated_core_named(core), elf, model_path, frames_path, NULL, run, &error);
    g_free(elf);
    if (!good) {
        fprintf(stderr, "\n    %s\n", error.text);
    }
    CU_ASSERT_FATAL(good);
    CU_ASSERT_EQUAL(nsk_open(&model, k->file->bytes, k->file->size), NSK_OK);
    CU_ASSERT_EQUAL_FATAL((int)run->scores->len, count * model.classes);
    void *workspace = g_malloc(model.workspace_bytes);
    for (int i = 0; i < count; i++) {
        nsk_prepare(&model, frames + size * (size_t)i, (size_t)model.width * 3, workspace);
        nsk_run(&model, workspace, NULL);
        for (int c = 0; c < model.classes; c++) {
            CU_ASSERT_EQUAL(g_array_index(run->scores, int, i *model.classes + c),
                            nsk_scores(&model, workspace)[c]);
        }
    }
    g_free(workspace);
    g_free(frames);
    g_free(model_path);
    g_free(frames_path);
    scratch_remove(folder);
}

static void estimate_agrees(const kiln *k, const char *path) {
    nsk_error error = {.text = ""};
    emulated_run run;
    nsk_board *board = nsk_board_read(path, &error);
    CU_ASSERT_PTR_NOT_NULL_FATAL(board);
    nsk_budget *b = nsk_budget_make(k->file, board, &k->brief->limits, &error);
    CU_ASSERT_PTR_NOT_NULL_FATAL(b);
    run_emulated(k, board->core, 4, &run);
    double counted = run.prepare;
    double estimated = b->preparation.instructions;
    for (int i = 0; i < b->layers; i++) {
        counted += run.layer[i];
        estimated += b->layer[i].instructions;
    }
    CU_ASSERT_EQUAL(run.layers, b->layers);
    double bound = strcmp(board->core, "cortex-m4") == 0 ? 0.03 : 0.05;
    if (fabs(estimated / counted - 1.0) >= bound) {
        fprintf(stderr, "\n    %s: %.0f estimated, %.0f counted\n", board->core, estimated,
                counted);
    }
    CU_ASSERT(fabs(estimated / counted - 1.0) < bound);
    CU_ASSERT(run.stack <= b->ram_stack);
    nsk_budget_free(b);
    nsk_board_free(board);
    emulated_run_clear(&run);
}

/* On a board of each core. */
static void estimates_agree_with_emulated_cores(void) {
    static const char *const boards[] = {"loop",  "ribbon",   "trimmer", "bat",
                                         "stilt", "calliper", "paddle"};
    kiln k;
    kiln_load(&k, 200);
    for (size_t i = 0; i < G_N_ELEMENTS(boards); i++) {
        char *path = g_strdup_printf("%s/boards/%s.ini", NSK_SOURCE_DIR, boards[i]);
        estimate_agrees(&k, path);
        g_free(path);
    }
    kiln_free(&k);
}

CU_TestInfo budget_tests[] = {
    {"costs by hand", costs_by_hand},
    {"the tighter limit counts", the_tighter_limit_counts},
    {"cost tables are checked", tables_are_checked},
    {"emulated cores compute the same and cost what is estimated",
     estimates_agree_with_emulated_cores},
    CU_TEST_INFO_NULL,
};
