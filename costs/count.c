/* count: makes a core's cost table from runs on an emulated core.
 *
 *     cost-count CORE BUILT-DIR trace.so costs/CORE.ini
 *
 * BUILT-DIR is where ports/bare-metal was built for the core.
 *
 * Instructions: for each kind of layer, a sum of what nsk_work counts of it, each with its factor,
 * is fitted to counts over a grid of shapes, least squares on relative errors, no factor below
 * zero.
 * Cycles: which instructions the shapes of a kind executed, by the core's published timings. Code:
 * the sizes of the compiled files. Stack: the deepest use in any of the runs.
 */
#include <glib/gstdio.h>
#include <math.h>
#include <stdio.h>
#include <stdlib.h>
#include <string.h>
#include <unistd.h>

#include "cycles.h"
#include "device/layer.h"
#include "device/stream.h"
#include "emulator.h"
#include "estimate/cost_kind.h"
#include "estimate/costs.h"
#include "fit.h"
#include "grid.h"
#include "handed.h"
#include "pipeline.h"

typedef struct kind_cost {
    const char *kind;
    const char *sources; /* of src/device: names without suffix, parted by blanks */
    cost_fit fit;
    cycle_mix mix;
} kind_cost;

typedef struct study {
    const emulated_core *core;
    const core_timings *timings;
    char *elf;
    char *folder, *counts, *steps, *trace, *plugin;
    cost_points points;
    kind_cost *kinds; /* nsk_cost_kind_count of them */
    GHashTable *deep; /* where to bytes of stack */
} study;

static void add_point(study *s, const char *kind, const nsk_work *work, double count) {
    if (!cost_points_add(&s->points, kind, work, count)) {
        fprintf(stderr, "cost-count: more than %d points; raise COST_MOST_POINTS\n",
                COST_MOST_POINTS);
        exit(2);
    }
}

/* How a shape's layers run, and the core in whose order weights stand; NULL: as they are. */
typedef struct manner {
    grid_way way;
    const char *order;
} manner;

static const char in_pairs[] = "cortex-m4";
static const char in_blocks[] = "rv32imac-zve32x";

/* A shape, as it is run. */
typedef struct tried {
    int shape;
    manner how;
    int layers; /* that give points, from the tested one on */
    nsk_model_file *file;
    uint8_t *frame;
    emulated_run run;
} tried;

static bool add_tried(GArray *all, int shape, manner how, int layers, nsk_error *error) {
    nsk_model_file *plain = grid_model(&grid_shapes[shape], how.way, error);
    tried t = {.shape = shape, .how = how, .layers = layers, .file = plain};
    nsk_model model;
    if (plain == NULL) {
        return false;
    }
    if (how.order != NULL) {
        t.file = nsk_model_file_for_core(plain, how.order);
        nsk_model_file_free(plain);
    }
    nsk_open(&model, t.file->bytes, t.file->size);
    const size_t size = (size_t)model.width * model.height * model.channels;
    t.frame = g_malloc(size);
    for (size_t i = 0; i < size; i++) {
        t.frame[i] = (uint8_t)(i * 37U % 251U);
    }
    g_array_append_val(all, t);
    /* cppcheck-suppress memleak; the array holds what it points to */
    return true;
}

static GArray *tried_new(void) {
    return g_array_new(FALSE, TRUE, sizeof(tried));
}

static tried *tried_at(const GArray *all, int index) {
    return &g_array_index(all, tried, index);
}

static void tried_free(GArray *all) {
    for (int i = 0; i < (int)all->len; i++) {
        tried *t = tried_at(all, i);
        emulated_run_clear(&t->run);
        nsk_model_file_free(t->file);
        g_free(t->frame);
    }
    g_array_free(all, TRUE);
}

