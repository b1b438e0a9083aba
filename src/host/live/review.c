/* A set of pictures as somebody goes through it. */
#include "netsuke/review.h"

#include <string.h>

#include "analysis/answer.h"
#include "images/array.h"
#include "images/set.h"
#include "live/jpeg.h"
#include "modelfile/check.h"
#include "netsuke/classify.h"

#define SURE_LEAD 0.5F

typedef struct reviewer {
    const nsk_review_setup *setup;
    nsk_model model;
    nsk_images *images;
    nsk_review *review;
} reviewer;

/* ---- which pictures ---- */

/* By the first folder below the set's. */
static int label_of(const nsk_labels *labels, const char *name) {
    char **parts = g_strsplit(name, "/", 2);
    const int label = parts[1] != NULL ? nsk_label_index(labels, parts[0]) : -1;
    g_strfreev(parts);
    return label;
}

static const char *below(const char *folder, const char *path) {
    const char *at = path + strlen(folder);
    while (*at == G_DIR_SEPARATOR) {
        at++;
    }
    return at;
}

static bool open_pictures(reviewer *r, nsk_error *error) {
    const nsk_review_setup *setup = r->setup;
    GPtrArray *paths = g_ptr_array_new_with_free_func(g_free);
    bool good = nsk_list_pictures(setup->folder, paths, error) &&
                (paths->len > 0 || nsk_fail(error, "%s: no pictures yet", setup->folder));
    if (good) {
        int *none = g_new0(int, paths->len);
        r->images = nsk_images_of_paths((const char *const *)(void *)paths->pdata, none,
                                        (int)paths->len, setup->labels, setup->input);
        g_free(none);
        r->review->count = nsk_images_count(r->images);
        r->review->left_out = nsk_images_left_out(r->images);
        good = r->review->count > 0 || nsk_fail(error, "%s", nsk_images_left_out_at(r->images, 0));
    }
    g_ptr_array_free(paths, TRUE);
    r->review->picture = g_new0(nsk_reviewed, r->review->count);
    for (int i = 0; i < r->review->count; i++) {
        nsk_reviewed *p = &r->review->picture[i];
        p->name = g_strdup(below(setup->folder, nsk_images_path(r->images, i)));
        p->label = label_of(setup->labels, p->name);
        p->twin = -1;
    }
    return good;
}

/* ---- what the network says ---- */

static bool answer(const nsk_runner *runner, int index, void *context, nsk_error *error) {
    const reviewer *r = context;
    nsk_reviewed *p = &r->review->picture[index];
    if (r->setup->stops != NULL && g_atomic_int_get(r->setup->stops) != 0) {
        return nsk_fail(error, "it was told to stop");
    }
    const int32_t *scores = nsk_runner_integers(runner, error);
    const float *of = runner->probabilities;
    if (scores == NULL) {
        return false;
    }
    nsk_probabilities(&r->model, scores, runner->probabilities);
    p->answer = (int)nsk_best(&r->model, scores);
    p->sure = (double)of[p->answer];
    p->own = (double)of[p->label >= 0 ? p->label : p->answer];
    p->is_sure = r->model.classes < 2 ||
                 of[p->answer] - of[nsk_ranked(of, r->model.classes, 1)] >= SURE_LEAD;
    return true;
}

/* ---- where they stand ---- */

static void place(const nsk_atlas *atlas, const int *index_of, nsk_review *review) {
    for (int i = 0; i < atlas->images; i++) {
        const nsk_atlas_side *side = &atlas->image[i].in_integer;
        nsk_reviewed *p = &review->picture[index_of[i]];
        p->is_placed = true;
        p->is_astray = nsk_atlas_is_astray(&atlas->image[i]);
        p->x = side->x;
        p->y = side->y;
        p->neighbours = side->neighbours;
        for (int k = 0; k < side->neighbours; k++) {
            p->nearest[k] = index_of[side->nearest[k]];
        }
    }
}

