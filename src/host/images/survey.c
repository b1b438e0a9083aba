/* What the image sets hold, and what stands in both. */
#include "base/base.h"

#include "images/set.h"

/* One picture's facts. */
typedef struct facts {
    int width, height;
    char *digest; /* of size and pixels */
} facts;

static char *digest_of(const nsk_picture *picture) {
    GChecksum *sum = g_checksum_new(G_CHECKSUM_SHA256);
    const int size[2] = {picture->width, picture->height};
    g_checksum_update(sum, (const guchar *)size, sizeof size);
    g_checksum_update(sum, picture->rgb, (gssize)3 * picture->width * picture->height);
    char *digest = g_strdup(g_checksum_get_string(sum));
    g_checksum_free(sum);
    return digest;
}

static bool gather(const nsk_images *images, facts *all, nsk_error *error) {
    bool good = true;
#pragma omp parallel for schedule(dynamic, 8)
    for (int i = 0; i < nsk_images_count(images); i++) {
        nsk_error trouble;
        nsk_picture picture;
        if (nsk_images_picture(images, i, &picture, &trouble)) {
            all[i] = (facts){picture.width, picture.height, digest_of(&picture)};
            nsk_picture_clear(&picture);
        } else {
#pragma omp critical(nsk_survey_failure)
            {
                good = false;
                *error = trouble;
            }
        }
    }
    return good;
}

static void fill_set(nsk_survey_set *set, const char *name, const nsk_images *images,
                     const facts *all) {
    set->name = name;
    set->images = nsk_images_count(images);
    set->in_class = g_new0(int, nsk_images_labels(images)->count);
    set->least_width = set->most_width = all[0].width;
    set->least_height = set->most_height = all[0].height;
    for (int i = 0; i < set->images; i++) {
        set->in_class[nsk_images_label(images, i)]++;
        set->least_width = MIN(set->least_width, all[i].width);
        set->most_width = MAX(set->most_width, all[i].width);
        set->least_height = MIN(set->least_height, all[i].height);
        set->most_height = MAX(set->most_height, all[i].height);
    }
}

static void find_overlap(nsk_survey *survey, const nsk_images *const *images, facts *const *all) {
    GHashTable *seen = g_hash_table_new(g_str_hash, g_str_equal);
    for (int i = 0; i < survey->sets[0].images; i++) {
        g_hash_table_insert(seen, all[0][i].digest, GINT_TO_POINTER(i));
    }
    for (int i = 0; i < survey->sets[1].images; i++) {
        gpointer where;
        if (g_hash_table_lookup_extended(seen, all[1][i].digest, NULL, &where) &&
            survey->overlap++ == 0) {
            survey->first_overlap[0] = g_strdup(nsk_images_path(images[0], GPOINTER_TO_INT(where)));
            survey->first_overlap[1] = g_strdup(nsk_images_path(images[1], i));
        }
    }
    g_hash_table_destroy(seen);
}

nsk_survey *nsk_survey_make(const nsk_images *calibration, const nsk_images *held_out,
                            nsk_error *error) {
    static const char *const names[2] = {"calibration", "held-out"};
    const nsk_images *const images[2] = {calibration, held_out};
    facts *all[2] = {NULL, NULL};
    nsk_survey *survey = g_new0(nsk_survey, 1);
    bool good = true;
    for (int k = 0; k < 2; k++) {
        all[k] = g_new0(facts, nsk_images_count(images[k]));
        good = good && gather(images[k], all[k], error);
    }
    for (int k = 0; k < 2 && good; k++) {
        fill_set(&survey->sets[k], names[k], images[k], all[k]);
    }
    if (good) {
        find_overlap(survey, images, all);
    }
    for (int k = 0; k < 2; k++) {
        for (int i = 0; i < nsk_images_count(images[k]); i++) {
            g_free(all[k][i].digest);
        }
        g_free(all[k]);
    }
    if (!good) {
        nsk_survey_free(survey);
        return NULL;
    }
    return survey;
}

void nsk_survey_free(nsk_survey *survey) {
    if (survey != NULL) {
        for (int k = 0; k < 2; k++) {
            g_free(survey->sets[k].in_class);
            g_free(survey->first_overlap[k]);
        }
        g_free(survey);
    }
}