/* Runs those from `first` on that fit into one start of the emulator; how many, or 0. */
static int run_some(const study *s, const GArray *all, int first, const char *plugin,
                    nsk_error *error) {
    const int count = (int)all->len - first;
    emulated_job *jobs = g_new(emulated_job, count);
    emulated_run *runs = g_new0(emulated_run, count);
    for (int i = 0; i < count; i++) {
        const tried *t = tried_at(all, first + i);
        jobs[i] = (emulated_job){t->file, t->frame};
    }
    const int some = emulate_some(s->core, s->elf, jobs, count, s->folder, plugin, runs, error);
    for (int i = 0; i < some; i++) {
        tried_at(all, first + i)->run = runs[i];
    }
    g_free(jobs);
    g_free(runs);
    return some;
}

/* Depths by "group kind". */
static void note_depth(study *s, const char *group, const char *kind, double bytes) {
    char *key = g_strdup_printf("%s %s", group, kind);
    const double *had = g_hash_table_lookup(s->deep, key);
    double *now = g_new(double, 1);
    *now = fmax(bytes, had != NULL ? *had : 0.0);
    g_hash_table_insert(s->deep, key, now);
}

/* Layers' stack; those that should be written over their input may not be. */
static void note_depths(study *s, const nsk_model *model, const emulated_run *run) {
    char kind[NSK_DEPTH_KIND];
    for (unsigned i = 0; i < (unsigned)run->layers; i++) {
        note_depth(s, nsk_depth_group(model, i), nsk_depth_kind(model, i, kind), run->deep[i]);
    }
    if (model->streamed == 0) {
        note_depth(s, "stack", "prepare", run->prepare_deep);
    }
}

/* What the camera's pictures and the model's bytes take. */
static void add_around(study *s, const nsk_model *model, const emulated_run *run) {
    for (int i = 0; i < run->scaled; i++) {
        const emulated_around *a = &run->scale[i];
        nsk_model its = *model;
        its.resample = (nsk_resample)a->way;
        nsk_work work = nsk_scaling_work(&its, (unsigned)a->width, (unsigned)a->height);
        add_point(s, nsk_scaling_group(&its), &work, a->instructions);
    }
    for (int i = 0; i < run->looked; i++) {
        const emulated_around *a = &run->frame_check[i];
        nsk_work work = nsk_frame_check_work(model, (unsigned)a->width, (unsigned)a->height);
        add_point(s, "frame-check", &work, a->instructions);
    }
    const nsk_work check = {.calls = 1, .moved = model->size};
    add_point(s, "check", &check, run->check);
}

/* Adds points of a shape's layers from the tested one on, and of what is around them. `prepare`:
 * what its run as a whole counted outside of layers, which this sets or takes from what a streamed
 * one counted. */
static void count_tried(study *s, const tried *t, double *prepare) {
    nsk_model model;
    const emulated_run *run = &t->run;
    nsk_open(&model, t->file->bytes, t->file->size);
    for (int i = GRID_TESTED_LAYER; i < MIN(run->layers, GRID_TESTED_LAYER + t->layers); i++) {
        nsk_work work = nsk_layer_work(&model, (unsigned)i);
        add_point(s, nsk_cost_kind(&model, (unsigned)i), &work, run->layer[i]);
    }
    note_depths(s, &model, run);
    if (t->how.order != NULL) {
        return;
    }
    if (t->how.way == GRID_PLAIN) {
        const nsk_work frame = {.calls = 1,
                                .outputs = (uint64_t)model.width * model.height * model.channels,
                                .rows = model.height};
        *prepare = run->prepare;
        add_point(s, "prepare", &frame, run->prepare);
        add_around(s, &model, run);
    } else if (t->how.way == GRID_STREAMED) {
        const nsk_work stream = nsk_stream_work(&model);
        add_point(s, "stream", &stream, run->prepare - *prepare);
    }
}

