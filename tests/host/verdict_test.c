/* Verdicts: what makes them open, what breaks them. */
#include <math.h>
#include <string.h>

#include "../suites.h"
#include "../support.h"
#include "netsuke/verdict.h"

static void intervals_decide(void) {
    CU_ASSERT_EQUAL(nsk_interval_standing(-1.0, 0.5, 1.0), NSK_STANDING_HOLDS);
    CU_ASSERT_EQUAL(nsk_interval_standing(-1.0, 1.0, 1.0), NSK_STANDING_HOLDS);
    CU_ASSERT_EQUAL(nsk_interval_standing(0.9, 1.1, 1.0), NSK_STANDING_OPEN);
    CU_ASSERT_EQUAL(nsk_interval_standing(1.0, 1.1, 1.0), NSK_STANDING_OPEN);
    CU_ASSERT_EQUAL(nsk_interval_standing(1.1, 1.2, 1.0), NSK_STANDING_BROKEN);
    CU_ASSERT_EQUAL(nsk_interval_standing(5.0, 9.0, INFINITY), NSK_STANDING_HOLDS);
}

/* Pictures that should not be there, of a hundred: the share that makes a figure worthless. */
static void sets_are_judged(void) {
    static const struct {
        int overlap, near, twice, unreadable, empty;
        nsk_standing standing;
        const char *said;
    } cases[] = {
        {0, 0, 0, 0, 0, NSK_STANDING_HOLDS, "none stands in both"},
        {1, 0, 0, 0, 0, NSK_STANDING_OPEN, "1 of 200 held-out images stand in the calibration set"},
        {2, 0, 0, 0, 0, NSK_STANDING_BROKEN, "2 of 200"},
        {0, 9, 0, 0, 0, NSK_STANDING_OPEN, "9 of 200 held-out images nearly repeat"},
        {0, 0, 2, 0, 0, NSK_STANDING_OPEN, "under two labels, one of which is wrong: 2"},
        {0, 0, 3, 0, 0, NSK_STANDING_BROKEN, "under two labels, one of which is wrong: 3"},
        {0, 0, 0, 1, 0, NSK_STANDING_BROKEN, "images of the held-out set that cannot be read: 1"},
        {0, 0, 0, 0, 1, NSK_STANDING_BROKEN, "the held-out set has no image of 'b'"},
    };
    char *names[] = {(char *)"a", (char *)"b"};
    const nsk_labels labels = {.count = 2, .names = names};
    for (size_t i = 0; i < G_N_ELEMENTS(cases); i++) {
        int calibration[2] = {50, 50};
        int held_out[2] = {100, cases[i].empty ? 0 : 100};
        nsk_survey s = {.overlap = cases[i].overlap};
        s.sets[0] = (nsk_survey_set){.name = "calibration", .images = 100, .in_class = calibration};
        s.sets[1] = (nsk_survey_set){.name = "held-out",
                                     .images = 200,
                                     .in_class = held_out,
                                     .unreadable = cases[i].unreadable};
        s.near[NSK_TWINS_IN_BOTH_SETS] = cases[i].near;
        s.exact[NSK_TWINS_IN_TWO_CLASSES] = cases[i].twice;
        nsk_verdict *v = nsk_verdict_new();
        nsk_judge_survey(v, &s, &labels);
        CU_ASSERT_EQUAL_FATAL(v->count, 1);
        CU_ASSERT_EQUAL(nsk_verdict_standing(v), cases[i].standing);
        CU_ASSERT_PTR_NOT_NULL(strstr(v->finding[0].text, cases[i].said));
        nsk_verdict_free(v);
    }
}

/* A comparison of so many images and flips, two classes of them half each. */
static nsk_verdict *judge(int images, int float_correct, int lost, int won, double limit) {
    char *names[] = {(char *)"a", (char *)"b"};
    const nsk_labels labels = {.count = 2, .names = names};
    nsk_answer *answers = g_new0(nsk_answer, images);
    nsk_comparison c = {.images = images,
                        .classes = 2,
                        .answers = answers,
                        .float_correct = float_correct,
                        .integer_correct = float_correct - lost + won,
                        .lost = lost,
                        .won = won,
                        .loss_points = 100.0 * (lost - won) / images};
    for (int i = 0; i < images; i++) {
        answers[i].label = i % 2;
    }
    nsk_paired_interval(lost, won, images, &c.loss_low, &c.loss_high);
    c.loss_low *= 100.0;
    c.loss_high *= 100.0;
    nsk_verdict *v = nsk_verdict_new();
    nsk_judge_comparison(v, &c, &labels, limit);
    g_free(answers);
    return v;
}

