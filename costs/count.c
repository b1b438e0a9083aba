/* count: makes a core's cost table from runs on an emulated core.
 *
 *     cost-count REPLAY.elf OBJECTS-DIR costs/cortex-m4.ini
 *
 * Instructions: for each kind of layer, a + b x outputs + c x multiply-accumulates is fitted to
 * counts over a grid of shapes, least squares on relative errors, no coefficient below zero.
 * Cycles: the mix of instructions of one traced run, by the core's published timings. Code: the
 * sizes of the compiled files. Stack: the deepest use in any of the runs.
 */
#include <glib/gstdio.h>
#include <lapacke.h>
#include <math.h>
#include <stdio.h>
#include <string.h>
#include <unistd.h>

#include "budget/cost_kind.h"
#include "cycles.h"
#include "emulator.h"
#include "grid.h"

enum { TERMS = 3, MOST_POINTS = 1024 };

typedef struct point {
    const char *kind;
    double term[TERMS]; /* 1, outputs, macs */
    double instructions;
} point;

typedef struct kind_cost {
    const char *kind;
    const char *source; /* file of src/device */
    int traced;         /* shape of the grid for the mix, smallest of its kind */
    double coefficient[TERMS];
    double worst; /* relative error of the fit */
    cycle_mix mix;
} kind_cost;

static kind_cost kinds[] = {
    {.kind = "conv", .source = "conv.c", .traced = 3},
    {.kind = "pointwise", .source = "conv.c", .traced = 9},
    {.kind = "depthwise", .source = "depthwise.c", .traced = 23},
    {.kind = "dense", .source = "dense.c", .traced = 41},
    {.kind = "max-pool", .source = "pool.c", .traced = 24},
    {.kind = "average-pool", .source = "pool.c", .traced = 29},
    {.kind = "add", .source = "elementwise.c", .traced = 31},
    {.kind = "multiply", .source = "elementwise.c", .traced = 34},
    {.kind = "table", .source = "elementwise.c", .traced = 37},
    {.kind = "softmax", .source = "softmax.c", .traced = 45},
    {.kind = "larger", .source = "elementwise.c", .traced = 46},
    {.kind = "smaller", .source = "elementwise.c", .traced = 49},
    {.kind = "move", .source = "move.c", .traced = 52},
    {.kind = "constant", .source = "move.c", .traced = 55},
    {.kind = "resize", .source = "resize.c", .traced = 58},
    {.kind = "transposed", .source = "transposed.c", .traced = 61},
    {.kind = "prepare", .source = "run.c", .traced = 0},
};

typedef struct study {
    const char *elf;
    char *folder, *model, *frames, *trace;
    point points[MOST_POINTS];
    int count;
    double stack;
} study;

static void add_point(study *s, const char *kind, double outputs, double macs, double count) {
    if (s->count < MOST_POINTS && count > 0.0) {
        s->points[s->count++] = (point){kind, {1.0, outputs, macs}, count};
    }
}

static bool write_inputs(const study *s, const grid_shape *shape, nsk_model *model,
                         nsk_model_file **file, nsk_error *error) {
    *file = grid_model(shape, error);
    if (*file == NULL) {
        return false;
    }
    nsk_open(model, (*file)->bytes, (*file)->size);
    size_t size = (size_t)model->width * model->height * model->channels;
    uint8_t *frame = g_malloc(size);
    for (size_t i = 0; i < size; i++) {
        frame[i] = (uint8_t)(i * 37U % 251U);
    }
    bool good = nsk_model_file_write(*file, s->model, error) &&
                nsk_file_write(s->frames, frame, size, error);
    g_free(frame);
    return good;
}

