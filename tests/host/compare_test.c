/* The statistics of paired answers, and comparing the demo's models. */
#include <math.h>
#include <stdlib.h>
#include <string.h>

#include "../suites.h"
#include "../support.h"
#include "netsuke/verdict.h"

/* Worked by hand: 12 lost, 5 won of 100. p = 13/102 and 6/102, d = 7/102, variance
 * (19/102 - (7/102)^2) / 102, times 1.959964. */
static void interval_by_hand(void) {
    double low;
    double high;
    nsk_paired_interval(12, 5, 100, &low, &high);
    double d = 7.0 / 102.0;
    double spread = 1.959964 * sqrt((19.0 / 102.0 - d * d) / 102.0);
    CU_ASSERT_DOUBLE_EQUAL(low, d - spread, 1e-6);
    CU_ASSERT_DOUBLE_EQUAL(high, d + spread, 1e-6);
    CU_ASSERT_DOUBLE_EQUAL(low, -0.01413, 1e-4);
    CU_ASSERT_DOUBLE_EQUAL(high, 0.15138, 1e-4);
    nsk_paired_interval(0, 0, 1200, &low, &high);
    CU_ASSERT(low < 0.0 && high > 0.0 && high < 0.004);
    nsk_paired_interval(1, 0, 1, &low, &high);
    CU_ASSERT(low >= -1.0 && high <= 1.0);
}

/* 95 % intervals hold the truth in about 95 of 100 trials; in more where so few images differ that
 * the counts are coarse (the last pair: five of 600), never in fewer. */
static void interval_covers(void) {
    random_state r = {51};
    static const double rates[][2] = {
        {0.02, 0.01}, {0.05, 0.05}, {0.10, 0.02}, {0.01, 0.01}, {0.004, 0.004}};
    for (size_t k = 0; k < G_N_ELEMENTS(rates); k++) {
        enum { TRIALS = 2000, IMAGES = 600 };
        int covered = 0;
        for (int t = 0; t < TRIALS; t++) {
            int lost = 0;
            int won = 0;
            for (int i = 0; i < IMAGES; i++) {
                double u = random_between(&r, 0, 1);
                lost += u < rates[k][0];
                won += u >= rates[k][0] && u < rates[k][0] + rates[k][1];
            }
            double low;
            double high;
            nsk_paired_interval(lost, won, IMAGES, &low, &high);
            double truth = rates[k][0] - rates[k][1];
            covered += low <= truth && truth <= high;
        }
        CU_ASSERT(covered >= TRIALS * 94 / 100);
        CU_ASSERT(k + 1 == G_N_ELEMENTS(rates) || covered <= TRIALS * 98 / 100);
    }
}

