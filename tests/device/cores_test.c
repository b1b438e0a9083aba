/* Every emulated core against this machine: what each layer leaves in its output, byte for byte. */
#include <glib.h>
#include <math.h>
#include <stdio.h>
#include <stdlib.h>
#include <string.h>

#include "../network_text.h"
#include "../suites.h"
#include "../support.h"
#include "device/crc.h"
#include "device/format.h"
#include "device/layer.h"
#include "device/scratch.h"
#include "emulator.h"
#include "estimate/link_map.h"
#include "grid.h"
#include "netsuke/budget.h"
#include "netsuke/emit.h"
#include "networks.h"
#include "reference/reference.h"

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
        const uint8_t *at = r->workspace + t.offset + pixel * (uint32_t)t.pixel_stride;
        r->sum[layer] = nsk_crc32(r->sum[layer], at, (size_t)t.channels * t.element);
    }
}

static void run_here(const nsk_model *model, const uint8_t *frame, reference *r) {
    const nsk_observer observer = {NULL, note_layer, r};
    memset(r->sum, 0, sizeof r->sum);
    r->workspace = g_malloc0(model->workspace_bytes);
    nsk_prepare(model, frame, (size_t)model->width * model->channels, r->workspace);
    nsk_run(model, r->workspace, &observer);
    int32_t *expected = g_new(int32_t, model->classes);
    size_t bytes = model->classes * sizeof *expected;
    nsk_reference_scores(model, frame, expected);
    CU_ASSERT_EQUAL(memcmp(expected, nsk_scores(model, r->workspace), bytes), 0);
    g_free(expected);
    g_free(r->workspace);
}

/* Built without unaligned words, such as fault at one; Cortex-M0 has none. */
static const char *const aligned[] = {"cortex-m3", "cortex-m4", "cortex-m33", "cortex-m55"};

/* A model, what this machine computes of a frame, and the cores that are to agree; NULL: all, and
 * those without unaligned words. */
typedef struct candidate {
    nsk_model_file file;
    uint8_t *frame;
    reference here;
    int layers;
    const char *const *only;
    char *what;
} candidate;

/* Many of them, as starting an emulator takes longer than most models. */
typedef struct batch {
    char *folder;
    GArray *candidates;
} batch;

static batch batch_new(void) {
    return (batch){scratch_new(), g_array_new(FALSE, FALSE, sizeof(candidate))};
}

static const candidate *candidate_at(const batch *b, guint i) {
    return &g_array_index(b->candidates, candidate, i);
}

static void compare_run(const candidate *c, const emulated_run *run, const char *core,
                        const char *build) {
    bool same = run->layers == c->layers;
    for (int layer = 0; same && layer < run->layers; layer++) {
        same = run->sum[layer] == c->here.sum[layer];
    }
    if (!same) {
        fprintf(stderr, "\n    %s differs on %s%s\n", c->what, core, build);
    }
    CU_ASSERT(same);
}

/* All that `picked` lists by their place. */
static void compare_core(const batch *b, const emulated_core *core, const char *build,
                         const GArray *picked) {
    nsk_error error = {.text = ""};
    emulated_job *jobs = g_new0(emulated_job, picked->len + 1U);
    emulated_run *runs = g_new0(emulated_run, picked->len + 1U);
    char *elf = g_strdup_printf("%s/%s%s/replay.elf", NSK_BARE_METAL, core->name, build);
    const int count = (int)picked->len;
    for (int i = 0; i < count; i++) {
        const candidate *c = candidate_at(b, g_array_index(picked, guint, i));
        jobs[i] = (emulated_job){&c->file, c->frame};
    }
    int some = 1;
    for (int done = 0; done < count && some > 0; done += some) {
        some = emulate_some(core, elf, jobs + done, count - done, b->folder, NULL, runs, &error);
        assert_error(&error, "");
        CU_ASSERT(some > 0);
        for (int i = 0; i < some; i++) {
            compare_run(candidate_at(b, g_array_index(picked, guint, done + i)), &runs[i],
                        core->name, build);
            emulated_run_clear(&runs[i]);
        }
    }
    g_free(jobs);
    g_free(runs);
    g_free(elf);
}