/* Some of the pictures, each under its label, or the one that is suggested. */
static void find_places(const reviewer *r, nsk_progress progress, void *context) {
    nsk_review *review = r->review;
    const int count = MIN(review->count, NSK_ATLAS_MOST);
    const char **paths = g_new0(const char *, count);
    int *labels = g_new0(int, count);
    int *index_of = g_new0(int, count);
    nsk_error error;
    for (int i = 0; i < count; i++) {
        const int index = (int)((int64_t)i * review->count / count);
        const nsk_reviewed *p = &review->picture[index];
        index_of[i] = index;
        paths[i] = nsk_images_path(r->images, index);
        labels[i] = p->label >= 0 ? p->label : p->answer;
    }
    nsk_images *some = nsk_images_of_paths(paths, labels, count, r->setup->labels, r->setup->input);
    const bool all_there = nsk_images_count(some) == count;
    nsk_atlas *atlas = all_there ? nsk_atlas_make(r->setup->network, r->setup->model, some, false,
                                                  progress, context, &error)
                                 : NULL;
    if (atlas != NULL) {
        place(atlas, index_of, review);
    } else {
        review->unplaced = g_strdup(all_there ? error.text : "the folder changes");
    }
    nsk_atlas_free(atlas);
    nsk_images_free(some);
    g_free(index_of);
    g_free(labels);
    g_free(paths);
}

/* ---- which show the same ---- */

static bool find_twins(const reviewer *r, nsk_error *error) {
    const nsk_review_setup *setup = r->setup;
    nsk_reviewed *pictures = r->review->picture;
    nsk_images *none = nsk_images_of_paths(NULL, NULL, 0, setup->labels, setup->input);
    const nsk_images *other = setup->other != NULL ? setup->other : none;
    nsk_survey *survey = nsk_survey_make(other, r->images, NULL, NULL, error);
    for (int i = 0; survey != NULL && i < survey->twin_count; i++) {
        const nsk_twins *t = &survey->twins[i];
        nsk_reviewed *later = &pictures[t->image[1]];
        if (t->set[0] == 0 && t->set[1] == 1) {
            later->twin_elsewhere = g_strdup(nsk_images_path(other, t->image[0]));
        } else if (t->set[0] == 1) {
            later->twin = t->image[0];
            pictures[t->image[0]].twin = t->image[1];
        }
    }
    nsk_images_free(none);
    const bool good = survey != NULL;
    nsk_survey_free(survey);
    return good;
}

/* ---- all of it ---- */

nsk_review *nsk_review_make(const nsk_review_setup *setup, nsk_progress progress, void *context,
                            nsk_error *error) {
    reviewer r = {.setup = setup, .review = g_new0(nsk_review, 1)};
    bool good = setup->labels->thresholds == NULL ||
                nsk_fail(error, "a set is gone through where its pictures have one label each");
    good = good && open_pictures(&r, error) &&
           nsk_model_open_for(setup->network, setup->model, r.images, &r.model, error) &&
           nsk_run_images(setup->network, &r.model, NULL, r.images, answer, &r, progress, context,
                          error) &&
           find_twins(&r, error);
    if (good) {
        find_places(&r, progress, context);
    }
    nsk_images_free(r.images);
    if (!good) {
        nsk_review_free(r.review);
        return NULL;
    }
    return r.review;
}

void nsk_review_free(nsk_review *review) {
    if (review != NULL) {
        for (int i = 0; i < review->count; i++) {
            g_free(review->picture[i].name);
            g_free(review->picture[i].twin_elsewhere);
        }
        g_free(review->picture);
        g_free(review->unplaced);
        g_free(review);
    }
}

char *nsk_review_still(const char *path, int most, size_t *size, nsk_error *error) {
    nsk_picture picture;
    if (!nsk_picture_named(path, &picture, error)) {
        return NULL;
    }
    uint8_t *bytes = nsk_small_jpeg(&picture, most, size);
    nsk_picture_clear(&picture);
    return (char *)bytes;
}