static void losses_are_judged(void) {
    static const struct {
        int images, float_correct, lost, won;
        double limit;
        nsk_standing standing;
        const char *said;
    } cases[] = {
        {1000, 950, 3, 3, 1.0, NSK_STANDING_HOLDS, "0.00 points lost"},
        {1000, 950, 12, 3, 1.0, NSK_STANDING_OPEN, "images would settle it"},
        {1000, 950, 8, 3, 0.6, NSK_STANDING_OPEN, "images would settle it"},
        {1000, 950, 60, 3, 1.0, NSK_STANDING_BROKEN, "5.70 points lost"},
        {1000, 950, 13, 3, 1.0, NSK_STANDING_OPEN, "no number settles it"},
        {24, 24, 0, 0, 1.0, NSK_STANDING_OPEN, "images would settle it"},
        {24, 24, 0, 0, INFINITY, NSK_STANDING_HOLDS, "0.00 points lost"},
        {1000, 510, 3, 3, INFINITY, NSK_STANDING_HOLDS,
         "float 51.00 %"}, /* a bad one, but not hopeless */
        {1000, 400, 3, 3, 1.0, NSK_STANDING_BROKEN, "no better than always to say 'a'"},
        {1000, 500, 3, 3, 1.0, NSK_STANDING_BROKEN, "no better than always to say 'a'"},
        {1000, 0, 0, 0, 1.0, NSK_STANDING_BROKEN, "right on 0.00 %"},
    };
    for (size_t i = 0; i < G_N_ELEMENTS(cases); i++) {
        nsk_verdict *v = judge(cases[i].images, cases[i].float_correct, cases[i].lost, cases[i].won,
                               cases[i].limit);
        CU_ASSERT_EQUAL(nsk_verdict_standing(v), cases[i].standing);
        CU_ASSERT_PTR_NOT_NULL(strstr(v->finding[0].text, cases[i].said));
        if (strstr(v->finding[0].text, cases[i].said) == NULL) {
            fprintf(stderr, "\n    %s\n", v->finding[0].text);
        }
        nsk_verdict_free(v);
    }
}

static void rehearsals_are_judged(void) {
    static const struct {
        nsk_rehearsed_counts counts;
        double dropped, missed;
        nsk_standing standing;
        const char *said;
    } cases[] = {
        {{100, 0, 0, 10, 1, 9, 0}, 0.0, INFINITY, NSK_STANDING_HOLDS, "1 of 10 events missed"},
        {{100, 1, 0, 10, 1, 9, 0},
         0.0,
         INFINITY,
         NSK_STANDING_BROKEN,
         "1 of 100 frames came while"},
        {{100, 9, 0, 10, 1, 9, 0},
         0.1,
         INFINITY,
         NSK_STANDING_HOLDS,
         "none dropped beyond what is allowed"},
        {{100, 0, 2, 10, 1, 9, 0},
         0.0,
         INFINITY,
         NSK_STANDING_OPEN,
         "2 of 100 frames had no answer"},
        {{100, 0, 9, 10, 1, 9, 0},
         0.0,
         INFINITY,
         NSK_STANDING_BROKEN,
         "9 of 100 frames had no answer"},
        {{100, 0, 0, 100, 1, 9, 0}, 0.0, 0.1, NSK_STANDING_HOLDS, "1 of 100 events missed"},
        {{100, 0, 0, 10, 1, 9, 0}, 0.0, 0.1, NSK_STANDING_OPEN, "of 10.0 % allowed"},
        {{100, 0, 0, 100, 40, 60, 0}, 0.0, 0.1, NSK_STANDING_BROKEN, "40 of 100 events missed"},
    };
    for (size_t i = 0; i < G_N_ELEMENTS(cases); i++) {
        nsk_limits limits;
        nsk_limits_init(&limits);
        limits.dropped = cases[i].dropped;
        limits.missed = cases[i].missed;
        nsk_verdict *v = nsk_verdict_new();
        nsk_judge_rehearsal(v, &cases[i].counts, &limits);
        CU_ASSERT_EQUAL(nsk_verdict_standing(v), cases[i].standing);
        CU_ASSERT_PTR_NOT_NULL(strstr(v->finding[0].text, cases[i].said));
        nsk_verdict_free(v);
    }
}

CU_TestInfo verdict_tests[] = {
    {"intervals decide", intervals_decide},
    {"sets", sets_are_judged},
    {"losses", losses_are_judged},
    {"rehearsals", rehearsals_are_judged},
    CU_TEST_INFO_NULL,
};