/* Builds with Arm's own kernels refuse weights in blocks, as of a version that
 * they do not know. */
static bool reads(const emulated_core *core, const nsk_model_file *file) {
    return file->bytes[NSK_H_VERSION] != NSK_VERSION_BLOCKED ||
           !g_str_has_prefix(core->name, "cortex-") || strcmp(core->name, "cortex-m3") == 0;
}

static void refuse(const batch *b, const emulated_core *core, const candidate *c) {
    nsk_error error = {.text = ""};
    emulated_run run = {0};
    const emulated_job job = {&c->file, c->frame};
    char *elf = g_strdup_printf("%s/%s/replay.elf", NSK_BARE_METAL, core->name);
    CU_ASSERT_EQUAL(emulate_some(core, elf, &job, 1, b->folder, NULL, &run, &error), 0);
    CU_ASSERT_PTR_NOT_NULL(strstr(error.text, "of another version"));
    emulated_run_clear(&run);
    g_free(elf);
}

static bool is_asked(const candidate *c, const emulated_core *core) {
    return c->only == NULL || g_strv_contains(c->only, core->name);
}

/* Those of the candidates that a core is asked for and reads, every `every`th of them from `first`
 * on; `all`: that all cores are asked for. */
static GArray *pick(const batch *b, const emulated_core *core, bool all, guint first, guint every) {
    GArray *picked = g_array_new(FALSE, FALSE, sizeof(guint));
    guint turn = 0;
    for (guint i = 0; i < b->candidates->len; i++) {
        const candidate *c = candidate_at(b, i);
        if (is_asked(c, core) && (!all || c->only == NULL) && reads(core, &c->file) &&
            turn++ % every == first) {
            g_array_append_val(picked, i);
        }
    }
    return picked;
}

static void compare_picked(const batch *b, const emulated_core *core, const char *build,
                           GArray *picked) {
    compare_core(b, core, build, picked);
    g_array_free(picked, TRUE);
}

/* The same image on other processors: vectors of other lengths than those that costs are counted
 * with, one length for each model; without dot products. */
static void compare_others(const batch *b, const emulated_core *core) {
    static const char *const vectors[] = {"rv32,Zve32f=true,vext_spec=v1.0,vlen=64",
                                          "rv32,v=true,vext_spec=v1.0,vlen=256",
                                          "rv32,v=true,vext_spec=v1.0,vlen=512"};
    emulated_core other = *core;
    if (strcmp(core->name, "aarch64") == 0) {
        other.processor = "cortex-a53";
        compare_picked(b, &other, "", pick(b, core, false, 0, 1));
        return;
    }
    for (guint i = 0; i < G_N_ELEMENTS(vectors) && core->processor != NULL; i++) {
        other.processor = vectors[i];
        compare_picked(b, &other, "", pick(b, core, false, i, G_N_ELEMENTS(vectors)));
    }
}

/* Takes its own copy of the file. */
static void batch_add(batch *b, const nsk_model_file *file, const char *const *only,
                      const char *what) {
    nsk_model model;
    candidate c = {.file = *file, .only = only, .what = g_strdup(what)};
    c.file.bytes = g_memdup2(file->bytes, file->size);
    CU_ASSERT_EQUAL_FATAL(nsk_open(&model, c.file.bytes, c.file.size), NSK_STATUS_OK);
    const size_t size = (size_t)model.width * model.height * model.channels;
    c.layers = model.layers;
    c.frame = g_malloc(size);
    for (size_t i = 0; i < size; i++) {
        c.frame[i] = (uint8_t)(i * 73U % 253U);
    }
    run_here(&model, c.frame, &c.here);
    g_array_append_val(b->candidates, c);
}

