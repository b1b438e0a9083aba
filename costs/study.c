/* study: how far estimates are from counts on whole networks.
 *
 *     cost-study BUILT-DIR RESULT.csv [MODEL.nsk...]
 *
 * BUILT-DIR holds a folder a core, where ports/bare-metal was built; tables are read from costs/.
 * Besides the networks of networks.c it takes those of model files.
 */
#include <glib/gstdio.h>
#include <math.h>
#include <stdio.h>
#include <stdlib.h>
#include <string.h>

#include "emulator.h"
#include "estimate/cost_kind.h"
#include "estimate/costs.h"
#include "networks.h"

typedef struct study {
    const char *built;
    char *folder, *model, *frame;
    GString *csv;
} study;

/* Instructions of a whole frame: counted, and estimated from the core's table. */
static bool measure(const study *s, const emulated_core *core, const nsk_model_file *plain,
                    double *counted, double *estimated, nsk_error *error) {
    nsk_model model;
    nsk_model_file *file = nsk_model_file_for_core(plain, core->name);
    emulated_run run = {0};
    char *table = g_strdup_printf("costs/%s.ini", core->name);
    char *elf = g_strdup_printf("%s/%s/replay.elf", s->built, core->name);
    nsk_open(&model, file->bytes, file->size);
    size_t size = (size_t)model.width * model.height * model.channels;
    uint8_t *frame = g_malloc(size);
    for (size_t i = 0; i < size; i++) {
        frame[i] = (uint8_t)(i * 37U % 251U);
    }
    const nsk_work all = {.calls = 1, .outputs = size, .rows = model.height};
    nsk_costs *costs = nsk_costs_read(table, error);
    bool good = costs != NULL && nsk_model_file_write(file, s->model, error) &&
                nsk_file_write(s->frame, frame, size, error) &&
                emulate(core, elf, s->model, s->frame, NULL, &run, error);
    nsk_kernel_cost cost;
    good = good && nsk_costs_kernel(costs, "prepare", &cost, error);
    *counted = run.prepare;
    *estimated = good ? nsk_kernel_cost_of(&cost, &all, 0.0).instructions : 0.0;
    if (getenv("LAYERS") != NULL && good) {
        printf("    %-10s prepare counted %9.0f estimated %9.0f\n", core->name, *counted,
               *estimated);
    }
    for (unsigned i = 0; good && i < model.layers; i++) {
        nsk_work work = nsk_layer_work(&model, i);
        good = nsk_costs_kernel(costs, nsk_cost_kind(&model, i), &cost, error);
        double one = good ? nsk_kernel_cost_of(&cost, &work, 0.0).instructions : 0.0;
        *estimated += one;
        *counted += run.layer[i];
        if (getenv("LAYERS") != NULL && good) {
            printf("    %-10s %s counted %9.0f estimated %9.0f\n", core->name,
                   nsk_cost_kind(&model, i), run.layer[i], one);
        }
    }
    emulated_run_clear(&run);
    nsk_costs_free(costs);
    nsk_model_file_free(file);
    g_free(frame);
    g_free(table);
    g_free(elf);
    return good;
}

static int by_size(const void *a, const void *b) {
    double x = *(const double *)a;
    double y = *(const double *)b;
    return (x > y) - (x < y);
}

/* One core over all networks; prints its line. */
static bool try_core(study *s, const emulated_core *core, nsk_model_file *const *files,
                     char *const *names, int count, nsk_error *error) {
    double *apart = g_new0(double, count);
    bool good = true;
    for (int i = 0; i < count && good; i++) {
        double counted = 1.0;
        double estimated = 0.0;
        good = measure(s, core, files[i], &counted, &estimated, error);
        apart[i] = fabs(estimated / counted - 1.0);
        g_string_append_printf(s->csv, "%s,%s,%.0f,%.0f,%.5f\n", core->name, names[i], counted,
                               estimated, estimated / counted - 1.0);
    }
    if (good) {
        qsort(apart, (size_t)count, sizeof *apart, by_size);
        printf("%-12s median %4.1f %%   worst %4.1f %%\n", core->name,
               50.0 * (apart[(count - 1) / 2] + apart[count / 2]), 100.0 * apart[count - 1]);
        fflush(stdout);
    }
    g_free(apart);
    return good;
}

static bool run_study(study *s, char **paths, int extra, nsk_error *error) {
    int count = cost_network_count + extra;
    nsk_model_file **files = g_new0(nsk_model_file *, count);
    char **names = g_new0(char *, (gsize)count + 1);
    bool good = true;
    for (int i = 0; i < count && good; i++) {
        bool made = i < cost_network_count;
        files[i] = made ? cost_network_model(&cost_networks[i], error)
                        : nsk_model_file_read(paths[i - cost_network_count], error);
        names[i] = made ? g_strdup(cost_networks[i].name)
                        : g_path_get_basename(paths[i - cost_network_count]);
        good = files[i] != NULL;
    }
    for (int c = 0; c < emulated_core_count && good; c++) {
        if (emulated_cores[c].machine != NULL) {
            good = try_core(s, &emulated_cores[c], files, names, count, error);
        }
    }
    for (int i = 0; i < count; i++) {
        nsk_model_file_free(files[i]);
        g_free(names[i]);
    }
    g_free(files);
    g_free(names);
    return good;
}

int main(int argc, char **argv) {
    if (argc < 3) {
        fprintf(stderr, "cost-study: give the folder that the cores were built in and a result\n");
        return 2;
    }
    study s = {.built = argv[1], .csv = g_string_new("core,network,counted,estimated,apart\n")};
    nsk_error error;
    s.folder = g_dir_make_tmp("study-XXXXXX", NULL);
    s.model = g_build_filename(s.folder, "network.nsk", NULL);
    s.frame = g_build_filename(s.folder, "frame.bin", NULL);
    bool good = run_study(&s, argv + 3, argc - 3, &error) &&
                nsk_file_write(argv[2], s.csv->str, s.csv->len, &error);
    if (!good) {
        fprintf(stderr, "cost-study: %s\n", error.text);
    }
    g_unlink(s.model);
    g_unlink(s.frame);
    g_rmdir(s.folder);
    g_free(s.model);
    g_free(s.frame);
    g_free(s.folder);
    g_string_free(s.csv, TRUE);
    return good ? 0 : 2;
}