/* Whole, and, where the kind of layer can, a row at a time and over its input. */
static bool add_order(GArray *all, int index, const char *order, nsk_error *error) {
    enum { ALL = 64 };
    const nsk_kind kind = grid_shapes[index].kind;
    const manner plainly = {GRID_PLAIN, order};
    const manner row_by_row = {GRID_STREAMED, order};
    const manner over_input = {GRID_OVER, order};
    return add_tried(all, index, plainly, order != NULL ? 1 : ALL, error) &&
           (!nsk_kind_is_streamed(kind) || add_tried(all, index, row_by_row, 1, error)) &&
           (!nsk_kind_has_window(kind) || add_tried(all, index, over_input, 1, error));
}

/* Every core reads pairs; blocks, that whose order it is. */
static bool reads(const study *s, const char *order) {
    return order != in_blocks || strcmp(s->core->name, in_blocks) == 0;
}

static bool add_shape(const study *s, GArray *all, int index, nsk_error *error) {
    const char *const orders[] = {NULL, in_pairs, in_blocks};
    const bool ordered = nsk_kind_unpacked(grid_shapes[index].kind) == NSK_KIND_CONV;
    for (size_t i = 0; i < (ordered ? G_N_ELEMENTS(orders) : 1); i++) {
        if (reads(s, orders[i]) && !add_order(all, index, orders[i], error)) {
            return false;
        }
    }
    return true;
}

static bool count_shapes(study *s, nsk_error *error) {
    GArray *all = tried_new();
    bool good = true;
    for (int i = 0; i < grid_shape_count && good; i++) {
        good = add_shape(s, all, i, error);
    }
    int some = 0;
    for (int done = 0; good && done < (int)all->len; done += some) {
        some = run_some(s, all, done, NULL, error);
        good = some > 0;
        if (isatty(STDERR_FILENO)) {
            fprintf(stderr, "\r%d of %d models run", done + some, (int)all->len);
        }
    }
    double prepare = 0.0;
    for (int i = 0; i < (int)all->len && good; i++) {
        count_tried(s, tried_at(all, i), &prepare);
    }
    tried_free(all);
    return good;
}

/* Of a kind whose weights are packed, the one that it is besides, which has been fitted before;
 * else NULL. */
static const cost_fit *base_of(const study *s, const char *kind) {
    static const char suffix[] = "-packed";
    const size_t length = strlen(kind) - (g_str_has_suffix(kind, suffix) ? strlen(suffix) : 0);
    for (int i = 0; kind[length] != '\0' && s->kinds[i].kind != NULL; i++) {
        const char *other = s->kinds[i].kind;
        if (strlen(other) == length && strncmp(other, kind, length) == 0) {
            return &s->kinds[i].fit;
        }
    }
    return NULL;
}

static const char *order_of(const char *kind) {
    return strstr(kind, "-paired") != NULL    ? in_pairs
           : strstr(kind, "-blocked") != NULL ? in_blocks
                                              : NULL;
}

/* What is around layers is in any shape, streams in those of convolutions. */
static bool shows(const nsk_model *model, const char *kind) {
    static const char *const everywhere[] = {"prepare",
                                             "stream",
                                             "scale",
                                             "scale-bilinear",
                                             "scale-smooth-bilinear",
                                             "scale-nearest",
                                             "frame-check",
                                             "check",
                                             NULL};
    bool any = g_strv_contains(everywhere, kind) != FALSE;
    return strcmp(nsk_cost_kind(model, GRID_TESTED_LAYER), any ? "conv" : kind) == 0;
}

/* Adds a shape where it shows the kind. */
static bool add_shown(GArray *all, int index, const char *kind, nsk_error *error) {
    const manner how = {strcmp(kind, "stream") == 0 ? GRID_STREAMED : GRID_PLAIN, order_of(kind)};
    if (how.way == GRID_STREAMED && !nsk_kind_is_streamed(grid_shapes[index].kind)) {
        return true;
    }
    const guint before = all->len;
    nsk_model model;
    if (!add_tried(all, index, how, 1, error)) {
        return false;
    }
    const tried *t = tried_at(all, (int)before);
    nsk_open(&model, t->file->bytes, t->file->size);
    if (!shows(&model, kind)) {
        nsk_model_file_free(t->file);
        g_free(t->frame);
        g_array_set_size(all, before);
    }
    return true;
}

