/* Every emulated core against this machine: what each layer leaves in its output, byte for byte. */
#include <glib.h>
#include <stdio.h>
#include <string.h>

#include "../network_text.h"
#include "../suites.h"
#include "device/crc.h"
#include "emulator.h"
#include "grid.h"

enum { MOST_LAYERS = 256, EVERY = 3 };

/* What this machine computes. */
typedef struct reference {
    uint8_t *workspace;
    uint32_t sum[MOST_LAYERS];
} reference;

static void note_layer(void *context, const nsk_model *model, unsigned layer) {
    reference *r = context;
    nsk_tensor t = nsk_tensor_at(model, nsk_layer_output(model, layer));
    if (layer < model->streamed) {
        return; /* of which only some rows are there */
    }
    for (uint32_t pixel = 0; pixel < (uint32_t)t.height * t.width; pixel++) {
        r->sum[layer] =
            nsk_crc32(r->sum[layer], r->workspace + t.place + pixel * t.step, t.channels);
    }
}

static void run_here(const nsk_model *model, const uint8_t *frame, reference *r) {
    const nsk_observer observer = {NULL, note_layer, r};
    memset(r->sum, 0, sizeof r->sum);
    r->workspace = g_malloc0(model->workspace_bytes);
    nsk_prepare(model, frame, (size_t)model->width * model->channels, r->workspace);
    nsk_run(model, r->workspace, &observer);
    g_free(r->workspace);
}

static void compare_cores(const char *folder, const nsk_model_file *file, const char *what) {
    nsk_error error = {.text = ""};
    nsk_model model;
    reference r;
    CU_ASSERT_EQUAL_FATAL(nsk_open(&model, file->bytes, file->size), NSK_OK);
    size_t size = (size_t)model.width * model.height * model.channels;
    uint8_t *frame = g_malloc(size);
    for (size_t i = 0; i < size; i++) {
        frame[i] = (uint8_t)(i * 73U % 253U);
    }
    run_here(&model, frame, &r);
    char *model_path = scratch_path(folder, "m.nsk");
    char *frame_path = scratch_path(folder, "f.bin");
    CU_ASSERT(nsk_model_file_write(file, model_path, &error));
    scratch_write(frame_path, frame, size);
    for (int i = 0; i < emulated_core_count; i++) {
        emulated_run run;
        char *elf = g_strdup_printf("%s/%s/replay.elf", NSK_BARE_METAL, emulated_cores[i].name);
        bool good = emulate(&emulated_cores[i], elf, model_path, frame_path, NULL, &run, &error);
        assert_error(&error, "");
        bool same = good && run.layers == model.layers;
        for (int layer = 0; same && layer < run.layers; layer++) {
            same = run.sum[layer] == r.sum[layer];
        }
        if (!same) {
            fprintf(stderr, "\n    %s differs on %s\n", what, emulated_cores[i].name);
        }
        CU_ASSERT(same);
        emulated_run_clear(&run);
        g_free(elf);
    }
    g_free(model_path);
    g_free(frame_path);
    g_free(frame);
}

static void compare_shape(const char *folder, const grid_shape *shape, bool clipped,
                          const char *what) {
    nsk_error error = {.text = ""};
    nsk_model_file *file = grid_model(shape, clipped ? GRID_CLIPPED : GRID_PLAIN, &error);
    CU_ASSERT_PTR_NOT_NULL_FATAL(file);
    compare_cores(folder, file, what);
    nsk_model_file_free(file);
}

/* Every third shape of the grid: all kinds of layer are among them. */
static void kinds_agree(void) {
    bool seen[NSK_KINDS] = {false};
    char *folder = scratch_new();
    for (int i = 0; i < grid_shape_count; i++) {
        const grid_shape *s = &grid_shapes[i];
        if (i % EVERY != 0 && seen[s->kind]) {
            continue;
        }
        char *what =
            g_strdup_printf("kind %d, %d x %d x %d to %d, kernel %d/%d", (int)s->kind, s->size,
                            s->size, s->in_channels, s->channels, s->kernel, s->stride);
        compare_shape(folder, s, false, what);
        if (s->kind <= NSK_DENSE) {
            compare_shape(folder, s, true, what);
        }
        seen[s->kind] = true;
        g_free(what);
    }
    for (int kind = 1; kind < NSK_KINDS; kind++) {
        CU_ASSERT(seen[kind]);
    }
    scratch_remove(folder);
}

static void the_kiln_line_agrees(void) {
    kiln k;
    char *folder = scratch_new();
    kiln_load(&k, 60);
    compare_cores(folder, k.file, "the kiln line");
    kiln_free(&k);
    scratch_remove(folder);
}

/* Parts of concatenations, written side by side from odd bytes on. */
static void slices_agree(void) {
    noisy n;
    noisy_load(&n,
               "Conv x w_7_3_3_3 b_7 > a pads=l1,1,1,1; Conv a u_9_7_1_1 > l; "
               "Conv a r_5_7_3_3 > m pads=l1,1,1,1; AveragePool a > p kernel_shape=l3,3 "
               "pads=l1,1,1,1; Conv x o_32_3_3_3 > q pads=l1,1,1,1; Relu q > e; "
               "Conv e d_32_1_3_3 > s group=i32 pads=l1,1,1,1; Concat l m p s > y axis=i1; "
               "GlobalAveragePool y > g; Flatten g > f; Gemm f h_5_53 c_5 > z transB=i1",
               5);
    compare_cores(n.folder, n.file, "a concatenation");
    noisy_free(&n);
}

/* The first layers row by row. */
static void streams_agree(void) {
    kiln k;
    nsk_error error = {.text = ""};
    nsk_recipe always = nsk_usual_recipe;
    char *folder = scratch_new();
    kiln_load(&k, 12);
    always.streaming = NSK_STREAM_ALWAYS;
    nsk_model_file *file = nsk_quantise(k.network, k.calibration, &always, &error);
    assert_error(&error, "");
    CU_ASSERT_PTR_NOT_NULL_FATAL(file);
    compare_cores(folder, file, "the kiln line, streamed");
    nsk_model_file_free(file);
    kiln_free(&k);
    scratch_remove(folder);
}

CU_TestInfo core_tests[] = {
    {"every kind of layer agrees on every core", kinds_agree},
    {"the kiln line agrees on every core", the_kiln_line_agrees},
    {"so it does where it is streamed", streams_agree},
    {"parts of concatenations agree on every core", slices_agree},
    CU_TEST_INFO_NULL,
};
