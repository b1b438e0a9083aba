/* One picture's tensors, held against what measures sets and against the device's own scores. */
#include <math.h>
#include <string.h>

#include "../suites.h"
#include "../support.h"
#include "netsuke/drift.h"
#include "netsuke/probe.h"

/* A set of one picture a class drifts as the mean of its pictures' signals and errors; of one
 * picture it is that picture's own. */
static void probes_are_the_drift_of_a_picture(void) {
    nsk_error error = {.text = ""};
    kiln k;
    kiln_load(&k, 6);
    nsk_network *equalised = nsk_network_equalised(k.network, k.calibration, &error);
    CU_ASSERT_PTR_NOT_NULL_FATAL(equalised);
    nsk_drift *d = nsk_drift_measure(equalised, k.file, k.held_out, NULL, NULL, &error);
    CU_ASSERT_PTR_NOT_NULL_FATAL(d);
    double *signal = g_new0(double, d->layers);
    double *apart = g_new0(double, d->layers);
    uint8_t *frame = g_malloc(nsk_images_frame_bytes(k.held_out));
    for (int i = 0; i < nsk_images_count(k.held_out); i++) {
        CU_ASSERT(nsk_images_frame(k.held_out, i, frame, &error));
        nsk_probing *all =
            nsk_probe_frame(equalised, k.file, &k.brief->labels, &k.brief->input, frame, &error);
        CU_ASSERT_PTR_NOT_NULL_FATAL(all);
        CU_ASSERT_EQUAL_FATAL(all->layers, d->layers);
        for (int l = 0; l < all->layers; l++) {
            const nsk_probe *p = &all->layer[l];
            CU_ASSERT_STRING_EQUAL(p->name, d->layer[l].name);
            CU_ASSERT_PTR_NOT_NULL_FATAL(p->by_float);
            for (int e = 0; e < p->height * p->width * p->channels; e++) {
                double x = (double)p->by_float[e];
                signal[l] += x * x;
                apart[l] += pow((double)p->scale * (p->levels[e] - p->zero) - x, 2.0);
            }
        }
        nsk_probing_free(all);
    }
    for (int l = 0; l < d->layers; l++) {
        CU_ASSERT_DOUBLE_EQUAL(10.0 * log10(signal[l] / apart[l]), d->layer[l].sqnr_db, 1e-6);
    }
    g_free(signal);
    g_free(apart);
    g_free(frame);
    nsk_drift_free(d);
    nsk_network_free(equalised);
    kiln_free(&k);
}

static void the_last_layer_is_the_scores(void) {
    nsk_error error = {.text = ""};
    kiln k;
    nsk_model model;
    kiln_load(&k, 6);
    uint8_t *frame = g_malloc(nsk_images_frame_bytes(k.held_out));
    CU_ASSERT(nsk_images_frame(k.held_out, 3, frame, &error));
    nsk_probing *all =
        nsk_probe_frame(k.network, k.file, &k.brief->labels, &k.brief->input, frame, &error);
    CU_ASSERT_PTR_NOT_NULL_FATAL(all);
    nsk_open(&model, k.file->bytes, k.file->size);
    void *workspace = g_malloc(model.workspace_bytes);
    nsk_prepare(&model, frame, (size_t)model.width * model.channels, workspace);
    nsk_run(&model, workspace, NULL);
    const nsk_probe *last = &all->layer[all->layers - 1];
    CU_ASSERT_EQUAL(last->channels, model.classes);
    CU_ASSERT_EQUAL(
        memcmp(last->levels, nsk_scores(&model, workspace), model.classes * sizeof *last->levels),
        0);
    char *folder = scratch_new();
    char *path = scratch_path(folder, "t.npy");
    CU_ASSERT(nsk_probe_write(last, path, &error));
    char *bytes = NULL;
    gsize size = 0;
    CU_ASSERT_FATAL(g_file_get_contents(path, &bytes, &size, NULL));
    CU_ASSERT_EQUAL(size, 128 + 2 * 6 * sizeof(float)); /* the head fills up to 64 bytes */
    CU_ASSERT_EQUAL(memcmp(bytes, "\x93NUMPY\x01\x00\x76\x00", 10), 0);
    CU_ASSERT_PTR_NOT_NULL(
        strstr(bytes + 10, "'<f4', 'fortran_order': False, 'shape': (2, 1, 1, 6)"));
    CU_ASSERT_EQUAL(bytes[127], '\n');
    CU_ASSERT_EQUAL(memcmp(bytes + 128, last->by_float, 6 * sizeof(float)), 0);
    CU_ASSERT_PTR_NULL(nsk_probe_named(all, "dense_12", &error));
    assert_error(&error, "no layer is called 'dense_12'; did you mean 'dense12'?");
    g_free(bytes);
    g_free(path);
    scratch_remove(folder);
    g_free(workspace);
    g_free(frame);
    nsk_probing_free(all);
    kiln_free(&k);
}

CU_TestInfo probe_tests[] = {
    {"probes are the drift of a picture", probes_are_the_drift_of_a_picture},
    {"the last layer is the scores", the_last_layer_is_the_scores},
    CU_TEST_INFO_NULL,
};
