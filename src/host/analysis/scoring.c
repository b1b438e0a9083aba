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
    for (int i = 0; i < c->images && c->each == NULL; i++) {
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
}

/* Of pictures that may have several labels, each is a question for itself. */
static void count_labels(const nsk_comparison *c, bool integer, nsk_class_score *classes) {
    const nsk_label_answers *each = c->each;
    for (int i = 0; i < c->images * c->classes; i++) {
        nsk_class_score *s = &classes[i % c->classes];
        bool said = each->said[integer][i];
        s->images += each->truth[i];
        s->answers += said;
        s->right += said && each->truth[i];
    }
}

static void find_rates(const nsk_comparison *c, nsk_class_score *classes) {
    for (int k = 0; k < c->classes; k++) {
        nsk_class_score *s = &classes[k];
        s->precision = ratio(s->right, s->answers);
        s->recall = ratio(s->right, s->images);
        s->f1 = ratio(2.0 * s->right, s->images + s->answers);
    }
}

typedef struct chance {
    float p;
    bool truth;
} chance;

static int likelier_first(const void *a, const void *b) {
    const chance *x = a;
    const chance *y = b;
    return (x->p < y->p) - (x->p > y->p);
}

static double average_precision(const nsk_comparison *c, bool integer, int label) {
    chance *all = g_new(chance, c->images);
    double sum = 0.0;
    int found = 0;
    for (int i = 0; i < c->images; i++) {
        int at = i * c->classes + label;
        all[i] = (chance){c->each->chance[integer][at], c->each->truth[at]};
    }
    qsort(all, (size_t)c->images, sizeof *all, likelier_first);
    for (int i = 0, next; i < c->images; i = next) { /* a step of equals */
        int there = 0;
        for (next = i; next < c->images && !(all[next].p < all[i].p); next++) {
            there += all[next].truth;
        }
        found += there;
        sum += there * ratio(found, next);
    }
    g_free(all);
    return ratio(sum, found);
}

static void put_in_bin(nsk_calibration_bin *bins, double p, bool right) {
    double bin = fmax(ceil(p * NSK_CALIBRATION_BINS) - 1.0, 0.0);
    nsk_calibration_bin *b = &bins[(int)fmin(bin, NSK_CALIBRATION_BINS - 1)];
    b->images++;
    b->said += p;
    b->right += right;
}

/* Of pictures that may have several labels, what is said of each is an answer. */
static void fill_bins(const nsk_comparison *c, bool integer, nsk_calibration_bin *bins) {
    for (int i = 0; i < c->images * c->classes && c->each != NULL; i++) {
        put_in_bin(bins, (double)c->each->chance[integer][i], c->each->truth[i]);
    }
    for (int i = 0; i < c->images && c->each == NULL; i++) {
        const nsk_answer *a = &c->answers[i];
        put_in_bin(bins, (double)(integer ? a->integer_probability : a->float_probability),
                   class_of(a, integer) == a->label);
    }
    for (int b = 0; b < NSK_CALIBRATION_BINS; b++) {
        bins[b].said = ratio(bins[b].said, bins[b].images);
        bins[b].right = ratio(bins[b].right, bins[b].images);
    }
}

static double calibration_error(const nsk_scoring *s, int answers) {
    double sum = 0.0;
    for (int b = 0; b < NSK_CALIBRATION_BINS; b++) {
        sum += fabs(s->bins[b].said - s->bins[b].right) * s->bins[b].images;
    }
    return ratio(sum, answers);
}

/* What the labels have in common, each a question of yes or no: its balanced accuracy is the mean
 * of the shares found where it is and left where it is not. */
static void score_labels(const nsk_comparison *c, bool integer, nsk_scoring *s) {
    double balanced = 0.0;
    double right = 0.0;
    int present = 0;
    for (int k = 0; k < c->classes; k++) {
        nsk_class_score *class = &s->classes[k];
        int without = c->images - class->images;
        int left = without - (class->answers - class->right);
        class->average_precision = average_precision(c, integer, k);
        right += class->right + left;
        if (class->images > 0) {
            present++;
            balanced += without > 0 ? 0.5 * (class->recall + ratio(left, without)) : class->recall;
            s->f1 += class->f1;
            s->average_precision += class->average_precision;
        }
    }
    s->decisions = ratio(right, (double)c->images * c->classes);
    s->balanced_accuracy = ratio(balanced, present);
    s->f1 = ratio(s->f1, present);
    s->average_precision = ratio(s->average_precision, present);
}

static void score_classes(const nsk_comparison *c, nsk_scoring *s) {
    int present = 0;
    for (int k = 0; k < c->classes; k++) {
        present += s->classes[k].images > 0;
        s->balanced_accuracy += s->classes[k].recall;
    }
    s->balanced_accuracy = ratio(s->balanced_accuracy, present);
}

nsk_scoring *nsk_scoring_of(const nsk_comparison *c, bool integer) {
    nsk_scoring *s = g_new0(nsk_scoring, 1);
    const bool several = c->each != NULL;
    s->classes = g_new0(nsk_class_score, c->classes);
    (several ? count_labels : count_classes)(c, integer, s->classes);
    find_rates(c, s->classes);
    if (several) {
        score_labels(c, integer, s);
    } else {
        score_classes(c, s);
    }
    fill_bins(c, integer, s->bins);
    s->calibration_error = calibration_error(s, several ? c->images * c->classes : c->images);
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