static bool trace_kind(const study *s, const cycle_image *image, kind_cost *k, nsk_error *error) {
    GArray *all = tried_new();
    bool good = true;
    for (int i = 0; i < grid_shape_count && good; i++) {
        good = add_shown(all, i, k->kind, error);
    }
    int some = 0;
    for (int done = 0; good && done < (int)all->len; done += some) {
        some = run_some(s, all, done, s->plugin, error);
        good = some > 0 && cycle_mix_add(image, s->counts, k->sources, &k->mix, error);
    }
    tried_free(all);
    return good && (k->mix.instructions > 0.0 ||
                    nsk_fail(error, "the counts hold no instruction of %s", k->sources));
}

static char *tool_version(const char *command) {
    char *out = NULL;
    if (!g_spawn_command_line_sync(command, &out, NULL, NULL, NULL)) {
        return g_strdup("unknown");
    }
    *strchrnul(out, '\n') = '\0';
    return out;
}

/* Where the figures come from. */
static void write_sources(const study *s, GString *to) {
    char *gcc = g_strconcat(s->timings->tools, "gcc --version", NULL);
    char *qemu = g_strconcat(s->core->emulator, " --version", NULL);
    char *compiler = tool_version(gcc);
    char *emulator = tool_version(qemu);
    bool published = s->timings->source[0] != '\0';
    g_string_append_printf(
        to,
        "# Made by `make costs`; do not edit. docs/estimates.md says how.\n[table]\n"
        "core = %s\nkernels = %s, -O2\ncompiler = %s\nemulator = %s\n"
        "instructions = fitted to counts on the emulator over %d shapes\n"
        "cycles = %s%s\n",
        s->core->name, s->timings->kernels, compiler, emulator, grid_shape_count,
        published ? "instructions counted by address, each by "
                  : "one an instruction, as this core's ",
        published ? s->timings->source : "timings are not published");
    const pipeline_core *pipeline = pipeline_core_of(s->core->name);
    if (pipeline != NULL) {
        g_string_append_printf(to, "pipeline = %s; all else assumed\n", pipeline->published);
    }
    g_string_append(
        to,
        "\n# instructions = the sum of each number times what docs/estimates.md counts by it\n");
    g_free(gcc);
    g_free(qemu);
    g_free(compiler);
    g_free(emulator);
}

static int by_text(const void *a, const void *b) {
    return strcmp(*(const char *const *)a, *(const char *const *)b);
}

/* Of each kind, whole, streamed and over its input. */
static void write_depths(const study *s, GString *to) {
    guint count;
    char **keys = (char **)g_hash_table_get_keys_as_array(s->deep, &count);
    char last[32] = "";
    qsort(keys, count, sizeof *keys, by_text);
    for (guint i = 0; i < count; i++) {
        const char *blank = strchr(keys[i], ' ');
        char *group = g_strndup(keys[i], (gsize)(blank - keys[i]));
        if (strcmp(group, last) != 0) {
            g_string_append_printf(to, "\n[%s]\n", group);
            g_strlcpy(last, group, sizeof last);
        }
        g_string_append_printf(to, "%s = %.0f B\n", blank + 1,
                               *(double *)g_hash_table_lookup(s->deep, keys[i]));
        g_free(group);
    }
    g_free(keys);
}