/* Compares all of them on all cores, and frees them. */
static void batch_compare(batch *b) {
    for (int i = 0; i < emulated_core_count; i++) {
        const emulated_core *core = &emulated_cores[i];
        compare_picked(b, core, "", pick(b, core, false, 0, 1));
        compare_others(b, core);
        for (guint k = 0; k < b->candidates->len; k++) {
            const candidate *c = candidate_at(b, k);
            if (is_asked(c, core) && !reads(core, &c->file)) {
                refuse(b, core, c);
            }
        }
    }
    for (size_t i = 0; i < G_N_ELEMENTS(aligned); i++) {
        const emulated_core *core = emulated_core_named(aligned[i]);
        compare_picked(b, core, "-aligned", pick(b, core, true, 0, 1));
    }
    for (guint i = 0; i < b->candidates->len; i++) {
        const candidate *c = candidate_at(b, i);
        g_free(c->file.bytes);
        g_free(c->frame);
        g_free(c->what);
    }
    g_array_free(b->candidates, TRUE);
    scratch_remove(b->folder);
}

static void put32(uint8_t *at, uint32_t value) {
    for (int i = 0; i < 4; i++) {
        at[i] = (uint8_t)(value >> (8 * i));
    }
}

static void seal(nsk_model_file *file) {
    uint8_t *bytes = file->bytes;
    uint32_t crc = nsk_crc32(0, bytes, NSK_H_CRC);
    put32(bytes + NSK_H_CRC, nsk_crc32(crc, bytes + NSK_H_WORKSPACE, file->size - NSK_H_WORKSPACE));
}

/* Moves each scratch to the workspace's end, behind which the boards look. */
static void put_scratches_last(nsk_model_file *file) {
    nsk_model model;
    CU_ASSERT_EQUAL_FATAL(nsk_open(&model, file->bytes, file->size), NSK_STATUS_OK);
    uint8_t *bytes = file->bytes;
    uint64_t most = 0;
    for (unsigned i = 0; i < model.layers; i++) {
        nsk_layer l;
        nsk_layer_decode(&model, i, &l);
        most = MAX(most, nsk_layer_scratch(&l));
    }
    for (unsigned i = 0; i < model.layers; i++) {
        nsk_layer l;
        nsk_layer_decode(&model, i, &l);
        uint32_t own = (uint32_t)nsk_layer_scratch(&l);
        if (own > 0) {
            put32(bytes + nsk_load32(bytes + NSK_H_LAYERS_AT) + NSK_LAYER_BYTES * i +
                      NSK_L_SCRATCH_AT,
                  model.workspace_bytes + (uint32_t)most - own);
        }
    }
    put32(bytes + NSK_H_WORKSPACE, model.workspace_bytes + (uint32_t)most);
    seal(file);
}

/* A depthwise layer's channel 5 divides by more than most kernels have room for in 32 bits. */
static void put_large_shift(nsk_model_file *file) {
    enum { CHANNEL = 5, SHIFT = 24 };
    nsk_model model;
    CU_ASSERT_EQUAL(nsk_open(&model, file->bytes, file->size), NSK_STATUS_OK);
    for (unsigned i = 0; i < model.layers; i++) {
        nsk_layer l;
        nsk_layer_decode(&model, i, &l);
        if (l.kind == NSK_KIND_DEPTHWISE) {
            uint8_t *at = file->bytes + (l.requantise - file->bytes) + 4 * CHANNEL;
            put32(at, (nsk_load32(at) & ~(UINT32_C(31) << 4)) | (uint32_t)SHIFT << 4);
        }
    }
    seal(file);
}

/* Convolutions far out of the usual, dilated ones above all: no kernel takes more scratch than is
 * reserved, and all compute the same. */