static bool count_shape(study *s, int index, nsk_error *error) {
    nsk_model model;
    nsk_model_file *file;
    emulated_run run = {0};
    bool good = write_inputs(s, &grid_shapes[index], &model, &file, error) &&
                emulate(s->elf, s->model, s->frames, NULL, &run, error);
    for (int i = GRID_TESTED_LAYER; good && i < run.layers; i++) {
        nsk_work work = nsk_layer_work(&model, (unsigned)i);
        add_point(s, nsk_cost_kind(&model, (unsigned)i), (double)work.outputs, (double)work.macs,
                  run.layer[i]);
    }
    if (good) {
        double bytes = (double)model.width * model.height * model.channels;
        add_point(s, "prepare", bytes, 0.0, run.prepare);
        s->stack = fmax(s->stack, run.stack);
        if (isatty(STDERR_FILENO)) {
            fprintf(stderr, "\r%d of %d shapes counted%s", index + 1, grid_shape_count,
                    index + 1 == grid_shape_count ? "\n" : "");
        }
    }
    emulated_run_clear(&run);
    nsk_model_file_free(file);
    return good;
}

/* Least squares over the terms that are switched on. */
static bool solve(const study *s, const char *kind, const bool *on, double *coefficient) {
    static double a[MOST_POINTS * TERMS];
    static double b[MOST_POINTS];
    int columns = 0;
    int rows = 0;
    int at[TERMS];
    for (int t = 0; t < TERMS; t++) {
        coefficient[t] = 0.0;
        if (on[t]) {
            at[columns++] = t;
        }
    }
    for (int i = 0; i < s->count; i++) {
        const point *p = &s->points[i];
        if (strcmp(p->kind, kind) == 0) {
            for (int c = 0; c < columns; c++) {
                a[rows * columns + c] = p->term[at[c]] / p->instructions;
            }
            b[rows++] = 1.0;
        }
    }
    /* minimum norm, since terms can be the same up to a factor */
    double singular[TERMS];
    lapack_int rank;
    if (rows == 0 || LAPACKE_dgelsd(LAPACK_ROW_MAJOR, rows, columns, 1, a, columns, b, 1, singular,
                                    1e-9, &rank) != 0) {
        return false;
    }
    for (int c = 0; c < columns; c++) {
        coefficient[at[c]] = b[c];
    }
    return true;
}

static bool fit(const study *s, kind_cost *k, nsk_error *error) {
    bool on[TERMS] = {true, true, true};
    bool negative = true;
    while (negative) {
        if (!solve(s, k->kind, on, k->coefficient)) {
            return nsk_fail(error, "no fit for '%s'", k->kind);
        }
        int lowest = 0;
        for (int t = 1; t < TERMS; t++) {
            lowest = k->coefficient[t] < k->coefficient[lowest] ? t : lowest;
        }
        negative = k->coefficient[lowest] < 0.0;
        on[lowest] = on[lowest] && !negative;
    }
    for (int i = 0; i < s->count; i++) {
        const point *p = &s->points[i];
        if (strcmp(p->kind, k->kind) == 0) {
            double estimate = 0.0;
            for (int t = 0; t < TERMS; t++) {
                estimate += k->coefficient[t] * p->term[t];
            }
            k->worst = fmax(k->worst, fabs(estimate / p->instructions - 1.0));
        }
    }
    return true;
}

static bool trace_kind(const study *s, const cycle_image *image, kind_cost *k, nsk_error *error) {
    nsk_model model;
    nsk_model_file *file;
    emulated_run run = {0};
    bool good = write_inputs(s, &grid_shapes[k->traced], &model, &file, error) &&
                emulate(s->elf, s->model, s->frames, s->trace, &run, error) &&
                cycle_mix_read(image, s->trace, k->source, &k->mix, error);
    emulated_run_clear(&run);
    nsk_model_file_free(file);
    g_unlink(s->trace);
    return good;
}

/* Bytes of .text of each compiled file of the device half, as `size` counts them. */
static bool write_code_sizes(GString *to, const char *objects, nsk_error *error) {
    char *command = g_strdup_printf("sh -c 'cd \"%s\" && arm-none-eabi-size *.o'", objects);
    char *out = NULL;
    int status = 0;
    bool good = g_spawn_command_line_sync(command, &out, NULL, &status, NULL) && status == 0;
    g_free(command);
    if (!good) {
        g_free(out);
        return nsk_fail(error, "%s: no compiled device half there", objects);
    }
    char **lines = g_strsplit(out, "\n", -1);
    for (char **line = lines + 1; *line != NULL; line++) {
        int text;
        char name[64];
        if (sscanf(*line, "%d %*d %*d %*d %*s %63[^.]", &text, name) == 2) {
            g_string_append_printf(to, "%s = %d B\n", name, text);
        }
    }
    g_strfreev(lines);
    g_free(out);
    return true;
}

