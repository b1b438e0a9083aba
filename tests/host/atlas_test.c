/* Images on a plane, and those that are labelled wrongly among them. */
#include <math.h>
#include <omp.h>
#include <stdio.h>
#include <string.h>

#include "../suites.h"
#include "../support.h"
#include "analysis/neighbours.h"
#include "netsuke/atlas.h"

enum { EACH = 12 };

/* Some pictures of every class, and two of the last that are said to be of the first. */
static nsk_images *open_mixed(const kiln *k, const char *folder, int each, nsk_error *error) {
    char *path = scratch_path(folder, "list.csv");
    GString *list = g_string_new("path,label\n");
    const nsk_labels *labels = &k->brief->labels;
    for (int c = 0; c < labels->count; c++) {
        for (int i = 0; i < each; i++) {
            g_string_append_printf(list, "%s/%s/%s-%04d.png,%s\n", k->brief->held_out,
                                   labels->names[c], labels->names[c], i, labels->names[c]);
        }
    }
    for (int i = each; i < each + 2; i++) {
        const char *name = labels->names[labels->count - 1];
        g_string_append_printf(list, "%s/%s/%s-%04d.png,%s\n", k->brief->held_out, name, name, i,
                               labels->names[0]);
    }
    scratch_write_text(path, list->str);
    nsk_images *images = nsk_images_open(path, labels, &k->brief->input, 0, false, error);
    g_string_free(list, TRUE);
    g_free(path);
    return images;
}

static void wrong_labels_are_found(void) {
    nsk_error error = {.text = ""};
    kiln k;
    kiln_load(&k, 60);
    char *folder = scratch_new();
    nsk_images *images = open_mixed(&k, folder, EACH, &error);
    CU_ASSERT_PTR_NOT_NULL_FATAL(images);
    nsk_network *equalised = nsk_network_equalised(k.network, k.calibration, &error);
    CU_ASSERT_PTR_NOT_NULL_FATAL(equalised);
    nsk_atlas *a = nsk_atlas_make(equalised, k.file, images, false, NULL, NULL, &error);
    assert_error(&error, "");
    CU_ASSERT_PTR_NOT_NULL_FATAL(a);
    int last = k.brief->labels.count - 1;
    CU_ASSERT_EQUAL(a->images, 6 * EACH + 2);
    CU_ASSERT_EQUAL(a->numbers, 128);
    CU_ASSERT(a->spread[0] >= a->spread[1] && a->spread[1] > 0.0);
    CU_ASSERT(a->spread[0] + a->spread[1] < 1.0);
    double sum[2] = {0.0, 0.0};
    double square[2] = {0.0, 0.0};
    double product = 0.0;
    for (int i = 0; i < a->images; i++) {
        const nsk_atlas_side *f = &a->image[i].in_float;
        const nsk_atlas_side *n = &a->image[i].in_integer;
        CU_ASSERT_EQUAL(nsk_atlas_is_astray(&a->image[i]) && f->other == last &&
                            a->image[i].label == 0,
                        i >= 6 * EACH);
        CU_ASSERT(f->of_its_own + f->of_other <= NSK_NEIGHBOURS);
        CU_ASSERT(hypot(f->x - n->x, f->y - n->y) < 1.0); /* the integer model is near */
        sum[0] += f->x;
        sum[1] += f->y;
        square[0] += f->x * f->x;
        square[1] += f->y * f->y;
        product += f->x * f->y;
    }
    CU_ASSERT(fabs(sum[0]) < 1e-6 && fabs(sum[1]) < 1e-6); /* about the mean */
    CU_ASSERT(fabs(product) < 1e-6 * square[0]);           /* along axes of their own */
    CU_ASSERT(square[0] / square[1] > 0.999 * a->spread[0] / a->spread[1]);
    CU_ASSERT(square[0] / square[1] < 1.001 * a->spread[0] / a->spread[1]);
    nsk_atlas_free(a);
    nsk_images_free(images);

    images =
        nsk_images_open(k.brief->held_out, &k.brief->labels, &k.brief->input, 2, false, &error);
    CU_ASSERT_PTR_NOT_NULL_FATAL(images);
    CU_ASSERT_PTR_NULL(nsk_atlas_make(equalised, k.file, images, false, NULL, NULL, &error));
    assert_error(&error, "an atlas takes 3 to 2000");
    nsk_images_free(images);
    nsk_network_free(equalised);
    scratch_remove(folder);
    kiln_free(&k);
}

/* How many points have one of another group for nearest; group by number. */
static int count_apart(const double *plane, int points, int groups) {
    int apart = 0;
    for (int i = 0; i < points; i++) {
        int nearest = -1;
        double least = INFINITY;
        for (int k = 0; k < points; k++) {
            double distance =
                hypot(plane[2 * i] - plane[2 * k], plane[2 * i + 1] - plane[2 * k + 1]);
            if (k != i && distance < least) {
                least = distance;
                nearest = k;
            }
        }
        apart += nearest % groups != i % groups;
    }
    return apart;
}

/* Groups along more directions than a plane has: a point's nearest on the plane is of its group. */
static void neighbours_stay_near(void) {
    enum { GROUPS = 7, EACH_GROUP = 20, POINTS = GROUPS * EACH_GROUP, NUMBERS = 12 };
    static double x[POINTS * NUMBERS];
    static double plane[2][2 * POINTS];
    random_state r = {51};
    for (int i = 0; i < POINTS; i++) {
        for (int k = 0; k < NUMBERS; k++) {
            x[i * NUMBERS + k] = 0.3 * random_normal(&r) + (k == i % GROUPS ? 3.0 : 0.0);
        }
        for (int k = 0; k < 2; k++) {
            plane[0][2 * i + k] = plane[1][2 * i + k] = x[i * NUMBERS + k];
        }
    }
    int before = count_apart(plane[0], POINTS, GROUPS);
    int threads = omp_get_max_threads();
    for (int i = 0; i < 2; i++) {
        omp_set_num_threads(1 + i);
        nsk_map_neighbours(x, POINTS, NUMBERS, plane[i]);
    }
    omp_set_num_threads(threads);
    CU_ASSERT(before > POINTS / 3);
    CU_ASSERT_EQUAL(count_apart(plane[0], POINTS, GROUPS), 0);
    CU_ASSERT_EQUAL(memcmp(plane[0], plane[1], sizeof plane[0]), 0);
}

CU_TestInfo atlas_tests[] = {
    {"neighbours stay near", neighbours_stay_near},
    {"wrong labels are found", wrong_labels_are_found},
    CU_TEST_INFO_NULL,
};