static void scratches_suffice(void) {
    static const char *const layers[] = {
        "Conv x d_3_1_3_3 > a group=i3 dilations=l12,1 pads=l12,1,12,1",
        "Conv x d_3_1_3_3 > a group=i3 dilations=l40,1 pads=l40,1,40,1",
        "Conv x d_3_1_3_3 > a group=i3 dilations=l1,12 pads=l1,12,1,12",
        "Conv x d_3_1_3_3 > a group=i3 dilations=l5,5 pads=l5,5,5,5 strides=l2,2",
        "Conv x d_3_1_3_3 > a group=i3 strides=l1,2 pads=l0,2,2,0",
        "Conv x d_6_1_5_5 > a group=i3 dilations=l3,1 pads=l6,2,6,2",
        "Conv x d_3_1_1_7 > a group=i3 pads=l0,3,0,3",
        "Conv x d_3_1_7_1 > a group=i3 dilations=l9,1 pads=l27,0,27,0",
        "Conv x d_5_3_3_3 > a dilations=l9,4 pads=l9,4,9,4",
        "Conv x d_6_1_2_3 > a group=i3 strides=l3,1 pads=l1,2,0,2",
        "Conv x b_17_3_1_1 > b; Conv b d_17_1_3_3 > a group=i17 pads=l1,1,1,1",
        "Conv x b_17_3_1_1 > b; Conv b d_17_1_3_3 > a group=i17",
        "Conv x b_17_3_1_1 > b; Conv b d_17_1_3_3 > a group=i17 pads=l2,2,2,2",
        "Conv x b_17_3_1_1 > b; Conv b d_17_1_3_3 > a group=i17 pads=l0,0,1,1 strides=l2,2",
        "Conv x b_17_3_1_1 > b; Conv b d_17_1_3_3 > a group=i17 pads=l1,2,0,1 strides=l2,2",
        "Conv x b_34_3_1_1 > b; Conv b d_34_1_3_3 > a group=i34 dilations=l3,1 pads=l3,1,3,1",
    };
    batch b = batch_new();
    for (size_t i = 0; i < G_N_ELEMENTS(layers); i++) {
        noisy n;
        char *text = g_strdup_printf("%s; GlobalAveragePool a > g; Flatten g > z", layers[i]);
        int outputs = strstr(layers[i], "_17_") != NULL   ? 17
                      : strstr(layers[i], "_34_") != NULL ? 34
                      : strstr(layers[i], "d_6") != NULL  ? 6
                      : strstr(layers[i], "d_5") != NULL  ? 5
                                                          : 3;
        noisy_load(&n, text, outputs);
        if (outputs == 17 && i % 2 == 0) {
            put_large_shift(n.file);
        }
        put_scratches_last(n.file);
        batch_add(&b, n.file, NULL, layers[i]);
        noisy_free(&n);
        g_free(text);
    }
    batch_compare(&b);
}

/* In the orders that cores have of their own, where those are others: on all cores, or on those
 * whose order it is and one that reads it slowly. */
static void add_orders(batch *b, const nsk_model_file *file, bool everywhere, const char *what) {
    static const char *const pairs[] = {"cortex-m4", "cortex-m33", "cortex-m0", NULL};
    static const char *const blocks[] = {"rv32imac-zve32x", "rv32imac", NULL};
    static const struct {
        const char *core;
        const char *const *readers;
    } orders[] = {{"cortex-m4", pairs}, {"rv32imac-zve32x", blocks}};
    for (size_t i = 0; i < G_N_ELEMENTS(orders); i++) {
        nsk_model_file *ordered = nsk_model_file_for_core(file, orders[i].core);
        if (memcmp(ordered->bytes, file->bytes, file->size) != 0) {
            char *how = g_strdup_printf("%s, for %s", what, orders[i].core);
            batch_add(b, ordered, everywhere ? NULL : orders[i].readers, how);
            g_free(how);
        }
        nsk_model_file_free(ordered);
    }
}

static void add_shape(batch *b, const grid_shape *shape, bool clipped, const char *what) {
    nsk_error error = {.text = ""};
    nsk_model_file *file = grid_model(shape, clipped ? GRID_CLIPPED : GRID_PLAIN, &error);
    CU_ASSERT_PTR_NOT_NULL_FATAL(file);
    batch_add(b, file, NULL, what);
    add_orders(b, file, false, what);
    nsk_model_file_free(file);
}

/* Every third shape of the grid: all kinds of layer are among them. */
static void kinds_agree(void) {
    bool seen[NSK_KINDS] = {false};
    batch b = batch_new();
    for (int i = 0; i < grid_shape_count; i++) {
        const grid_shape *s = &grid_shapes[i];
        if (i % EVERY != 0 && seen[s->kind]) {
            continue;
        }
        char *what =
            g_strdup_printf("kind %d, %d x %d x %d to %d, kernel %d/%d", (int)s->kind, s->size,
                            s->size, s->in_channels, s->channels, s->kernel, s->stride);
        add_shape(&b, s, false, what);
        if (s->kind <= NSK_KIND_DENSE) {
            add_shape(&b, s, true, what);
        }
        seen[s->kind] = true;
        g_free(what);
    }
    for (int kind = 1; kind < NSK_KINDS; kind++) {
        CU_ASSERT(seen[kind]);
    }
    batch_compare(&b);
}

