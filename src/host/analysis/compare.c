/* Both models on the same labelled images. */
#include <math.h>

#include "analysis/answer.h"
#include "modelfile/check.h"

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

void nsk_probabilities(const nsk_model *model, const int32_t *scores, float *probabilities) {
    for (int c = 0; c < model->classes; c++) {
        probabilities[c] = (float)scores[c] / (float)NSK_CERTAIN;
    }
}

void nsk_runner_answer(const nsk_runner *r, int label, nsk_answer *answer) {
    *answer = (nsk_answer){.label = label};
    const float *scores = nsk_runner_float(r);
    answer->float_class = nsk_best_share(scores, r->model->classes);
    answer->float_probability = scores[answer->float_class];
    rank(scores, r->model->classes, answer, 0);
    nsk_prepare(r->model, r->frame, (size_t)r->model->width * r->model->channels, r->workspace);
    nsk_run(r->model, r->workspace, NULL);
    const int32_t *integers = nsk_scores(r->model, r->workspace);
    nsk_probabilities(r->model, integers, r->probabilities);
    answer->integer_class = (int)nsk_best(r->model, integers);
    answer->integer_probability = r->probabilities[answer->integer_class];
    answer->tied = is_tied(integers, r->model->classes, answer->integer_class);
    rank(r->probabilities, r->model->classes, answer, 1);
    for (int c = 0; c < r->model->classes; c++) {
        answer->apart += 0.5F * fabsf(scores[c] - r->probabilities[c]);
    }
}

static bool answer_image(const nsk_runner *r, int image, void *context, nsk_error *error) {
    nsk_answer *answers = context;
    (void)error;
    nsk_runner_answer(r, nsk_images_label(r->images, image), &answers[image]);
    return true;
}

static void count(nsk_comparison *c) {
    for (int i = 0; i < c->images; i++) {
        const nsk_answer *a = &c->answers[i];
        bool float_right = a->float_class == a->label;
        bool integer_right = a->integer_class == a->label;
        c->float_correct += float_right;
        c->integer_correct += integer_right;
        c->agree += a->float_class == a->integer_class;
        c->tied += a->tied;
        c->apart += (double)a->apart / c->images;
        c->lost += float_right && !integer_right;
        c->won += integer_right && !float_right;
    }
    c->loss_points = 100.0 * (c->lost - c->won) / c->images;
    nsk_paired_interval(c->lost, c->won, c->images, &c->loss_low, &c->loss_high);
    c->loss_low *= 100.0;
    c->loss_high *= 100.0;
}

nsk_comparison *nsk_compare(const nsk_network *network, const nsk_model_file *file,
                            const nsk_images *held_out, nsk_progress progress, void *context,
                            nsk_error *error) {
    nsk_model model;
    if (!nsk_model_open_for(network, file, held_out, &model, error)) {
        return NULL;
    }
    nsk_comparison *c = g_new0(nsk_comparison, 1);
    c->images = nsk_images_count(held_out);
    c->classes = model.classes;
    c->answers = g_new0(nsk_answer, c->images);
    if (!nsk_run_images(network, &model, held_out, answer_image, c->answers, progress, context,
                        error)) {
        nsk_comparison_free(c);
        return NULL;
    }
    count(c);
    return c;
}

void nsk_comparison_free(nsk_comparison *c) {
    if (c != NULL) {
        g_free(c->answers);
        g_free(c);
    }
}
