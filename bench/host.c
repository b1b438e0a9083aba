/* host BRIEF: images a second of the float pass (BLAS) and of the integer pass on this machine, on
 * the same prepared images and threads, measured in turns within one run; and how much of what the
 * vectors can do at most the integer pass reaches. */
#include <glib.h>
#include <omp.h>
#include <stdio.h>
#include <stdlib.h>

#include "device/work.h"
#include "float/forward.h"
#include "netsuke/quantise.h"
#include "network/network.h"
#include "peak.h"

enum { ROUNDS = 5, IMAGES = 400 };

typedef struct bench {
    nsk_brief *brief;
    nsk_network *network;
    nsk_images *images;
    nsk_model_file *file;
    nsk_model model;
    uint8_t *frames;
    size_t frame_bytes;
    int count;
} bench;

static double float_rate(const bench *b) {
    double start = omp_get_wtime();
#pragma omp parallel
    {
        nsk_error error;
        nsk_pass *pass = nsk_pass_new(b->network->graph, &error);
#pragma omp for
        for (int i = 0; i < b->count; i++) {
            nsk_float_prepare(b->network->graph, &b->brief->input,
                              b->frames + (size_t)i * b->frame_bytes, nsk_pass_input(pass));
            nsk_pass_run(pass);
        }
        nsk_pass_free(pass);
    }
    return b->count / (omp_get_wtime() - start);
}

static double integer_rate(const bench *b) {
    double start = omp_get_wtime();
#pragma omp parallel
    {
        void *workspace = g_malloc(b->model.workspace_bytes);
#pragma omp for
        for (int i = 0; i < b->count; i++) {
            nsk_prepare(&b->model, b->frames + (size_t)i * b->frame_bytes,
                        (size_t)b->model.width * b->model.channels, workspace);
            nsk_run(&b->model, workspace, NULL);
        }
        g_free(workspace);
    }
    return b->count / (omp_get_wtime() - start);
}

static bool load(bench *b, const char *path, nsk_error *error) {
    if ((b->brief = nsk_brief_read(path, error)) == NULL ||
        (b->network = nsk_network_read(b->brief->model, &b->brief->input, b->brief->output,
                                       error)) == NULL ||
        (b->images = nsk_images_open(b->brief->calibration, &b->brief->labels, &b->brief->input,
                                     IMAGES, false, error)) == NULL ||
        (b->file = nsk_quantise(b->network, b->images, NULL, error)) == NULL) {
        return false;
    }
    nsk_open(&b->model, b->file->bytes, b->file->size);
    b->count = nsk_images_count(b->images);
    b->frame_bytes = nsk_images_frame_bytes(b->images);
    b->frames = g_malloc(b->frame_bytes * (size_t)b->count);
    for (int i = 0; i < b->count; i++) {
        if (!nsk_images_frame(b->images, i, b->frames + (size_t)i * b->frame_bytes, error)) {
            return false;
        }
    }
    return true;
}

/* Multiply-accumulates of an image. */
static double macs_of(const nsk_model *model) {
    double macs = 0.0;
    for (unsigned i = 0; i < model->layers; i++) {
        macs += (double)nsk_layer_work(model, i).macs;
    }
    return macs;
}

static int by_value(const void *a, const void *b) {
    double x = *(const double *)a;
    double y = *(const double *)b;
    return x < y ? -1 : x > y;
}

int main(int argc, char **argv) {
    bench b = {0};
    nsk_error error;
    if (argc != 2 || !load(&b, argv[1], &error)) {
        fprintf(stderr, "bench: %s\n", argc == 2 ? error.text : "give a brief");
        return 2;
    }
    double rates[2][ROUNDS];
    for (int i = 0; i < ROUNDS; i++) {
        rates[0][i] = float_rate(&b);
        rates[1][i] = integer_rate(&b);
    }
    for (int k = 0; k < 2; k++) {
        qsort(rates[k], ROUNDS, sizeof rates[k][0], by_value);
    }
    double float_median = rates[0][ROUNDS / 2];
    double integer_median = rates[1][ROUNDS / 2];
    printf("%d images, %d threads, median of %d rounds in turns\n", b.count, omp_get_max_threads(),
           ROUNDS);
    printf("float pass    %8.0f images a second\n", float_median);
    printf("integer pass  %8.0f images a second, %.2f times the float pass\n", integer_median,
           integer_median / float_median);
    const char *what;
    const double peak = bench_peak(&what);
    if (peak > 0.0) {
        printf("vector peak   %8.1f thousand million multiply-accumulates a second (%s), of which "
               "the integer pass reaches %.1f %%\n",
               peak / 1e9, what, 100.0 * integer_median * macs_of(&b.model) / peak);
    }
    g_free(b.frames);
    nsk_model_file_free(b.file);
    nsk_images_free(b.images);
    nsk_network_free(b.network);
    nsk_brief_free(b.brief);
    return 0;
}