static void the_kiln_line_agrees(void) {
    kiln k;
    batch b = batch_new();
    kiln_load(&k, 60);
    batch_add(&b, k.file, NULL, "the kiln line");
    add_orders(&b, k.file, true, "the kiln line");
    nsk_error error = {.text = ""};
    nsk_recipe recipe;
    nsk_recipe_init(&recipe);
    recipe.bits = 4;
    nsk_model_file *packed = nsk_quantise(k.network, k.calibration, &recipe, &error);
    CU_ASSERT_PTR_NOT_NULL_FATAL(packed);
    batch_add(&b, packed, NULL, "the kiln line in 4 bits");
    add_orders(&b, packed, false, "the kiln line in 4 bits");
    nsk_model_file_free(packed);
    kiln_free(&k);
    batch_compare(&b);
}

/* Parts of concatenations, written side by side from odd bytes on. */
static void slices_agree(void) {
    noisy n;
    batch b = batch_new();
    noisy_load(&n,
               "Conv x w_7_3_3_3 b_7 > a pads=l1,1,1,1; Conv a u_9_7_1_1 > l; "
               "Conv a r_5_7_3_3 > m pads=l1,1,1,1; AveragePool a > p kernel_shape=l3,3 "
               "pads=l1,1,1,1; Conv x o_32_3_3_3 > q pads=l1,1,1,1; Relu q > e; "
               "Conv e d_32_1_3_3 > s group=i32 pads=l1,1,1,1; Concat l m p s > y axis=i1; "
               "GlobalAveragePool y > g; Flatten g > f; Gemm f h_5_53 c_5 > z transB=i1",
               5);
    batch_add(&b, n.file, NULL, "a concatenation");
    noisy_free(&n);
    batch_compare(&b);
}

/* The first layers row by row. */
static void streams_agree(void) {
    kiln k;
    nsk_error error = {.text = ""};
    nsk_recipe always;
    nsk_recipe_init(&always);
    batch b = batch_new();
    kiln_load(&k, 12);
    always.streaming = NSK_STREAMING_ALWAYS;
    nsk_model_file *file = nsk_quantise(k.network, k.calibration, &always, &error);
    assert_error(&error, "");
    CU_ASSERT_PTR_NOT_NULL_FATAL(file);
    batch_add(&b, file, NULL, "the kiln line, streamed");
    add_orders(&b, file, false, "the kiln line, streamed");
    nsk_model_file_free(file);
    kiln_free(&k);
    batch_compare(&b);
}

/* ---- what budgets say of them ---- */

static int by_size(const void *a, const void *b) {
    double x = *(const double *)a;
    double y = *(const double *)b;
    return (x > y) - (x < y);
}

