/* Both models on the same pictures, changed. */
#include <string.h>

#include "analysis/answer.h"
#include "images/changes.h"
#include "modelfile/check.h"

/* One image's tallies: unchanged, then every change at every strength. */
enum { KEPT = 0 };

static void note(nsk_stress_count *count, const nsk_answer *a) {
    count->float_correct += a->right[0];
    count->integer_correct += a->right[1];
    count->lost += a->right[0] && !a->right[1];
    count->won += a->right[1] && !a->right[0];
}

static void add(nsk_stress_count *to, const nsk_stress_count *from) {
    to->float_correct += from->float_correct;
    to->integer_correct += from->integer_correct;
    to->lost += from->lost;
    to->won += from->won;
}

static nsk_frame frame_of(const nsk_runner *r, const nsk_backdrop *backdrop) {
    return (nsk_frame){r->frame,           r->model->width,  r->model->height,
                       r->model->channels, r->model->colour, backdrop};
}

/* Pictures of a class, or, where they may have several labels, those without one. */
static bool is_backdrop(const nsk_images *images, int image, int class_index) {
    bool several = nsk_images_labels(images)->thresholds != NULL;
    bool none = several;
    for (int c = 0; c < nsk_images_labels(images)->count && none; c++) {
        none = !nsk_images_has(images, image, c);
    }
    return several ? none : nsk_images_label(images, image) == class_index;
}

/* The set's own images of a class; true where there are too few, too, and then there is none. */
static bool load_backdrop(const nsk_images *images, int class_index, nsk_backdrop **backdrop,
                          nsk_error *error) {
    size_t bytes = nsk_images_frame_bytes(images);
    int count = 0;
    for (int i = 0; i < nsk_images_count(images); i++) {
        count += is_backdrop(images, i, class_index);
    }
    *backdrop = NULL;
    if (count < NSK_LEAST_BACKDROP) {
        return true;
    }
    uint8_t *frames = g_malloc0((gsize)count * bytes);
    bool good = true;
    for (int i = 0, k = 0; i < nsk_images_count(images) && good; i++) {
        if (is_backdrop(images, i, class_index)) {
            good = nsk_images_frame(images, i, frames + (size_t)k++ * bytes, error);
        }
    }
    *backdrop = nsk_backdrop_new(frames, count, bytes);
    return good;
}

typedef struct job {
    nsk_stress *stress;
    const nsk_change **changes;
    nsk_backdrop *backdrop; /* or NULL */
    uint64_t seed;
} job;

static void collect(nsk_stress *s, const nsk_stress_count *counts) {
    add(&s->unchanged, &counts[KEPT]);
    for (int c = 0; c < s->changes; c++) {
        for (int k = 0; k < NSK_STRENGTHS; k++) {
            add(&s->change[c].count[k], &counts[KEPT + 1 + c * NSK_STRENGTHS + k]);
        }
    }
}

/* One image, in all ways. `random` differs by image and by change, not by strength: a stronger
 * shift goes farther the same way. */
static bool stress_image(const nsk_runner *r, int image, void *context, nsk_error *error) {
    const job *j = context;
    nsk_answer answer;
    int changes = j->stress->changes;
    size_t bytes = nsk_images_frame_bytes(r->images);
    uint8_t *plain = g_memdup2(r->frame, bytes);
    nsk_stress_count *counts = g_new0(nsk_stress_count, 1 + changes * NSK_STRENGTHS);
    bool good = nsk_runner_answer(r, image, NULL, &answer, error);
    note(&counts[KEPT], &answer);
    for (int i = 0; i < changes * NSK_STRENGTHS && good; i++) {
        const nsk_change *change = j->changes[i / NSK_STRENGTHS];
        nsk_frame frame = frame_of(r, j->backdrop);
        random_state random = {j->seed + ((uint64_t)image << 16) +
                               ((uint64_t)(i / NSK_STRENGTHS) << 8)};
        memcpy(r->frame, plain, bytes);
        good = change->apply(&frame, change->amount[i % NSK_STRENGTHS], &random, error) &&
               nsk_runner_answer(r, image, NULL, &answer, error);
        note(&counts[KEPT + 1 + i], &answer);
    }
#pragma omp critical(nsk_stress_result)
    collect(j->stress, counts);
    g_free(counts);
    g_free(plain);
    return good;
}

static void find_chances(nsk_stress *s) {
    s->unchanged.chance = nsk_paired_chance(s->unchanged.lost, s->unchanged.won);
    for (int c = 0; c < s->changes; c++) {
        for (int k = 0; k < NSK_STRENGTHS; k++) {
            nsk_stress_count *count = &s->change[c].count[k];
            count->chance = nsk_paired_chance(count->lost, count->won);
        }
    }
}

nsk_stress *nsk_stress_measure(const nsk_network *network, const nsk_model_file *file,
                               const nsk_images *images, int resting, uint64_t seed,
                               nsk_progress progress, void *context, nsk_error *error) {
    nsk_model model;
    if (!nsk_model_open_for(network, file, images, &model, error)) {
        return NULL;
    }
    nsk_stress *s = g_new0(nsk_stress, 1);
    job j = {s, g_new(const nsk_change *, nsk_change_count), NULL, seed};
    bool good = load_backdrop(images, resting, &j.backdrop, error);
    s->images = nsk_images_count(images);
    s->change = g_new0(nsk_stress_change, nsk_change_count);
    for (int i = 0; i < nsk_change_count; i++) {
        const nsk_change *c = &nsk_changes[i];
        if ((model.channels == 3 || !c->colours) && (j.backdrop != NULL || !c->backdrop)) {
            nsk_stress_change *to = &s->change[s->changes];
            to->name = c->name;
            to->unit = c->unit;
            memcpy(to->amount, c->amount, sizeof to->amount);
            j.changes[s->changes++] = c;
        }
    }
    good = good && nsk_run_images(network, &model, file->elsewhere, images, stress_image, &j,
                                  progress, context, error);
    nsk_backdrop_free(j.backdrop);
    g_free(j.changes);
    if (!good) {
        nsk_stress_free(s);
        return NULL;
    }
    find_chances(s);
    return s;
}

bool nsk_stress_breaks(const nsk_stress *s, const nsk_stress_count *count) {
    return count->lost > count->won && count->chance < 0.05 / (s->changes * NSK_STRENGTHS);
}

bool nsk_stress_both_fail(const nsk_stress *s, const nsk_stress_count *count) {
    return 10 * (s->unchanged.float_correct - count->float_correct) > s->images &&
           10 * (s->unchanged.integer_correct - count->integer_correct) > s->images;
}

void nsk_stress_free(nsk_stress *s) {
    if (s != NULL) {
        g_free(s->change);
        g_free(s);
    }
}
