/* Variants side by side: which are beaten, intervals of a share, the drawing. */
#include <math.h>
#include <string.h>

#include "../suites.h"
#include "../support.h"
#include "images/picture.h"
#include "netsuke/compare.h"
#include "netsuke/weigh.h"

/* Worked by hand: 8 of 10 is 0.4901 to 0.9433, nothing of 20 is 0 to 0.1611. */
static void shares_by_hand(void) {
    static const struct {
        int part, whole;
        double low, high;
    } cases[] = {{8, 10, 0.49016, 0.94332},
                 {0, 20, 0.0, 0.16113},
                 {20, 20, 0.83887, 1.0},
                 {1, 2, 0.09453, 0.90547}};
    for (size_t i = 0; i < G_N_ELEMENTS(cases); i++) {
        double low;
        double high;
        nsk_share_interval(cases[i].part, cases[i].whole, &low, &high);
        CU_ASSERT_DOUBLE_EQUAL(low, cases[i].low, 1e-5);
        CU_ASSERT_DOUBLE_EQUAL(high, cases[i].high, 1e-5);
    }
}

/* The interval holds the truth about as often as it says. */
static void shares_cover_the_truth(void) {
    enum { TRIALS = 4000, IMAGES = 300 };
    static const double truths[] = {0.5, 0.9, 0.97};
    random_state r = {81};
    for (size_t k = 0; k < G_N_ELEMENTS(truths); k++) {
        int covered = 0;
        for (int t = 0; t < TRIALS; t++) {
            int right = 0;
            double low;
            double high;
            for (int i = 0; i < IMAGES; i++) {
                right += random_chance(&r, truths[k]);
            }
            nsk_share_interval(right, IMAGES, &low, &high);
            covered += low <= truths[k] && truths[k] <= high;
        }
        CU_ASSERT(covered >= TRIALS * 93 / 100);
        CU_ASSERT(covered <= TRIALS * 98 / 100);
    }
}

static nsk_variant made(const char *name, int right, double flash, double ram, double seconds,
                        double joules) {
    nsk_variant v = {.name = name,
                     .images = 100,
                     .integer_correct = right,
                     .flash = flash,
                     .ram = ram,
                     .seconds = seconds,
                     .joules = joules,
                     .fits = true};
    nsk_share_interval(right, 100, &v.accuracy_low, &v.accuracy_high);
    v.limits[NSK_LIMIT_LATENCY] =
        (nsk_budget_limit){"latency", "seconds", 0.1, seconds, seconds <= 0.1, false};
    return v;
}

static void the_beaten_are_marked(void) {
    nsk_variant v[] = {
        made("large", 95, 100, 50, 0.08, 0.002),  made("small", 85, 40, 20, 0.02, 0.001),
        made("worse", 84, 40, 20, 0.02, 0.001),   made("slower", 95, 100, 50, 0.09, 0.002),
        made("twin", 85, 40, 20, 0.02, 0.001),    made("unknown power", 96, 100, 50, 0.07, -1.0),
        made("less RAM", 80, 200, 10, 0.5, 0.01),
    };
    static const char *const by[] = {"unknown power", NULL, "small", "large", NULL, NULL, NULL};
    nsk_weigh(v, (int)G_N_ELEMENTS(v));
    for (size_t i = 0; i < G_N_ELEMENTS(v); i++) {
        const char *beaten_by = v[i].beaten_by == NSK_NO_VARIANT ? NULL : v[v[i].beaten_by].name;
        if (g_strcmp0(beaten_by, by[i]) != 0) {
            fprintf(stderr, "\n    %s: %s\n", v[i].name, beaten_by != NULL ? beaten_by : "none");
        }
        CU_ASSERT_EQUAL(g_strcmp0(beaten_by, by[i]), 0);
    }
}

static int count_pixels(const nsk_picture *p, unsigned rgb) {
    int count = 0;
    for (size_t i = 0; i < (size_t)p->width * (size_t)p->height; i++) {
        const uint8_t *at = p->rgb + 3 * i;
        count += ((unsigned)at[0] << 16 | (unsigned)at[1] << 8 | at[2]) == rgb;
    }
    return count;
}

/* A disc for each that fits, a ring for one that does not, grey for one that is beaten. */
static void variants_are_drawn(void) {
    char *folder = scratch_new();
    char *png = scratch_path(folder, "weigh.png");
    nsk_error error = {.text = ""};
    nsk_variant v[] = {made("a", 95, 100, 50, 0.08, 0.002), made("b", 85, 40, 20, 0.02, 0.001)};
    int clay[2];
    for (int i = 0; i < 2; i++) {
        nsk_picture drawn;
        v[0].fits = i == 0;
        nsk_weigh(v, 2);
        CU_ASSERT(nsk_weigh_draw(v, 2, png, &error));
        CU_ASSERT_FATAL(nsk_picture_read(png, &drawn, &error));
        CU_ASSERT(drawn.width == 1280 && drawn.height == 800);
        clay[i] = count_pixels(&drawn, 0xb5533c);
        CU_ASSERT(count_pixels(&drawn, 0x2f6f73) > 300); /* the limit */
        nsk_picture_clear(&drawn);
    }
    CU_ASSERT(clay[0] > clay[1] + 1500);
    CU_ASSERT_FALSE(nsk_weigh_draw(v, 2, "/nowhere/w.svg", &error));
    assert_error(&error, "/nowhere/w.svg");
    g_free(png);
    scratch_remove(folder);
}

CU_TestInfo weigh_tests[] = {
    {"shares, worked by hand", shares_by_hand},
    {"shares cover the truth", shares_cover_the_truth},
    {"the beaten are marked", the_beaten_are_marked},
    {"variants are drawn", variants_are_drawn},
    CU_TEST_INFO_NULL,
};
