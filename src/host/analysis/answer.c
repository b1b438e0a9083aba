#include "analysis/answer.h"

#include <math.h>
#include <string.h>

#include "brief/labels.h"

void nsk_probabilities(const nsk_model *model, const int32_t *scores, float *probabilities) {
    for (int c = 0; c < model->classes; c++) {
        probabilities[c] = (float)scores[c] / (float)NSK_CERTAIN;
    }
}

/* ---- one label of all ---- */

static void rank(const float *probabilities, int classes, nsk_answer *answer, int side) {
    float own = probabilities[answer->label];
    for (int c = 0; c < classes; c++) {
        answer->before[side] += probabilities[c] > own;
        answer->equals[side] += !(probabilities[c] > own) && !(probabilities[c] < own);
    }
}

static bool is_tied(const int32_t *scores, int classes, int best) {
    int equals = 0;
    for (int c = 0; c < classes; c++) {
        equals += scores[c] == scores[best];
    }
    return equals > 1;
}

static void choose(const float *said, const nsk_model *model, const int32_t *scores,
                   const float *probabilities, int label, nsk_answer *answer) {
    answer->label = label;
    answer->float_class = nsk_best_share(said, model->classes);
    answer->float_probability = said[answer->float_class];
    answer->integer_class = (int)nsk_best(model, scores);
    answer->integer_probability = probabilities[answer->integer_class];
    answer->tied = is_tied(scores, model->classes, answer->integer_class);
    rank(said, model->classes, answer, 0);
    rank(probabilities, model->classes, answer, 1);
    answer->right[0] = answer->float_class == label;
    answer->right[1] = answer->integer_class == label;
    answer->alike = answer->float_class == answer->integer_class;
}

/* ---- several labels at once ---- */

/* Which labels are there. */
typedef struct label_set {
    bool has[NSK_MOST_LABELS];
} label_set;

static void truth_of(const nsk_images *images, int image, label_set *to) {
    for (int c = 0; c < nsk_images_labels(images)->count; c++) {
        to->has[c] = nsk_images_has(images, image, c);
    }
}

static void say(const nsk_labels *labels, const float *p, label_set *to) {
    for (int c = 0; c < labels->count; c++) {
        to->has[c] = (double)p[c] >= labels->thresholds[c];
    }
}

/* As the device's rule does: the score is no less than the least that is at least the threshold. */
static void say_exactly(const nsk_labels *labels, const int32_t *scores, label_set *to) {
    for (int c = 0; c < labels->count; c++) {
        to->has[c] = scores[c] >= labels->thresholds[c] * NSK_CERTAIN;
    }
}

static bool is_same(const nsk_labels *labels, const label_set *a, const label_set *b) {
    return memcmp(a->has, b->has, (size_t)labels->count * sizeof *a->has) == 0;
}

bool nsk_is_right(const nsk_images *images, int image, const float *p) {
    const nsk_labels *labels = nsk_images_labels(images);
    label_set truth;
    label_set said;
    if (labels->thresholds == NULL) {
        return nsk_best_share(p, labels->count) == nsk_images_label(images, image);
    }
    truth_of(images, image, &truth);
    say(labels, p, &said);
    return is_same(labels, &truth, &said);
}

bool nsk_say_the_same(const nsk_labels *labels, const float *a, const float *b) {
    label_set one;
    label_set other;
    if (labels->thresholds == NULL) {
        return nsk_best_share(a, labels->count) == nsk_best_share(b, labels->count);
    }
    say(labels, a, &one);
    say(labels, b, &other);
    return is_same(labels, &one, &other);
}

/* The probability of the least sure label. */
static float least_sure(const nsk_labels *labels, const label_set *said, const float *p) {
    float least = 1.0F;
    for (int c = 0; c < labels->count; c++) {
        least = fminf(least, said->has[c] ? p[c] : 1.0F - p[c]);
    }
    return least;
}

static void choose_several(const nsk_runner *r, int image, const float *const p[2],
                           const int32_t *scores, nsk_label_answers *each, nsk_answer *answer) {
    const nsk_labels *labels = nsk_images_labels(r->images);
    const size_t row = (size_t)labels->count;
    label_set truth;
    label_set said[2];
    truth_of(r->images, image, &truth);
    say(labels, p[0], &said[0]);
    say_exactly(labels, scores, &said[1]);
    answer->float_probability = least_sure(labels, &said[0], p[0]);
    answer->integer_probability = least_sure(labels, &said[1], p[1]);
    answer->alike = is_same(labels, &said[0], &said[1]);
    for (int side = 0; side < 2; side++) {
        answer->right[side] = is_same(labels, &truth, &said[side]);
    }
    if (each != NULL) {
        memcpy(each->truth + (size_t)image * row, truth.has, row * sizeof *truth.has);
        for (int side = 0; side < 2; side++) {
            memcpy(each->said[side] + (size_t)image * row, said[side].has, row * sizeof *truth.has);
            memcpy(each->chance[side] + (size_t)image * row, p[side], row * sizeof *p[side]);
        }
    }
}

void nsk_runner_answer(const nsk_runner *r, int image, nsk_label_answers *each,
                       nsk_answer *answer) {
    const float *scores = nsk_runner_float(r);
    *answer = (nsk_answer){.label = -1, .float_class = -1, .integer_class = -1};
    nsk_prepare(r->model, r->frame, (size_t)r->model->width * r->model->channels, r->workspace);
    nsk_run(r->model, r->workspace, NULL);
    const int32_t *integers = nsk_scores(r->model, r->workspace);
    nsk_probabilities(r->model, integers, r->probabilities);
    if (nsk_images_labels(r->images)->thresholds == NULL) {
        choose(scores, r->model, integers, r->probabilities, nsk_images_label(r->images, image),
               answer);
    } else {
        const float *const both[2] = {scores, r->probabilities};
        choose_several(r, image, both, integers, each, answer);
    }
    for (int c = 0; c < r->model->classes; c++) {
        answer->apart += 0.5F * fabsf(scores[c] - r->probabilities[c]);
    }
}
