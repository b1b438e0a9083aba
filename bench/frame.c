/* frame TABLE BRIEF GATED KERNELS [CORE...]: a frame of the kiln line on emulated cores, before and
 * now. TABLE has what was counted before and what is to be reached (frame.ini); KERNELS is a folder
 * with a replay.elf for each core, or for those that are named. */
#include <glib.h>
#include <glib/gstdio.h>
#include <math.h>
#include <stdio.h>
#include <string.h>

#include "device/work.h"
#include "emulator.h"
#include "netsuke/budget.h"
#include "quantised.h"

typedef struct bench {
    GKeyFile *table;
    const char *kernels;
    char **cores; /* that are asked for */
    char *model_path, *frame_path;
    nsk_model_file *file;
    nsk_model model;
} bench;

/* What the table has of a figure; NAN where it has nothing. */
static double entry(const bench *b, const char *core, const char *key, gsize which) {
    gsize count = 0;
    double *numbers = g_key_file_get_double_list(b->table, core, key, &count, NULL);
    double number = which < count ? numbers[which] : NAN;
    g_free(numbers);
    return number;
}

static void print_figure(const bench *b, const char *core, const char *key, const char *what,
                         double now) {
    double before = entry(b, core, key, 0);
    double goal = entry(b, core, key, 1);
    int places = before < 1000.0 ? 3 : 0;
    if (isnan(before)) {
        return;
    }
    printf("%-11s %-40s %10.*f %10.*f  %4.2f", core, what, places, before, places, now,
           before / now);
    if (!isnan(goal)) {
        printf(" %10.*f  %s", places, goal, now <= goal ? "reached" : "missed");
    }
    printf("\n");
}

static void print_layers(const bench *b, const char *core, const emulated_run *run) {
    for (unsigned i = 0; i < b->model.layers; i++) {
        nsk_layer l;
        char what[64];
        nsk_layer_decode(&b->model, i, &l);
        const char *name = nsk_layer_name(&b->model, i);
        g_snprintf(what, sizeof what, "%s: %s%dx%d, %d to %d, stride %d", name,
                   l.kind == NSK_KIND_DEPTHWISE ? "depthwise " : "", l.kernel_height,
                   l.kernel_width, l.in.channels, l.out.channels, l.stride_down);
        print_figure(b, core, name, what,
                     run->layer[i] / (double)nsk_layer_work(&b->model, i).macs);
    }
}

static double layers_of(const emulated_run *run) {
    double sum = run->prepare;
    for (int i = 0; i < run->layers; i++) {
        sum += run->layer[i];
    }
    return sum;
}

/* A picture of the network's own size. */
static double looking(const bench *b, const emulated_run *run) {
    for (int i = 0; i < run->looked; i++) {
        if (run->frame_check[i].width == (int)b->model.width) {
            return run->frame_check[i].instructions;
        }
    }
    return NAN;
}

/* By the core's own cost table, on a board without wait states. */
static bool count_cycles(const bench *b, const char *core, double *cycles, nsk_error *error) {
    const nsk_product product = {.camera_width = b->model.width,
                                 .camera_height = b->model.height,
                                 .check_every = 1,
                                 .check_frames = true};
    const nsk_limits none = {.flash = INFINITY, .ram = INFINITY, .latency = INFINITY};
    char *path = g_strdup_printf("%s.ini", b->model_path);
    char *text = g_strdup_printf("[board]\nname = bench\ncore = %s\nclock = 1 MHz\n"
                                 "flash = 64 MiB\nram = 64 MiB\n",
                                 core);
    bool good = nsk_file_write(path, text, strlen(text), error);
    nsk_board *board = good ? nsk_board_read(path, error) : NULL;
    nsk_budget *budget =
        board != NULL ? nsk_budget_make(b->file, board, &product, &none, error) : NULL;
    *cycles = budget != NULL ? budget->cycles - budget->scaling.cycles : NAN;
    nsk_budget_free(budget);
    nsk_board_free(board);
    g_unlink(path);
    g_free(text);
    g_free(path);
    return budget != NULL;
}

static bool run_core(bench *b, const emulated_core *core, bool gated, nsk_error *error) {
    emulated_run run = {0};
    nsk_model_file *handed = nsk_model_file_for_core(b->file, core->name);
    char *elf = g_strdup_printf("%s/%s/replay.elf", b->kernels, core->name);
    double cycles = NAN;
    bool good = bench_write(handed, &b->model, b->model_path, b->frame_path, error) &&
                emulate(core, elf, b->model_path, b->frame_path, NULL, &run, error) &&
                (gated || count_cycles(b, core->name, &cycles, error));
    if (good && gated) {
        print_figure(b, core->name, "gated", "gated network, instructions", layers_of(&run));
    } else if (good) {
        print_layers(b, core->name, &run);
        print_figure(b, core->name, "frame", "whole frame, instructions",
                     layers_of(&run) + looking(b, &run) + 2.0 * run.check);
        print_figure(b, core->name, "cycles", "whole frame, cycles by the table", cycles);
    }
    emulated_run_clear(&run);
    nsk_model_file_free(handed);
    g_free(elf);
    return good;
}

static bool run_network(bench *b, const char *brief, bool gated, nsk_error *error) {
    b->file = bench_quantise(brief, error);
    bool good = b->file != NULL;
    for (int i = 0; i < emulated_core_count && good; i++) {
        if (g_key_file_has_group(b->table, emulated_cores[i].name) &&
            bench_is_asked(b->cores, &emulated_cores[i]) &&
            (!gated || !isnan(entry(b, emulated_cores[i].name, "gated", 0)))) {
            good = run_core(b, &emulated_cores[i], gated, error);
        }
    }
    nsk_model_file_free(b->file);
    return good;
}

int main(int argc, char **argv) {
    bench b = {.table = g_key_file_new()};
    nsk_error error = {.text = "give the table, two briefs, and the folder of the kernels' images"};
    char *scratch = g_dir_make_tmp("bench-XXXXXX", NULL);
    b.model_path = g_build_filename(scratch, "m.nsk", NULL);
    b.frame_path = g_build_filename(scratch, "f.bin", NULL);
    b.kernels = argc >= 5 ? argv[4] : NULL;
    b.cores = argv + MIN(argc, 5);
    bool good = argc >= 5 && g_key_file_load_from_file(b.table, argv[1], G_KEY_FILE_NONE, NULL);
    if (good) {
        printf("\n%-11s %-40s %10s %10s %5s %10s\n", "core", "the kiln line", "before", "now",
               "times", "goal");
    }
    good =
        good && run_network(&b, argv[2], false, &error) && run_network(&b, argv[3], true, &error);
    if (!good) {
        fprintf(stderr, "frame: %s\n", error.text);
    }
    g_unlink(b.model_path);
    g_unlink(b.frame_path);
    g_rmdir(scratch);
    g_free(b.model_path);
    g_free(b.frame_path);
    g_free(scratch);
    g_key_file_free(b.table);
    return good ? 0 : 2;
}