/* A whole network's instructions: estimated over counted, less 1. */
static double estimate_apart(const char *folder, const emulated_core *core,
                             const nsk_model_file *plain, bool *within) {
    nsk_error error = {.text = ""};
    nsk_model_file *file = nsk_model_file_for_core(plain, core->name);
    nsk_model model;
    emulated_run run = {0};
    nsk_open(&model, file->bytes, file->size);
    char *table = g_strdup_printf("%s/costs/%s.ini", NSK_SOURCE_DIR, core->name);
    const nsk_board board = {.path = (char *)"b",
                             .name = (char *)"b",
                             .core = (char *)core->name,
                             .clock = 1e6,
                             .flash = 1e9,
                             .ram = 1e9,
                             .frame_rate = 1.0,
                             .active_power = -1.0,
                             .costs = table};
    nsk_limits none;
    nsk_limits_init(&none);
    nsk_budget *b = nsk_budget_make(file, &board, NULL, &none, &error);
    assert_error(&error, "");
    size_t size = (size_t)model.width * model.height * model.channels;
    uint8_t *frame = g_malloc0(size);
    char *model_path = scratch_path(folder, "n.nsk");
    char *frame_path = scratch_path(folder, "n.bin");
    char *elf = g_strdup_printf("%s/%s/replay.elf", NSK_BARE_METAL, core->name);
    CU_ASSERT(nsk_model_file_write(file, model_path, &error));
    scratch_write(frame_path, frame, size);
    CU_ASSERT(emulate(core, elf, model_path, frame_path, NULL, &run, &error));
    double counted = run.prepare;
    double estimated = b->preparation.instructions;
    for (int i = 0; i < run.layers; i++) {
        counted += run.layer[i];
        estimated += b->layer[i].instructions;
    }
    *within = fabs(estimated / counted - 1.0) <= b->seconds_high / b->seconds - 1.0;
    nsk_budget_free(b);
    emulated_run_clear(&run);
    char *const texts[] = {table, model_path, frame_path, elf};
    for (size_t i = 0; i < G_N_ELEMENTS(texts); i++) {
        g_free(texts[i]);
    }
    g_free(frame);
    nsk_model_file_free(file);
    return estimated / counted - 1.0;
}

/* Every other network of the study (`make study` has all): the median within 2 %, the worst within
 * 4 %, on each core. */
static void whole_networks_are_estimated(void) {
    char *folder = scratch_new();
    int all = 0;
    int covered = 0; /* by the interval that comes with the estimate */
    for (int c = 0; c < emulated_core_count; c++) {
        const emulated_core *core = &emulated_cores[c];
        double apart[32];
        int count = 0;
        for (int i = 0; i < cost_network_count && core->machine != NULL; i += 2) {
            nsk_error error = {.text = ""};
            nsk_model_file *file = cost_network_model(&cost_networks[i], &error);
            CU_ASSERT_PTR_NOT_NULL_FATAL(file);
            bool within;
            apart[count] = fabs(estimate_apart(folder, core, file, &within));
            covered += within;
            all++;
            if (apart[count] > 0.04) {
                fprintf(stderr, "\n    %s on %s: %.1f %%\n", cost_networks[i].name, core->name,
                        100.0 * apart[count]);
            }
            count++;
            nsk_model_file_free(file);
        }
        if (count > 0) {
            qsort(apart, (size_t)count, sizeof *apart, by_size);
            CU_ASSERT(apart[count / 2] <= 0.02);
            CU_ASSERT(apart[count - 1] <= 0.04);
        }
    }
    if (covered * 10 < all * 9) {
        fprintf(stderr, "\n    %d of %d within their intervals\n", covered, all);
    }
    CU_ASSERT(covered * 10 >= all * 9);
    scratch_remove(folder);
}

/* The number behind "loop-stack " in what the self-test prints. */
static double printed_stack(const char *text) {
    const char *at = strstr(text, "\nloop-stack ");
    return at != NULL ? g_ascii_strtod(at + strlen("\nloop-stack "), NULL) : -1.0;
}

/* The longest of all calls in slices took no more than it was to, or a tenth. */
static void check_slices(const char *text, const char *core) {
    const char *at = strstr(text, "\nslices ");
    CU_ASSERT_PTR_NOT_NULL_FATAL(at);
    char *rest;
    const double calls = strtod(at + strlen("\nslices "), &rest);
    const double most = strtod(rest, &rest);
    const double ticks = strtod(rest, &rest);
    const double longest = ticks * emulated_core_named(core)->instructions_per_tick;
    if (longest > 1.1 * most) {
        fprintf(stderr, "\n    %s: a slice of %.0f took %.0f\n", core, most, longest);
    }
    CU_ASSERT(calls >= 20.0);
    CU_ASSERT(longest <= 1.1 * most);
}

