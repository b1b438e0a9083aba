#include "analysis/answer.h"

#include <math.h>
#include <string.h>

#include "run/said.h"

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

static void choose_several(const nsk_runner *r, int image, const float *const p[2],
                           const int32_t *scores, nsk_label_answers *each, nsk_answer *answer) {
    const nsk_labels *labels = nsk_images_labels(r->images);
    const size_t row = (size_t)labels->count;
    nsk_said truth;
    nsk_said said[2];
    nsk_said_of(r->images, image, &truth);
    nsk_said_by(labels, p[0], &said[0]);
    nsk_said_by_scores(labels, scores, &said[1]);
    answer->float_probability = nsk_said_likely(labels, &said[0], p[0]);
    answer->integer_probability = nsk_said_likely(labels, &said[1], p[1]);
    answer->alike = nsk_said_is(labels, &said[0], &said[1]);
    for (int side = 0; side < 2; side++) {
        answer->right[side] = nsk_said_is(labels, &truth, &said[side]);
    }
    if (each != NULL) {
        memcpy(each->truth + (size_t)image * row, truth.has, row * sizeof *truth.has);
        for (int side = 0; side < 2; side++) {
            memcpy(each->said[side] + (size_t)image * row, said[side].has, row * sizeof *truth.has);
            memcpy(each->chance[side] + (size_t)image * row, p[side], row * sizeof *p[side]);
        }
    }
}

bool nsk_runner_answer(const nsk_runner *r, int image, nsk_label_answers *each, nsk_answer *answer,
                       nsk_error *error) {
    const float *scores = nsk_runner_float(r);
    *answer = (nsk_answer){.label = -1, .float_class = -1, .integer_class = -1};
    const int32_t *integers = nsk_runner_integers(r, error);
    if (integers == NULL) {
        return false;
    }
    nsk_probabilities(r->model, integers, r->probabilities);
    if (nsk_images_labels(r->images)->thresholds == NULL) {
        choose(scores, r->model, integers, r->probabilities, nsk_images_label(r->images, image),
               answer);
    } else {
        const float *const both[2] = {scores, r->probabilities};
        choose_several(r, image, both, integers, each, answer);
    }
    answer->odds = (float)nsk_odds_apart(scores, r->probabilities, r->model->classes);
    for (int c = 0; c < r->model->classes; c++) {
        answer->apart += 0.5F * fabsf(scores[c] - r->probabilities[c]);
    }
    return true;
}
