/* Vetting: assignments against all permutations, and mistakes made on purpose in the demo's job. */
#include <math.h>
#include <string.h>

#include "../suites.h"
#include "../support.h"
#include "analysis/assignment.h"
#include "netsuke/compare.h"
#include "netsuke/vet.h"

static int gain_of(int n, const int *gain, const int *column) {
    int sum = 0;
    for (int row = 0; row < n; row++) {
        sum += gain[row * n + column[row]];
    }
    return sum;
}

/* The best sum over all permutations of the columns from `at` on. */
static int best_of_all(int n, const int *gain, int *column, int at) {
    int best = at == n ? gain_of(n, gain, column) : INT32_MIN;
    for (int k = at; k < n; k++) {
        int kept = column[at];
        column[at] = column[k];
        column[k] = kept;
        best = MAX(best, best_of_all(n, gain, column, at + 1));
        column[k] = column[at];
        column[at] = kept;
    }
    return best;
}

static void assignments_are_the_best(void) {
    random_state r = {7};
    for (int round = 0; round < 2000; round++) {
        int n = 1 + random_below(&r, 6);
        int gain[36];
        int found[6];
        int column[6];
        unsigned seen = 0;
        for (int i = 0; i < n * n; i++) {
            gain[i] = random_below(&r, round % 2 == 0 ? 4 : 1000);
        }
        nsk_assign(n, gain, found);
        for (int i = 0; i < n; i++) {
            column[i] = i;
            seen |= 1U << found[i];
        }
        CU_ASSERT_EQUAL(seen, (1U << n) - 1U);
        CU_ASSERT_EQUAL(gain_of(n, gain, found), best_of_all(n, gain, column, 0));
    }
}

static void paired_chance_by_hand(void) {
    CU_ASSERT_DOUBLE_EQUAL(nsk_paired_chance(0, 0), 1.0, 1e-12);
    CU_ASSERT_DOUBLE_EQUAL(nsk_paired_chance(3, 3), 1.0, 1e-12);
    CU_ASSERT_DOUBLE_EQUAL(nsk_paired_chance(0, 5), 2.0 / 32, 1e-12);
    CU_ASSERT_DOUBLE_EQUAL(nsk_paired_chance(8, 1), 2.0 * (1 + 9) / 512, 1e-12);
}

static void swap_labels(nsk_labels *labels, int a, int b) {
    char *kept = labels->names[a];
    labels->names[a] = labels->names[b];
    labels->names[b] = kept;
}

/* What is wrong in the brief, and what must be said. */
static void mistakes_are_named(void) {
    static const struct {
        int images; /* the colours need more to show */
        bool bgr, no_deviation, swapped;
        const char *change;
    } cases[] = {
        {120, false, false, false, NULL},
        {120, false, true, false, "deviation = 0.2"},
        {400, true, false, true, "colour = rgb"},
    };
    for (size_t i = 0; i < G_N_ELEMENTS(cases); i++) {
        kiln k;
        nsk_error error = {.text = ""};
        if (TESTS_FEWER > 1 && cases[i].images > 200) {
            continue;
        }
        kiln_load(&k, 6);
        nsk_input input = k.brief->input;
        input.colour = cases[i].bgr ? NSK_COLOUR_BGR : NSK_COLOUR_RGB;
        for (int c = 0; c < 3 && cases[i].no_deviation; c++) {
            input.deviation[c] = 1.0;
        }
        if (cases[i].swapped) {
            swap_labels(&k.brief->labels, 1, 4);
        }
        nsk_images *set = nsk_images_open(k.brief->held_out, &k.brief->labels, &input,
                                          cases[i].images, false, &error);
        CU_ASSERT_PTR_NOT_NULL_FATAL(set);
        nsk_vetting *v = nsk_vet(k.network, set, NULL, NULL, &error);
        CU_ASSERT_PTR_NOT_NULL_FATAL(v);
        CU_ASSERT_EQUAL(v->better >= 0, cases[i].change != NULL);
        CU_ASSERT(cases[i].change == NULL ||
                  g_str_has_prefix(v->alternatives[0].change, cases[i].change));
        /* one line of the brief was wrong, and one is to be changed */
        CU_ASSERT(cases[i].change == NULL || strstr(v->alternatives[0].change, "; ") == NULL);
        CU_ASSERT_EQUAL(v->renamed, cases[i].swapped);
        CU_ASSERT_EQUAL(v->order[1], cases[i].swapped ? 4 : 1);
        CU_ASSERT_EQUAL(v->order[4], cases[i].swapped ? 1 : 4);
        CU_ASSERT_EQUAL(v->order[2], 2);
        int most = MAX(v->order_correct, v->alternatives[0].correct);
        CU_ASSERT(most > 0.93 * v->images);
        nsk_vetting_free(v);
        nsk_images_free(set);
        kiln_free(&k);
    }
}

/* Grey pictures are tried with one mean and one deviation, never with three. */
static void grey_has_one_mean(void) {
    char *folder = scratch_new();
    char *path = scratch_path(folder, "grey.onnx");
    char *pictures = scratch_path(folder, "set");
    char *names[] = {(char *)"a", (char *)"b", (char *)"c", (char *)"d", NULL};
    const nsk_labels labels = {.count = 4, .names = names};
    nsk_input input = {
        .width = 8, .height = 8, .colour = NSK_COLOUR_GREY, .deviation = {1, 1, 1}, .top = 1};
    nsk_error error = {.text = ""};
    random_state r = {3};
    onnx_maker *m = onnx_new(13, 1, 8, 8);
    onnx_floats(m, "w", 2, (const int[]){64, 4}, &r, 1.0F);
    onnx_node(m, "Flatten", "x", "f", "");
    onnx_node(m, "MatMul", "f w", "y", "");
    onnx_finish(m, path);
    noise_set(pictures, &labels, 5, 8, 8);
    nsk_network *network = nsk_network_read(path, &input, NULL, &error);
    nsk_images *set = nsk_images_open(pictures, &labels, &input, 0, false, &error);
    assert_error(&error, "");
    CU_ASSERT_FATAL(network != NULL && set != NULL);
    nsk_vetting *v = nsk_vet(network, set, NULL, NULL, &error);
    CU_ASSERT_PTR_NOT_NULL_FATAL(v);
    CU_ASSERT(v->count > 4);
    for (int i = 0; i < v->count; i++) {
        for (const char *at = strchr(v->alternatives[i].change, ';'); at != NULL;
             at = strchr(at + 1, ';')) {
            CU_ASSERT_EQUAL(at[1], ' '); /* parts keys, not channels */
        }
    }
    nsk_vetting_free(v);
    nsk_images_free(set);
    nsk_network_free(network);
    g_free(path);
    g_free(pictures);
    scratch_remove(folder);
}

CU_TestInfo vet_tests[] = {
    {"grey has one mean", grey_has_one_mean},
    {"assignments are the best of all", assignments_are_the_best},
    {"the paired chance, worked by hand", paired_chance_by_hand},
    {"mistakes in the brief are named", mistakes_are_named},
    CU_TEST_INFO_NULL,
};
