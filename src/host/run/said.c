#include "run/said.h"

#include <math.h>
#include <string.h>

#include "run/runner.h"

void nsk_said_by(const nsk_labels *labels, const float *p, nsk_said *said) {
    for (int c = 0; c < labels->count; c++) {
        said->has[c] = (double)p[c] >= labels->thresholds[c];
    }
}

void nsk_said_by_scores(const nsk_labels *labels, const int32_t *scores, nsk_said *said) {
    for (int c = 0; c < labels->count; c++) {
        said->has[c] = scores[c] >= labels->thresholds[c] * NSK_CERTAIN;
    }
}

void nsk_said_of(const nsk_images *images, int image, nsk_said *truth) {
    for (int c = 0; c < nsk_images_labels(images)->count; c++) {
        truth->has[c] = nsk_images_has(images, image, c);
    }
}

bool nsk_said_is(const nsk_labels *labels, const nsk_said *a, const nsk_said *b) {
    return memcmp(a->has, b->has, (size_t)labels->count * sizeof *a->has) == 0;
}

float nsk_said_likely(const nsk_labels *labels, const nsk_said *said, const float *p) {
    float least = 1.0F;
    for (int c = 0; c < labels->count; c++) {
        least = fminf(least, said->has[c] ? p[c] : 1.0F - p[c]);
    }
    return least;
}

static bool is_truth(const nsk_images *images, int image, const nsk_said *said) {
    nsk_said truth;
    nsk_said_of(images, image, &truth);
    return nsk_said_is(nsk_images_labels(images), &truth, said);
}

bool nsk_is_right(const nsk_images *images, int image, const float *p) {
    const nsk_labels *labels = nsk_images_labels(images);
    nsk_said said;
    if (labels->thresholds == NULL) {
        return nsk_best_share(p, labels->count) == nsk_images_label(images, image);
    }
    nsk_said_by(labels, p, &said);
    return is_truth(images, image, &said);
}

bool nsk_scores_are_right(const nsk_images *images, int image, const nsk_model *model,
                          const int32_t *scores) {
    const nsk_labels *labels = nsk_images_labels(images);
    nsk_said said;
    if (labels->thresholds == NULL) {
        return (int)nsk_best(model, scores) == nsk_images_label(images, image);
    }
    nsk_said_by_scores(labels, scores, &said);
    return is_truth(images, image, &said);
}

bool nsk_say_the_same(const nsk_labels *labels, const float *a, const float *b) {
    nsk_said one;
    nsk_said other;
    if (labels->thresholds == NULL) {
        return nsk_best_share(a, labels->count) == nsk_best_share(b, labels->count);
    }
    nsk_said_by(labels, a, &one);
    nsk_said_by(labels, b, &other);
    return nsk_said_is(labels, &one, &other);
}

/* Of a probability as far as its 24 bits tell. */
static double log_odds(float probability) {
    const double p = fmin(fmax((double)probability, 0x1p-24), 1.0 - 0x1p-24);
    return log(p / (1.0 - p));
}

double nsk_odds_apart(const float *wanted, const float *said, int classes) {
    int least = 0;
    for (int c = 1; c < classes; c++) {
        least = fabsf(wanted[c] - 0.5F) < fabsf(wanted[least] - 0.5F) ? c : least;
    }
    return log_odds(said[least]) - log_odds(wanted[least]);
}