static bool write_table(const study *s, const char *path, nsk_error *error) {
    GString *text = g_string_new(NULL);
    write_sources(s, text);
    for (int i = 0; i < nsk_cost_kind_count(); i++) {
        const kind_cost *k = &s->kinds[i];
        if (!reads(s, order_of(k->kind))) {
            continue;
        }
        g_string_append_printf(text, "\n[%s]\n", k->kind);
        for (int t = 0; t < NSK_COST_TERMS; t++) {
            if (k->fit.factor[t] > 0.0) {
                g_string_append_printf(text, "%s = %.4f\n", nsk_cost_terms[t], k->fit.factor[t]);
            }
        }
        g_string_append_printf(text,
                               "cycles-each = %.4f\nbranches-each = %.4f\nspread = %.4f\n"
                               "worst-misfit = %.4f\n",
                               k->mix.cycles / k->mix.instructions,
                               k->mix.taken_branches / k->mix.instructions, k->fit.spread,
                               k->fit.worst);
        if (k->mix.slow > 0.0) {
            g_string_append_printf(text, "pipeline-fast = %.4f\npipeline-slow = %.4f\n",
                                   k->mix.fast / k->mix.instructions,
                                   k->mix.slow / k->mix.instructions);
        }
    }
    write_depths(s, text);
    bool good = handed_code(s->core->name, s->folder, text, error) &&
                nsk_file_write(path, text->str, text->len, error);
    g_string_free(text, TRUE);
    return good;
}

static bool run_study(study *s, const char *result, nsk_error *error) {
    if (!count_shapes(s, error)) {
        return false;
    }
    cycle_image *image = cycle_image_read(s->elf, s->timings, error);
    s->plugin =
        image != NULL ? cycle_image_plugin(image, s->trace, s->counts, s->steps, error) : NULL;
    bool good = s->plugin != NULL;
    s->kinds = g_new0(kind_cost, nsk_cost_kind_count());
    for (int i = 0; good && i < nsk_cost_kind_count(); i++) {
        kind_cost *k = &s->kinds[i];
        k->kind = nsk_cost_kind_at(i);
        k->sources = nsk_cost_files_at(i);
        if (!reads(s, order_of(k->kind))) {
            continue;
        }
        good = cost_fit_kind(&s->points, s->core->name, k->kind, base_of(s, k->kind), &k->fit,
                             error) &&
               trace_kind(s, image, k, error);
        if (good) {
            fprintf(stderr, "%-13s worst misfit %4.1f %%, %.2f cycles an instruction\n", k->kind,
                    100.0 * k->fit.worst, k->mix.cycles / k->mix.instructions);
        }
    }
    cycle_image_free(image);
    good = good && write_table(s, result, error);
    g_free(s->kinds);
    return good;
}

int main(int argc, char **argv) {
    if (argc != 5) {
        fprintf(stderr, "cost-count: give CORE, the folder that it was built in, trace.so, and a "
                        "result\n");
        return 2;
    }
    static study s;
    nsk_error error;
    s.core = emulated_core_named(argv[1]);
    s.timings = core_timings_of(argv[1]);
    if (s.core == NULL || s.timings == NULL) {
        fprintf(stderr, "cost-count: no core '%s' is counted\n", argv[1]);
        return 2;
    }
    s.elf = g_build_filename(argv[2], "replay.elf", NULL);
    s.folder = g_dir_make_tmp("costs-XXXXXX", NULL);
    s.deep = g_hash_table_new_full(g_str_hash, g_str_equal, g_free, g_free);
    s.counts = g_build_filename(s.folder, "counts.txt", NULL);
    s.steps = g_build_filename(s.folder, "steps.txt", NULL);
    s.trace = g_strdup(argv[3]);
    bool good = run_study(&s, argv[4], &error);
    if (!good) {
        fprintf(stderr, "cost-count: %s\n", error.text);
    }
    char *const files[] = {s.counts, s.steps};
    for (size_t i = 0; i < G_N_ELEMENTS(files); i++) {
        g_unlink(files[i]);
    }
    char *clean = g_strdup_printf("rm -rf \"%s\"", s.folder);
    g_spawn_command_line_sync(clean, NULL, NULL, NULL, NULL);
    g_free(clean);
    g_hash_table_destroy(s.deep);
    char *const texts[] = {s.elf, s.counts, s.steps, s.trace, s.plugin, s.folder};
    for (size_t i = 0; i < G_N_ELEMENTS(texts); i++) {
        g_free(texts[i]);
    }
    return good ? 0 : 2;
}
