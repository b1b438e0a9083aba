/* Both models on the same labelled images. */
#include <math.h>

#include "compare/runner.h"
#include "quantise/check.h"

int nsk_best_share(const float *probabilities, int classes) {
    int best = 0;
    for (int c = 1; c < classes; c++) {
        best = probabilities[c] > probabilities[best] ? c : best;
    }
    return best;
}

static void rank(const float *probabilities, int classes, nsk_answer *answer, int side) {
    float own = probabilities[answer->label];
    for (int c = 0; c < classes; c++) {
        answer->before[side] += probabilities[c] > own;
        answer->equals[side] += !(probabilities[c] > own) && !(probabilities[c] < own);
    }
}

static bool is_tied(const int8_t *scores, int classes, int best) {
    int equals = 0;
    for (int c = 0; c < classes; c++) {
        equals += scores[c] == scores[best];
    }
    return equals > 1;
}

void nsk_probabilities(const nsk_model *model, const int8_t *scores, float *probabilities) {
    for (int c = 0; c < model->classes; c++) {
        probabilities[c] = (float)(scores[c] + 128) / 256.0F;
    }
}

static bool start(nsk_runner *r, const nsk_network *network, const nsk_model *model,
                  const nsk_images *images, nsk_error *error) {
    *r = (nsk_runner){.network = network, .model = model, .images = images};
    r->pass = nsk_pass_new(network->graph, error);
    r->frame = g_malloc(nsk_images_frame_bytes(images));
    r->workspace = model != NULL ? g_malloc(model->workspace_bytes) : NULL;
    r->probabilities = g_new(float, nsk_network_classes(network));
    return r->pass != NULL;
}

static void clear(nsk_runner *r) {
    nsk_pass_free(r->pass);
    g_free(r->frame);
    g_free(r->workspace);
    g_free(r->probabilities);
}

const float *nsk_runner_float(const nsk_runner *r) {
    nsk_float_prepare(r->network->graph, nsk_images_input(r->images), r->frame,
                      nsk_pass_input(r->pass));
    nsk_pass_run(r->pass);
    return nsk_pass_value(r->pass, r->network->graph->output);
}

void nsk_runner_answer(const nsk_runner *r, int label, nsk_answer *answer) {
    *answer = (nsk_answer){.label = label};
    const float *scores = nsk_runner_float(r);
    answer->float_class = nsk_best_share(scores, r->model->classes);
    answer->float_probability = scores[answer->float_class];
    rank(scores, r->model->classes, answer, 0);
    nsk_prepare(r->model, r->frame, (size_t)r->model->width * r->model->channels, r->workspace);
    nsk_run(r->model, r->workspace, NULL);
    const int8_t *integers = nsk_scores(r->model, r->workspace);
    nsk_probabilities(r->model, integers, r->probabilities);
    answer->integer_class = (int)nsk_best(r->model, integers);
    answer->integer_probability = r->probabilities[answer->integer_class];
    answer->tied = is_tied(integers, r->model->classes, answer->integer_class);
    rank(r->probabilities, r->model->classes, answer, 1);
    for (int c = 0; c < r->model->classes; c++) {
        answer->apart += 0.5F * fabsf(scores[c] - r->probabilities[c]);
    }
}

bool nsk_run_images(const nsk_network *network, const nsk_model *model, const nsk_images *images,
                    nsk_image_step *step, void *context, nsk_progress progress,
                    void *progress_context, nsk_error *error) {
    int total = nsk_images_count(images);
    int done = 0;
    bool good = true;
#pragma omp parallel
    {
        nsk_error trouble;
        nsk_runner r;
        bool fine = start(&r, network, model, images, &trouble);
#pragma omp for schedule(dynamic, 4)
        for (int i = 0; i < total; i++) {
            fine = fine && nsk_images_frame(images, i, r.frame, &trouble) &&
                   step(&r, i, context, &trouble);
            if (progress != NULL) {
#pragma omp critical(nsk_runner_progress)
                progress(progress_context, ++done, total);
            }
        }
        if (!fine) {
#pragma omp critical(nsk_runner_failure)
            {
                good = false;
                *error = trouble;
            }
        }
        clear(&r);
    }
    return good;
}

static bool answer_image(const nsk_runner *r, int image, void *context, nsk_error *error) {
    nsk_answer *answers = context;
    (void)error;
    nsk_runner_answer(r, nsk_images_label(r->images, image), &answers[image]);
    return true;
}

void nsk_paired_interval(double lost, double won, double images, double *low, double *high) {
    const double Z = 1.959963984540054; /* 97.5 % of the normal distribution */
    double a = (lost + 1.0) / (images + 2.0);
    double b = (won + 1.0) / (images + 2.0);
    double spread = Z * sqrt((a + b - (a - b) * (a - b)) / (images + 2.0));
    *low = fmax(a - b - spread, -1.0);
    *high = fmin(a - b + spread, 1.0);
}

double nsk_paired_chance(int lost, int won) {
    int differ = lost + won;
    double tail = 0.0;
    for (int k = 0; k <= MIN(lost, won); k++) {
        tail += exp(lgamma(differ + 1.0) - lgamma(k + 1.0) - lgamma(differ - k + 1.0) -
                    differ * log(2.0));
    }
    return fmin(2.0 * tail, 1.0);
}

void nsk_share_interval(int part, int whole, double *low, double *high) {
    const double z = 1.959963984540054; /* 95 %, two-sided */
    double n = whole;
    double share = n > 0.0 ? part / n : 0.0;
    double middle = (share + z * z / (2.0 * n)) / (1.0 + z * z / n);
    double half = z / (1.0 + z * z / n) * sqrt(share * (1.0 - share) / n + z * z / (4.0 * n * n));
    *low = n > 0.0 ? fmax(middle - half, 0.0) : 0.0;
    *high = n > 0.0 ? fmin(middle + half, 1.0) : 1.0;
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