/* Of those that come along; NULL for a processor of a host. */
static nsk_board *board_for(const char *core) {
    static const char *const boards[][2] = {
        {"cortex-m0", "loop"},  {"cortex-m3", "ribbon"},    {"cortex-m4", "trimmer"},
        {"cortex-m7", "bat"},   {"cortex-m33", "stilt"},    {"cortex-m55", "calliper"},
        {"rv32imac", "paddle"}, {"rv32imac-zve32x", "rib"},
    };
    for (size_t i = 0; i < G_N_ELEMENTS(boards); i++) {
        if (strcmp(boards[i][0], core) == 0) {
            nsk_error error = {.text = ""};
            char *path = g_strdup_printf("%s/boards/%s.ini", NSK_SOURCE_DIR, boards[i][1]);
            nsk_board *board = nsk_board_read(path, &error);
            assert_error(&error, "");
            g_free(path);
            return board;
        }
    }
    return NULL;
}

/* A hand-over built for a core: every score is the host's. Beside its budget: every byte that the
 * linker placed of the runtime and the product's loop, of the model and of all memory that they ask
 * for, and the depth of the stack. */
static void compare_with_map(const nsk_model_file *file, const nsk_board *board,
                             const nsk_product *product, const char *handed) {
    const char *core = board->core;
    nsk_error error = {.text = ""};
    nsk_limits none;
    nsk_limits_init(&none);
    nsk_budget *b = nsk_budget_make(file, board, product, &none, &error);
    CU_ASSERT_PTR_NOT_NULL_FATAL(b);
    char *line = g_strdup_printf("env -u MAKEFLAGS make -s -C %s CORE=%s emulate", handed, core);
    char *map = g_strdup_printf("%s/build/%s.map", handed, core);
    char *out = NULL;
    CU_ASSERT(g_spawn_command_line_sync(line, &out, NULL, NULL, NULL));
    GArray *objects = nsk_link_map_read(map, &error);
    assert_error(&error, "");
    CU_ASSERT_PTR_NOT_NULL_FATAL(objects);
    double code = 0.0;
    double variables = 0.0;
    double model = 0.0;
    double memory = 0.0;
    for (guint i = 0; i < objects->len; i++) {
        const nsk_linked *one = &g_array_index(objects, nsk_linked, i);
        bool runtime = nsk_linked_is_runtime(one);
        code += runtime ? one->text : 0.0;
        variables += runtime ? one->data + one->bss : 0.0;
        model += strcmp(one->object, "kiln_model") == 0 ? one->text : 0.0;
        memory += strcmp(one->object, "self_test_data") == 0 ? one->bss : 0.0;
    }
    if (g_str_has_prefix(core, "rv32imac")) { /* its linker shortens calls by how far they go */
        double compiled;
        CU_ASSERT(fabs(code - b->flash_code) <= 64.0);
        CU_ASSERT(nsk_budget_compile(file, core, &compiled, &error));
        nsk_budget_set_code(b, compiled, "compiled");
    }
    bool same = code == b->flash_code && printed_stack(out) == b->ram_stack;
    if (!same) {
        fprintf(stderr, "\n    %s: code %.0f, %.0f linked; stack %.0f, %.0f painted\n", core,
                b->flash_code, code, b->ram_stack, printed_stack(out));
    }
    CU_ASSERT_PTR_NOT_NULL(strstr(out, "\npassed\n"));
    check_slices(out, core);
    CU_ASSERT_EQUAL(code, b->flash_code);
    CU_ASSERT_EQUAL(variables, 0.0);
    /* what rows cost is beside it, for runs in slices */
    CU_ASSERT_EQUAL(model, b->flash_model + 4.0 * b->layers);
    CU_ASSERT_EQUAL(memory, b->ram_workspace + b->ram_frame + b->ram_camera);
    CU_ASSERT_EQUAL(printed_stack(out), b->ram_stack);
    nsk_link_map_free(objects);
    nsk_budget_free(b);
    char *const texts[] = {line, map, out};
    for (size_t i = 0; i < G_N_ELEMENTS(texts); i++) {
        g_free(texts[i]);
    }
}

/* The kiln line's network with a product around it, on a core that has a board. */
static void hold_to_the_byte(const kiln *k, const emulated_core *core, const nsk_images *few,
                             const nsk_product *product, const char *handed) {
    nsk_error error = {.text = ""};
    nsk_board *board = board_for(core->name);
    const nsk_handed_network network = {.name = "kiln",
                                        .model = k->file,
                                        .board = board,
                                        .tried = few,
                                        .product = product,
                                        .decision = &k->brief->decision};
    char **files = nsk_emit(&network, 1, handed, &error);
    assert_error(&error, "");
    CU_ASSERT_PTR_NOT_NULL_FATAL(files);
    CU_ASSERT_EQUAL(board != NULL, core->machine != NULL);
    if (board != NULL) {
        compare_with_map(k->file, board, product, handed);
    }
    g_strfreev(files);
    nsk_board_free(board);
}

