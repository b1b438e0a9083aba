/* What one side's answers are worth, class by class, and how many images would settle a loss. */
#include <math.h>

#include "base/base.h"
#include "netsuke/compare.h"

static double ratio(double part, double whole) {
    return whole > 0.0 ? part / whole : 0.0;
}

static int class_of(const nsk_answer *a, bool integer) {
    return integer ? a->integer_class : a->float_class;
}

int *nsk_confusion_of(const nsk_comparison *c, bool integer) {
    int *counts = g_new0(int, (gsize)c->classes *(gsize)c->classes);
    for (int i = 0; i < c->images; i++) {
        counts[c->answers[i].label * c->classes + class_of(&c->answers[i], integer)]++;
    }
    return counts;
}

static void count_classes(const nsk_comparison *c, bool integer, nsk_class_score *classes) {
    for (int i = 0; i < c->images; i++) {
        const nsk_answer *a = &c->answers[i];
        int answer = class_of(a, integer);
        classes[a->label].images++;
        classes[answer].answers++;
        classes[a->label].right += answer == a->label;
    }
    for (int k = 0; k < c->classes; k++) {
        nsk_class_score *s = &classes[k];
        s->precision = ratio(s->right, s->answers);
        s->recall = ratio(s->right, s->images);
        s->f1 = ratio(2.0 * s->right, s->images + s->answers);
    }
}

static void fill_bins(const nsk_comparison *c, bool integer, nsk_calibration_bin *bins) {
    for (int i = 0; i < c->images; i++) {
        const nsk_answer *a = &c->answers[i];
        double p = (double)(integer ? a->integer_probability : a->float_probability);
        double bin = fmax(ceil(p * NSK_CALIBRATION_BINS) - 1.0, 0.0);
        nsk_calibration_bin *b = &bins[(int)fmin(bin, NSK_CALIBRATION_BINS - 1)];
        b->images++;
        b->said += p;
        b->right += class_of(a, integer) == a->label;
    }
    for (int b = 0; b < NSK_CALIBRATION_BINS; b++) {
        bins[b].said = ratio(bins[b].said, bins[b].images);
        bins[b].right = ratio(bins[b].right, bins[b].images);
    }
}

static double calibration_error(const nsk_scoring *s, int images) {
    double sum = 0.0;
    for (int b = 0; b < NSK_CALIBRATION_BINS; b++) {
        sum += fabs(s->bins[b].said - s->bins[b].right) * s->bins[b].images;
    }
    return ratio(sum, images);
}

nsk_scoring *nsk_scoring_of(const nsk_comparison *c, bool integer) {
    nsk_scoring *s = g_new0(nsk_scoring, 1);
    int present = 0;
    s->classes = g_new0(nsk_class_score, c->classes);
    count_classes(c, integer, s->classes);
    for (int k = 0; k < c->classes; k++) {
        present += s->classes[k].images > 0;
        s->balanced_accuracy += s->classes[k].recall;
    }
    s->balanced_accuracy = ratio(s->balanced_accuracy, present);
    fill_bins(c, integer, s->bins);
    s->calibration_error = calibration_error(s, c->images);
    return s;
}

void nsk_scoring_free(nsk_scoring *scoring) {
    if (scoring != NULL) {
        g_free(scoring->classes);
        g_free(scoring);
    }
}

int nsk_images_to_settle(int lost, int won, int images, double loss) {
    const double SURE = 1.959963984540054;   /* 97.5 % of the normal distribution */
    const double LIKELY = 0.841621233572914; /* 80 % of it */
    double differ = fmax(ratio(lost + won, images), loss);
    if (!(loss > 0.0)) {
        return G_MAXINT;
    }
    double root = SURE * sqrt(differ) + LIKELY * sqrt(differ - loss * loss);
    return (int)fmin(ceil(root * root / (loss * loss)), G_MAXINT);
}

/* The interval's end that the limit would have to pass, were all counts `times` as large. */
static bool decided(int lost, int won, int images, double limit, double times) {
    double low;
    double high;
    nsk_paired_interval(lost * times, won * times, images * times, &low, &high);
    return low > limit || high <= limit;
}

int nsk_images_to_decide(int lost, int won, int images, double limit) {
    double low = 1.0;
    double high = 1.0;
    while (!decided(lost, won, images, limit, high)) {
        low = high;
        high *= 2.0;
        if (high * images > 1e8) {
            return G_MAXINT;
        }
    }
    while (high - low > 0.01 * low) {
        double middle = (low + high) / 2.0;
        *(decided(lost, won, images, limit, middle) ? &high : &low) = middle;
    }
    return (int)ceil(high * images);
}

double nsk_right_among(const nsk_comparison *c, int first, bool integer) {
    double right = 0.0;
    for (int i = 0; i < c->images; i++) {
        double room = first - c->answers[i].before[integer];
        right += fmin(fmax(room / c->answers[i].equals[integer], 0.0), 1.0);
    }
    return right;
}
