/* Changes done to frames, and both models under them. */
#include <math.h>
#include <string.h>

#include "../suites.h"
#include "../support.h"
#include "images/changes.h"
#include "netsuke/compare.h"

enum { SIDE = 24, BYTES = 3 * SIDE * SIDE };

static const nsk_change *change_named(const char *name) {
    for (int i = 0; i < nsk_change_count; i++) {
        if (strcmp(nsk_changes[i].name, name) == 0) {
            return &nsk_changes[i];
        }
    }
    CU_FAIL_FATAL("no such change");
    return NULL;
}

/* A bright square on a dark ground, in three colours. */
static void draw_scene(uint8_t *bytes) {
    for (int i = 0; i < BYTES; i++) {
        int x = i / 3 % SIDE;
        int y = i / 3 / SIDE;
        bool inside = x >= 8 && x < 16 && y >= 8 && y < 16;
        bytes[i] = (uint8_t)(inside ? 160 + 20 * (i % 3) : 40);
    }
}

static void apply(const char *name, double amount, uint64_t random, uint8_t *bytes) {
    nsk_error error = {.text = ""};
    uint8_t *frames = g_malloc((gsize)NSK_LEAST_BACKDROP * BYTES);
    for (int i = 0; i < NSK_LEAST_BACKDROP * BYTES;
         i++) { /* the ground alone, darker and brighter */
        frames[i] = (uint8_t)(37 + 2 * (i / BYTES));
    }
    nsk_backdrop *backdrop = nsk_backdrop_new(frames, NSK_LEAST_BACKDROP, BYTES);
    nsk_frame frame = {bytes, SIDE, SIDE, 3, NSK_COLOUR_RGB, backdrop};
    draw_scene(bytes);
    random_state state = {random};
    CU_ASSERT(change_named(name)->apply(&frame, amount, &state, &error));
    assert_error(&error, "");
    nsk_backdrop_free(backdrop);
}

static double distance(const uint8_t *a, const uint8_t *b) {
    double sum = 0.0;
    for (int i = 0; i < BYTES; i++) {
        sum += (a[i] - b[i]) * (a[i] - b[i]);
    }
    return sqrt(sum / BYTES);
}

static void changes_do_what_they_say(void) {
    uint8_t scene[BYTES];
    uint8_t out[BYTES];
    draw_scene(scene);
    apply("darker", 50, 1, out);
    CU_ASSERT(out[0] == 20 && out[3 * (12 * SIDE + 12)] == 80);
    apply("brighter", 200, 1, out);
    CU_ASSERT(out[0] == 80 && out[3 * (12 * SIDE + 12)] == 255);
    apply("flatter", 0, 1, out); /* the mean: 40 + (140 of 64 of 576 pixels) */
    CU_ASSERT(out[0] == 56 && out[BYTES - 1] == 56 && out[3 * (12 * SIDE + 12)] == 56);
    apply("colour cast", 50, 3, out);
    CU_ASSERT((out[0] == 60 && out[2] == 20) || (out[0] == 20 && out[2] == 60));
    CU_ASSERT_EQUAL(out[1], 40);
    apply("noise", 10, 5, out);
    CU_ASSERT(fabs(distance(out, scene) - 10.0) < 0.5);
    apply("blur", 1.0, 1, out);
    CU_ASSERT(out[0] == 40 && out[3 * (12 * SIDE + 8)] > 80 && out[3 * (12 * SIDE + 8)] < 130);
    apply("turn", 360, 1, out);
    CU_ASSERT(distance(out, scene) < 0.1);
    apply("turn", 90, 1, out); /* a square in the middle stays where it is */
    CU_ASSERT(distance(out, scene) < 0.1);
    apply("zoom", 100, 1, out);
    CU_ASSERT(distance(out, scene) < 0.1);
    apply("hidden", 100, 1, out);
    CU_ASSERT(out[0] == 128 && out[BYTES - 1] == 128);
    int grey = 0;
    apply("hidden", 25, 7, out);
    for (int i = 0; i < BYTES; i++) {
        grey += out[i] == 128;
    }
    CU_ASSERT_EQUAL(grey, BYTES / 4);
    apply("background", 100, 2, out); /* the square stays; what is around it is that of a frame */
    CU_ASSERT(out[3 * (12 * SIDE + 12)] == 160 && out[3 * (12 * SIDE + 12) + 2] == 200);
    CU_ASSERT(out[0] % 2 == 1 && out[0] >= 37 && out[0] <= 45);
    CU_ASSERT_EQUAL(out[BYTES - 1], out[0]);
}