static char *tool_version(const char *command) {
    char *out = NULL;
    if (!g_spawn_command_line_sync(command, &out, NULL, NULL, NULL)) {
        return g_strdup("unknown");
    }
    *strchrnul(out, '\n') = '\0';
    return out;
}

static bool write_table(const study *s, const char *objects, const char *path, nsk_error *error) {
    char *compiler = tool_version("arm-none-eabi-gcc --version");
    char *emulator = tool_version("qemu-system-arm --version");
    GString *text = g_string_new(NULL);
    g_string_printf(text,
                    "# Made by `make costs`; do not edit. docs/estimates.md says how.\n[table]\n"
                    "core = cortex-m4\nkernels = portable C, -O2\ncompiler = %s\nemulator = %s\n"
                    "instructions = fitted to counts on the emulator over %d shapes\n"
                    "cycles = traced mix of instructions by Arm DDI 0439, table 3-1\n"
                    "\n# instructions = call + output x outputs + mac x multiply-accumulates\n",
                    compiler, emulator, grid_shape_count);
    for (size_t i = 0; i < G_N_ELEMENTS(kinds); i++) {
        const kind_cost *k = &kinds[i];
        g_string_append_printf(text,
                               "\n[%s]\ncall = %.1f\noutput = %.4f\nmac = %.4f\n"
                               "cycles-each = %.4f\nbranches-each = %.4f\nworst-misfit = %.4f\n",
                               k->kind, k->coefficient[0], k->coefficient[1], k->coefficient[2],
                               k->mix.cycles / k->mix.instructions,
                               k->mix.taken_branches / k->mix.instructions, k->worst);
    }
    g_string_append(text, "\n[code]\n");
    bool good = write_code_sizes(text, objects, error);
    g_string_append_printf(text, "\n[stack]\ndeepest = %.0f B\n", s->stack);
    good = good && nsk_file_write(path, text->str, text->len, error);
    g_string_free(text, TRUE);
    g_free(compiler);
    g_free(emulator);
    return good;
}

static bool run_study(study *s, const char *objects, const char *result, nsk_error *error) {
    for (int i = 0; i < grid_shape_count; i++) {
        if (!count_shape(s, i, error)) {
            return false;
        }
    }
    cycle_image *image = cycle_image_read(s->elf, "arm-none-eabi-", error);
    bool good = image != NULL;
    for (size_t i = 0; good && i < G_N_ELEMENTS(kinds); i++) {
        good = fit(s, &kinds[i], error) && trace_kind(s, image, &kinds[i], error);
        if (good) {
            fprintf(stderr, "%-13s worst misfit %4.1f %%, %.2f cycles an instruction\n",
                    kinds[i].kind, 100.0 * kinds[i].worst,
                    kinds[i].mix.cycles / kinds[i].mix.instructions);
        }
    }
    cycle_image_free(image);
    return good && write_table(s, objects, result, error);
}

int main(int argc, char **argv) {
    if (argc != 4) {
        fprintf(stderr, "cost-count: give REPLAY.elf, the folder of its objects and a result\n");
        return 2;
    }
    static study s;
    nsk_error error;
    s.elf = argv[1];
    s.folder = g_dir_make_tmp("costs-XXXXXX", NULL);
    s.model = g_build_filename(s.folder, "grid.nsk", NULL);
    s.frames = g_build_filename(s.folder, "frame.bin", NULL);
    s.trace = g_build_filename(s.folder, "trace.log", NULL);
    bool good = run_study(&s, argv[2], argv[3], &error);
    if (!good) {
        fprintf(stderr, "cost-count: %s\n", error.text);
    }
    char *const files[] = {s.model, s.frames, s.trace};
    for (size_t i = 0; i < G_N_ELEMENTS(files); i++) {
        g_unlink(files[i]);
        g_free(files[i]);
    }
    g_rmdir(s.folder);
    g_free(s.folder);
    return good ? 0 : 2;
}