/* Three classes, eight answers: worked by hand. */
static void scores_by_hand(void) {
    static nsk_answer answers[] = {
        {0, 0, 0, 1.0F, 0.95F, {0, 0}, {1, 1}, 0.0F, 0.0F, false, {false, false}, false},
        {0, 0, 1, 0.9F, 0.5F, {0, 1}, {1, 1}, 0.0F, 0.0F, false, {false, false}, false},
        {0, 1, 1, 0.6F, 0.5F, {2, 1}, {1, 1}, 0.0F, 0.0F, false, {false, false}, false},
        {1, 1, 1, 0.8F, 0.9F, {0, 0}, {1, 1}, 0.0F, 0.0F, false, {false, false}, false},
        {1, 1, 1, 0.7F, 0.7F, {0, 0}, {1, 1}, 0.0F, 0.0F, false, {false, false}, false},
        {1, 0, 0, 0.5F, 0.5F, {1, 3}, {1, 1}, 0.0F, 0.0F, false, {false, false}, false},
        {2, 2, 2, 1.0F, 1.0F, {0, 0}, {1, 1}, 0.0F, 0.0F, false, {false, false}, false},
        {2, 0, 2, 0.4F, 0.6F, {1, 0}, {1, 1}, 0.0F, 0.0F, false, {false, false}, false},
    };
    const nsk_comparison c = {.images = 8, .classes = 4, .answers = answers};
    nsk_scoring *s = nsk_scoring_of(&c, false);
    CU_ASSERT_EQUAL(s->classes[0].answers, 4);
    CU_ASSERT_DOUBLE_EQUAL(s->classes[0].precision, 2.0 / 4.0, 1e-12);
    CU_ASSERT_DOUBLE_EQUAL(s->classes[0].recall, 2.0 / 3.0, 1e-12);
    CU_ASSERT_DOUBLE_EQUAL(s->classes[0].f1, 4.0 / 7.0, 1e-12);
    CU_ASSERT_DOUBLE_EQUAL(s->classes[2].recall, 0.5, 1e-12);
    CU_ASSERT_DOUBLE_EQUAL(s->classes[3].precision, 0.0, 1e-12);
    CU_ASSERT_DOUBLE_EQUAL(s->balanced_accuracy, (2.0 / 3.0 + 2.0 / 3.0 + 0.5) / 3.0, 1e-12);
    /* each probability has a bin of its own but 1.0, twice right: 0 + .1 + .6 + .2 + .3 + .5 + .4
     */
    CU_ASSERT_DOUBLE_EQUAL(s->calibration_error, 2.1 / 8.0, 1e-6);
    CU_ASSERT(s->bins[14].images == 2 && s->bins[7].images == 1 && s->bins[0].images == 0);
    CU_ASSERT_DOUBLE_EQUAL(s->bins[14].right, 1.0, 1e-12);
    CU_ASSERT_DOUBLE_EQUAL(s->bins[7].said, 0.5, 1e-6);
    CU_ASSERT_DOUBLE_EQUAL(s->bins[7].right, 0.0, 1e-12);
    nsk_scoring_free(s);
    s = nsk_scoring_of(&c, true);
    CU_ASSERT_DOUBLE_EQUAL(s->classes[1].precision, 2.0 / 4.0, 1e-12);
    CU_ASSERT_DOUBLE_EQUAL(s->classes[2].f1, 1.0, 1e-12);
    nsk_scoring_free(s);
    CU_ASSERT_EQUAL(nsk_right_among(&c, 1, false), 5);
    CU_ASSERT_EQUAL(nsk_right_among(&c, 2, false), 7);
    CU_ASSERT_EQUAL(nsk_right_among(&c, 2, true), 7);
    CU_ASSERT_EQUAL(nsk_right_among(&c, 3, true), 7);
    CU_ASSERT_EQUAL(nsk_right_among(&c, 4, true), 8);
    /* four classes of one score: each is the first in one order of four */
    answers[0].equals[1] = 4;
    CU_ASSERT_DOUBLE_EQUAL(nsk_right_among(&c, 1, true), 4.25, 1e-12);
    CU_ASSERT_DOUBLE_EQUAL(nsk_right_among(&c, 2, true), 6.5, 1e-12);
    answers[0].equals[1] = 1;
}

/* So many images, differing as often, and the interval has left the limit; a twentieth fewer, and
 * it has not. */
static void so_many_images_decide(void) {
    static const double limits[] = {0.005, 0.02, 0.03, -0.01};
    for (size_t i = 0; i < G_N_ELEMENTS(limits); i++) {
        int images = nsk_images_to_decide(20, 8, 1000, limits[i]);
        for (int k = 0; k < 2; k++) {
            double times = images / 1000.0 * (k == 0 ? 1.0 : 0.95);
            double low;
            double high;
            nsk_paired_interval(20 * times, 8 * times, 1000 * times, &low, &high);
            bool open = nsk_interval_standing(low, high, limits[i]) == NSK_STANDING_OPEN;
            CU_ASSERT(open == (k == 1) || images == 1000);
        }
    }
    CU_ASSERT_EQUAL(nsk_images_to_decide(20, 8, 1000, 0.012), G_MAXINT);
}

/* With so many images a true loss is found about four times in five. */
static void so_many_images_settle(void) {
    enum { TRIALS = 2000 };
    const double lost_rate = 0.035;
    const double won_rate = 0.015;
    random_state r = {53};
    int images = nsk_images_to_settle(35, 15, 1000, lost_rate - won_rate);
    int found = 0;
    for (int t = 0; t < TRIALS; t++) {
        int lost = 0;
        int won = 0;
        for (int i = 0; i < images; i++) {
            double u = random_between(&r, 0, 1);
            lost += u < lost_rate;
            won += u >= lost_rate && u < lost_rate + won_rate;
        }
        double statistic = (lost - won) / sqrt(lost + won);
        found += statistic > 1.96;
    }
    CU_ASSERT(images > 900 && images < 1100);
    CU_ASSERT(found > TRIALS * 77 / 100 && found < TRIALS * 83 / 100);
    CU_ASSERT_EQUAL(nsk_images_to_settle(3, 3, 1200, 0.0), G_MAXINT);
}