/* A stronger one is farther from the scene, and the same number gives the same change again. */
static void changes_grow_and_repeat(void) {
    uint8_t scene[BYTES];
    uint8_t out[2][BYTES];
    draw_scene(scene);
    for (int c = 0; c < nsk_change_count; c++) {
        const nsk_change *change = &nsk_changes[c];
        double before = 0.0;
        for (int k = 0; k < NSK_STRENGTHS; k++) {
            apply(change->name, change->amount[k], 11, out[0]);
            apply(change->name, change->amount[k], 11, out[1]);
            CU_ASSERT_EQUAL(memcmp(out[0], out[1], BYTES), 0);
            double after = distance(out[0], scene);
            if (after < before) {
                fprintf(stderr, "\n    %s at %g: %.2f after %.2f\n", change->name,
                        change->amount[k], after, before);
            }
            CU_ASSERT(after >= before && after > 0.0);
            before = after;
        }
    }
}

/* Of one that was spoilt on purpose it says so; of a sound one it does not. */
static void early_breaks_are_found(void) {
    nsk_error error = {.text = ""};
    kiln k;
    kiln_load(&k, 60);
    nsk_images *few =
        nsk_images_open(k.brief->held_out, &k.brief->labels, &k.brief->input, 60, false, &error);
    CU_ASSERT_PTR_NOT_NULL_FATAL(few);
    nsk_stress *s = nsk_stress_measure(k.network, k.file, few, 0, 1, NULL, NULL, &error);
    assert_error(&error, "");
    CU_ASSERT_PTR_NOT_NULL_FATAL(s);
    CU_ASSERT_EQUAL(s->images, 60);
    CU_ASSERT_EQUAL(s->changes, nsk_change_count);
    CU_ASSERT_STRING_EQUAL(s->change[s->changes - 1].name, "background");
    CU_ASSERT(s->unchanged.float_correct >= 54);
    int breaks = 0;
    for (int c = 0; c < s->changes; c++) {
        const nsk_stress_count *n = s->change[c].count;
        bool harmless = c == s->changes - 1; /* belts were behind the tiles before */
        CU_ASSERT(harmless || n[4].float_correct < s->unchanged.float_correct);
        for (int i = 0; i < NSK_STRENGTHS; i++) {
            CU_ASSERT_EQUAL(n[i].float_correct - n[i].integer_correct, n[i].lost - n[i].won);
            breaks += nsk_stress_breaks(s, &n[i]);
        }
    }
    CU_ASSERT_EQUAL(breaks, 0);
    nsk_stress_count spoilt = {60, 40, 20, 0, nsk_paired_chance(20, 0)};
    CU_ASSERT(nsk_stress_breaks(s, &spoilt));
    spoilt = (nsk_stress_count){60, 55, 5, 0, nsk_paired_chance(5, 0)};
    CU_ASSERT_FALSE(nsk_stress_breaks(s, &spoilt));
    nsk_stress_free(s);
    s = nsk_stress_measure(k.network, k.file, few, NSK_NO_CLASS, 1, NULL, NULL, &error);
    CU_ASSERT_PTR_NOT_NULL_FATAL(s);
    CU_ASSERT_EQUAL(s->changes, nsk_change_count - 1);
    nsk_stress_free(s);
    nsk_images_free(few);
    kiln_free(&k);
}

CU_TestInfo stress_tests[] = {
    {"changes do what they say", changes_do_what_they_say},
    {"changes grow with their strength, and repeat", changes_grow_and_repeat},
    {"early breaks are found", early_breaks_are_found},
    CU_TEST_INFO_NULL,
};
