/* Both models on the same labelled images. */
#include <math.h>

#include "analysis/answer.h"
#include "images/label_sets.h"
#include "modelfile/check.h"

static bool answer_image(const nsk_runner *r, int image, void *context, nsk_error *error) {
    const nsk_comparison *c = context;
    return nsk_runner_answer(r, image, c->each, &c->answers[image], error);
}

static nsk_label_answers *label_answers_new(size_t count) {
    nsk_label_answers *each = g_new0(nsk_label_answers, 1);
    each->truth = g_new0(bool, count);
    for (int side = 0; side < 2; side++) {
        each->said[side] = g_new0(bool, count);
        each->chance[side] = g_new0(float, count);
    }
    return each;
}

static void label_answers_free(nsk_label_answers *each) {
    if (each != NULL) {
        g_free(each->truth);
        for (int side = 0; side < 2; side++) {
            g_free(each->said[side]);
            g_free(each->chance[side]);
        }
        g_free(each);
    }
}

static void number_sets(const nsk_comparison *c) {
    for (int i = 0; c->each != NULL && i < c->images; i++) {
        size_t at = (size_t)i * (size_t)c->classes;
        nsk_answer *a = &c->answers[i];
        a->label = nsk_label_sets_number(c->sets, c->each->truth + at);
        a->float_class = nsk_label_sets_number(c->sets, c->each->said[0] + at);
        a->integer_class = nsk_label_sets_number(c->sets, c->each->said[1] + at);
    }
}

char *nsk_comparison_class(const nsk_comparison *c, const nsk_labels *labels, int index) {
    return c->sets != NULL ? nsk_label_set_text(nsk_label_sets_at(c->sets, index), labels)
                           : g_strdup(labels->names[index]);
}

static void count(nsk_comparison *c) {
    for (int i = 0; i < c->images; i++) {
        const nsk_answer *a = &c->answers[i];
        c->float_correct += a->right[0];
        c->integer_correct += a->right[1];
        c->agree += a->alike;
        c->tied += a->tied;
        c->apart += (double)a->apart / c->images;
        c->odds += (double)a->odds * (double)a->odds / c->images;
        c->lost += a->right[0] && !a->right[1];
        c->won += a->right[1] && !a->right[0];
    }
    c->odds = sqrt(c->odds);
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
    if (nsk_images_labels(held_out)->thresholds != NULL) {
        c->each = label_answers_new((size_t)c->images * (size_t)c->classes);
        c->sets = nsk_label_sets_new(c->classes);
    }
    if (!nsk_run_images(network, &model, file->elsewhere, held_out, answer_image, c, progress,
                        context, error)) {
        nsk_comparison_free(c);
        return NULL;
    }
    number_sets(c);
    count(c);
    return c;
}

void nsk_comparison_free(nsk_comparison *c) {
    if (c != NULL) {
        label_answers_free(c->each);
        nsk_label_sets_free(c->sets);
        g_free(c->answers);
        g_free(c);
    }
}