static void the_kiln_line_loses_little(void) {
    kiln k;
    nsk_error error = {.text = ""};
    kiln_load(&k, 200);
    nsk_comparison *c = nsk_compare(k.network, k.file, k.held_out, NULL, NULL, &error);
    CU_ASSERT_PTR_NOT_NULL_FATAL(c);
    double accuracy = (double)c->float_correct / c->images;
    CU_ASSERT(c->images >= 6 * 150);
    CU_ASSERT(accuracy >= 0.93 && accuracy <= 0.98);
    CU_ASSERT(c->loss_points <= 1.0);
    int right[2] = {0, 0};
    int both = 0;
    for (int i = 0; i < c->images; i++) {
        right[0] += c->answers[i].float_class == c->answers[i].label;
        right[1] += c->answers[i].integer_class == c->answers[i].label;
        both += c->answers[i].float_class == c->answers[i].integer_class;
    }
    CU_ASSERT(right[0] == c->float_correct && right[1] == c->integer_correct && both == c->agree);
    CU_ASSERT_EQUAL(c->lost - c->won, c->float_correct - c->integer_correct);
    nsk_comparison_free(c);
    kiln_free(&k);
}

static void what_does_not_belong_together(void) {
    kiln k;
    nsk_error error = {.text = ""};
    kiln_load(&k, 12);
    char *swapped[] = {(char *)"sound",
                       (char *)"belt",
                       (char *)"crack",
                       (char *)"chip",
                       (char *)"pinhole",
                       (char *)"drip",
                       NULL};
    const nsk_labels other = {.count = 6, .names = swapped};
    nsk_images *set = nsk_images_open(k.brief->held_out, &other, &k.brief->input, 6, false, &error);
    CU_ASSERT_PTR_NULL(nsk_compare(k.network, k.file, set, NULL, NULL, &error));
    assert_error(&error, "the model file carries other labels");
    nsk_images_free(set);
    nsk_input input = k.brief->input;
    input.width = 40;
    set = nsk_images_open(k.brief->held_out, &k.brief->labels, &input, 6, false, &error);
    CU_ASSERT_PTR_NULL(nsk_compare(k.network, k.file, set, NULL, NULL, &error));
    assert_error(&error, "takes pictures of 48 x 48 with 3 channels, the image set gives 40 x 48");
    nsk_images_free(set);
    kiln_free(&k);
}

/* The steps begin at the float network's count; coarse weights cost at the step of weights. */
static void losses_are_split(void) {
    kiln k;
    nsk_error error = {.text = ""};
    nsk_loss_split split = {0};
    kiln_load(&k, 60);
    nsk_images *few =
        nsk_images_open(k.brief->held_out, &k.brief->labels, &k.brief->input, 240, false, &error);
    CU_ASSERT_PTR_NOT_NULL_FATAL(few);
    nsk_comparison *c = nsk_compare(k.network, k.file, few, NULL, NULL, &error);
    CU_ASSERT_PTR_NOT_NULL_FATAL(c);
    CU_ASSERT(
        nsk_split_loss(k.network, k.calibration, NULL, k.file, few, &split, NULL, NULL, &error));
    assert_error(&error, "");
    CU_ASSERT_EQUAL(split.exact, c->float_correct);
    CU_ASSERT(abs(split.prepared - split.exact) <= 3);
    CU_ASSERT(abs(split.weights - c->integer_correct) <= 6);
    nsk_comparison_free(c);
    nsk_images_free(few);
    kiln_free(&k);
}

CU_TestInfo compare_tests[] = {
    {"scores of classes, worked by hand", scores_by_hand},
    {"so many images settle a loss", so_many_images_settle},
    {"the paired interval, worked by hand", interval_by_hand},
    {"the paired interval covers the truth", interval_covers},
    {"the kiln line loses little", the_kiln_line_loses_little},
    {"what does not belong together", what_does_not_belong_together},
    {"losses are split", losses_are_split},
    {"so many images decide", so_many_images_decide},
    CU_TEST_INFO_NULL,
};
