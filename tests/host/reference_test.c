/* What the device half computes beside the formulas: every shape of the grid, whole networks. */
#include <string.h>

#include "../network_text.h"
#include "../suites.h"
#include "../support.h"
#include "base/random.h"
#include "grid.h"
#include "reference/reference.h"

/* Frames whose scores differ, of some of noise. */
static int differ(const nsk_model_file *file, int frames) {
    nsk_model m;
    random_state r = {17};
    CU_ASSERT_EQUAL_FATAL(nsk_open(&m, file->bytes, file->size), NSK_STATUS_OK);
    size_t size = (size_t)m.width * m.height * m.channels;
    uint8_t *frame = g_malloc(size);
    void *workspace = g_malloc(m.workspace_bytes);
    int32_t *expected = g_new(int32_t, m.classes);
    int differing = 0;
    for (int i = 0; i < frames; i++) {
        for (size_t k = 0; k < size; k++) {
            frame[k] = (uint8_t)random_below(&r, 256);
        }
        nsk_reference_scores(&m, frame, expected);
        nsk_prepare(&m, frame, (size_t)m.width * m.channels, workspace);
        nsk_run(&m, workspace, NULL);
        differing += memcmp(expected, nsk_scores(&m, workspace), m.classes * sizeof *expected) != 0;
    }
    g_free(expected);
    g_free(workspace);
    g_free(frame);
    return differing;
}

static void every_shape_is_the_formulas(void) {
    for (int i = 0; i < grid_shape_count; i += TESTS_FEWER) {
        for (int clipped = 0; clipped < 2; clipped++) {
            nsk_error error = {.text = ""};
            nsk_model_file *file =
                grid_model(&grid_shapes[i], clipped ? GRID_CLIPPED : GRID_PLAIN, &error);
            CU_ASSERT_PTR_NOT_NULL_FATAL(file);
            CU_ASSERT_EQUAL(differ(file, 2), 0);
            nsk_model_file_free(file);
        }
    }
}

static void networks_are_the_formulas(void) {
    static const char *const networks[] = {
        "Conv x d_3_1_3_3 > a group=i3 dilations=l40,1 pads=l40,1,40,1; GlobalAveragePool a > g; "
        "Flatten g > z",
        "Conv x w_5_3_3_3 b_5 > a pads=l1,1,1,1; Conv a u_3_5_1_1 > l; Conv a r_2_5_3_3 > m "
        "pads=l1,1,1,1; Concat l m a > c axis=i1; Add c c > e; MaxPool e > p kernel_shape=l2,2; "
        "GlobalAveragePool p > g; Flatten g > f; Gemm f h_5_10 c_5 > z transB=i1",
    };
    static const int classes[] = {3, 5};
    for (size_t i = 0; i < G_N_ELEMENTS(networks); i++) {
        noisy n;
        noisy_load(&n, networks[i], classes[i]);
        CU_ASSERT_EQUAL(differ(n.file, 8), 0);
        noisy_free(&n);
    }
    kiln k;
    kiln_load(&k, 6);
    CU_ASSERT_EQUAL(differ(k.file, 4), 0);
    kiln_free(&k);
}

CU_TestInfo reference_tests[] = {
    {"every shape is the formulas'", every_shape_is_the_formulas},
    {"networks are the formulas'", networks_are_the_formulas},
    CU_TEST_INFO_NULL,
};