static void budgets_hold_to_the_byte(void) {
    kiln k;
    nsk_error error = {.text = ""};
    kiln_load(&k, 6);
    char *folder = scratch_new();
    char *handed = scratch_path(folder, "handed");
    nsk_images *few =
        nsk_images_open(k.brief->held_out, &k.brief->labels, &k.brief->input, 6, false, &error);
    CU_ASSERT_PTR_NOT_NULL_FATAL(few);
    for (int c = 0; c < emulated_core_count; c++) {
        hold_to_the_byte(&k, &emulated_cores[c], few, &k.brief->product, handed);
    }
    nsk_product senses = k.brief->product; /* its lines in RAM, and the code that reads them */
    senses.sensor = (nsk_sensor){.format = NSK_SENSOR_GRBG, .width = 60, .height = 56, .top = 3};
    hold_to_the_byte(&k, emulated_core_named("cortex-m4"), few, &senses, handed);
    nsk_images_free(few);
    g_free(handed);
    scratch_remove(folder);
    kiln_free(&k);
}

static void maps_are_read(void) {
    static const char text[] =
        "Archive member included\n\nLinker script and memory map\n\n"
        ".text           0x00000000      0x300\n *(.vectors)\n .vectors       0x00000000       "
        "0x40 b/start.o\n .text.a.long.name.indeed\n                0x00000040       0x10 "
        "b/nsk_a.o\n                0x00000040                a\n .rodata.a      0x00000050        "
        "0x8 b/nsk_a.o\n *fill*         0x00000058        0x8 \n .text.memcpy   0x00000060       "
        "0x24 /lib/libc.a(memcpy.o)\n\n.data           0x20000000        0x4\n .data.v        "
        "0x20000000        0x4 b/nsk_a.o\n\n.bss            0x20000004       0x10\n .bss.w         "
        "0x20000004       0x10 b/nsk_b.o\n\n.debug_line     0x00000000       0x99\n .debug_line    "
        "0x00000000       0x99 b/nsk_b.o\n";
    nsk_error error = {.text = ""};
    char *folder = scratch_new();
    char *path = scratch_path(folder, "a.map");
    scratch_write_text(path, text);
    GArray *objects = nsk_link_map_read(path, &error);
    CU_ASSERT_PTR_NOT_NULL_FATAL(objects);
    for (guint i = 0; i < objects->len; i++) {
        const nsk_linked *one = &g_array_index(objects, nsk_linked, i);
        if (strcmp(one->object, "nsk_a") == 0) {
            CU_ASSERT(one->text == 24.0 && one->data == 4.0 && one->bss == 0.0);
        } else if (strcmp(one->object, "nsk_b") == 0) {
            CU_ASSERT(one->text == 0.0 && one->data == 0.0 && one->bss == 16.0);
        }
    }
    CU_ASSERT_EQUAL(objects->len, 4);
    nsk_link_map_free(objects);
    scratch_write_text(path, "no map\n");
    CU_ASSERT_PTR_NULL(nsk_link_map_read(path, &error));
    assert_error(&error, "a.map: not a linker's map");
    g_free(path);
    scratch_remove(folder);
}

CU_TestInfo core_tests[] = {
    {"every kind of layer agrees on every core", kinds_agree},
    {"no kernel takes more scratch than it has", scratches_suffice},
    {"the kiln line agrees on every core", the_kiln_line_agrees},
    {"so it does where it is streamed", streams_agree},
    {"parts of concatenations agree on every core", slices_agree},
    {"whole networks are estimated", whole_networks_are_estimated},
    {"linkers' maps are read", maps_are_read},
    {"budgets hold to the byte", budgets_hold_to_the_byte},
    CU_TEST_INFO_NULL,
};
