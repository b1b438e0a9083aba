/* cores BRIEF KERNELS PLAIN [CORE...]: instructions a multiply-accumulate on every emulated core,
 * by the kernels as they ship and by plain loops (bench/plain), counted in the same run. KERNELS
 * and PLAIN are folders with a replay.elf for each core, or for those that are named. */
#include <glib.h>
#include <glib/gstdio.h>
#include <stdio.h>

#include "device/work.h"
#include "emulator.h"
#include "grid.h"
#include "quantised.h"

typedef struct bench {
    const char *folders[2]; /* kernels, plain */
    char **cores;           /* that are asked for */
    char *scratch, *model, *frame;
    nsk_model_file *network;
} bench;

static const struct {
    const char *name;
    grid_shape shape; /* kind 0: the brief's whole network */
} rows[] = {
    {"1x1, 64 to 64 channels", {NSK_KIND_CONV, 12, 64, 64, 1, 1}},
    {"3x3, 3 to 16, stride 2", {NSK_KIND_CONV, 48, 3, 16, 3, 2}},
    {"3x3, 32 to 32", {NSK_KIND_CONV, 8, 32, 32, 3, 1}},
    {"depthwise 3x3, stride 1", {NSK_KIND_DEPTHWISE, 24, 16, 16, 3, 1}},
    {"depthwise 3x3, stride 2", {NSK_KIND_DEPTHWISE, 24, 32, 32, 3, 2}},
    {"dense, 256 to 6", {NSK_KIND_DENSE, 1, 256, 6, 1, 1}},
    {"whole network", {0}},
};

/* Instructions a multiply-accumulate of the tested layer, or of all layers and the preparation. */
static bool count(const bench *b, const emulated_core *core, const nsk_model_file *file, bool whole,
                  double *each, nsk_error *error) {
    for (int k = 0; k < 2; k++) {
        emulated_run run = {0};
        nsk_model model;
        nsk_model_file *handed = nsk_model_file_for_core(file, k == 0 ? core->name : "any");
        double instructions = 0.0;
        double macs = 0.0;
        char *elf = g_strdup_printf("%s/%s/replay.elf", b->folders[k], core->name);
        bool good = bench_write(handed, &model, b->model, b->frame, error) &&
                    emulate(core, elf, b->model, b->frame, NULL, &run, error);
        for (int i = 0; good && i < run.layers; i++) {
            if (whole || i == GRID_TESTED_LAYER) {
                instructions += run.layer[i];
                macs += (double)nsk_layer_work(&model, (unsigned)i).macs;
            }
        }
        each[k] = (instructions + (whole ? run.prepare : 0.0)) / macs;
        emulated_run_clear(&run);
        nsk_model_file_free(handed);
        g_free(elf);
        if (!good) {
            return false;
        }
    }
    return true;
}

static bool print_row(const bench *b, size_t row, nsk_error *error) {
    bool whole = rows[row].shape.kind == 0;
    nsk_model_file *file = whole ? b->network : grid_model(&rows[row].shape, GRID_PLAIN, error);
    bool good = file != NULL;
    for (int i = 0; i < emulated_core_count && good; i++) {
        double each[2];
        if (emulated_cores[i].machine == NULL || !bench_is_asked(b->cores, &emulated_cores[i])) {
            continue;
        }
        good = count(b, &emulated_cores[i], file, whole, each, error);
        if (good) {
            printf("%-11s %-25s %7.3f %7.3f  %5.1f times fewer\n", emulated_cores[i].name,
                   rows[row].name, each[0], each[1], each[1] / each[0]);
        }
    }
    if (!whole) {
        nsk_model_file_free(file);
    }
    return good;
}

int main(int argc, char **argv) {
    bench b = {0};
    nsk_error error = {.text = "give a brief, the folder of the kernels' images and that of the "
                               "plain ones"};
    b.cores = argv + MIN(argc, 4);
    b.network = argc >= 4 ? bench_quantise(argv[1], &error) : NULL;
    bool good = b.network != NULL;
    b.folders[0] = good ? argv[2] : NULL;
    b.folders[1] = good ? argv[3] : NULL;
    b.scratch = g_dir_make_tmp("bench-XXXXXX", NULL);
    b.model = g_build_filename(b.scratch, "m.nsk", NULL);
    b.frame = g_build_filename(b.scratch, "f.bin", NULL);
    if (good) {
        printf("%-11s %-25s %7s %7s\n", "core", "instructions a mult-acc", "kernels", "plain");
    }
    for (size_t i = 0; i < G_N_ELEMENTS(rows) && good; i++) {
        good = print_row(&b, i, &error);
    }
    if (!good) {
        fprintf(stderr, "cores: %s\n", error.text);
    }
    g_unlink(b.model);
    g_unlink(b.frame);
    g_rmdir(b.scratch);
    g_free(b.model);
    g_free(b.frame);
    g_free(b.scratch);
    nsk_model_file_free(b.network);
    return good ? 0 : 2;
}
