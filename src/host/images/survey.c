/* What the image sets hold: sizes, channels, brightness, pictures that stand there twice. */
#include <math.h>
#include <string.h>

#include "images/light.h"
#include "images/likeness.h"
#include "images/set.h"
#include "netsuke/survey.h"

enum { MOST_REASONS = 100, DIGEST = 32 };

/* One picture's facts. */
typedef struct facts {
    bool read;
    int width, height;
    bool colour, alpha;
    uint8_t digest[DIGEST]; /* of size and pixels */
    nsk_likeness likeness;
    uint64_t sum[3], square[3]; /* of the frame's bytes, by channel */
    double light[NSK_LIGHTS];
    char *reason;
} facts;

/* ---- looking at every picture ---- */

static void digest_of(const nsk_picture *picture, uint8_t *digest) {
    GChecksum *sum = g_checksum_new(G_CHECKSUM_SHA256);
    const int size[2] = {picture->width, picture->height};
    gsize length = DIGEST;
    g_checksum_update(sum, (const guchar *)size, sizeof size);
    g_checksum_update(sum, picture->rgb, (gssize)3 * picture->width * picture->height);
    g_checksum_get_digest(sum, digest, &length);
    g_checksum_free(sum);
}

static void add_up(facts *f, const uint8_t *frame, const nsk_input *input) {
    size_t channels = input->colour == NSK_COLOUR_GREY ? 1 : 3;
    for (size_t i = 0; i < nsk_frame_bytes(input); i++) {
        f->sum[i % channels] += frame[i];
        f->square[i % channels] += (uint64_t)frame[i] * frame[i];
    }
}

static void look_at(const nsk_images *images, int index, uint8_t *frame, facts *f) {
    nsk_error error;
    nsk_picture picture;
    if (!nsk_images_picture(images, index, &picture, &error)) {
        f->reason = g_strdup(error.text);
        return;
    }
    f->read = true;
    f->width = picture.width;
    f->height = picture.height;
    f->colour = picture.colour;
    f->alpha = picture.alpha;
    digest_of(&picture, f->digest);
    nsk_likeness_of(&picture, &f->likeness);
    nsk_picture_to_frame(&picture, nsk_images_input(images), frame);
    add_up(f, frame, nsk_images_input(images));
    nsk_light_of(frame, nsk_images_input(images), f->light);
    nsk_picture_clear(&picture);
}

typedef struct watch {
    nsk_progress progress;
    void *context;
    int done, total;
} watch;

static facts *gather(const nsk_images *images, watch *w) {
    int count = nsk_images_count(images);
    facts *all = g_new0(facts, count);
#pragma omp parallel
    {
        uint8_t *frame = g_malloc(nsk_images_frame_bytes(images));
#pragma omp for schedule(dynamic, 8)
        for (int i = 0; i < count; i++) {
            look_at(images, i, frame, &all[i]);
#pragma omp critical(nsk_survey_progress)
            {
                w->done++;
                if (w->progress != NULL) {
                    w->progress(w->context, w->done, w->total);
                }
            }
        }
        g_free(frame);
    }
    return all;
}

/* ---- one set ---- */

static void take_picture(nsk_survey_set *set, const facts *f) {
    bool first = set->images++ == 0;
    set->least_width = first ? f->width : MIN(set->least_width, f->width);
    set->most_width = MAX(set->most_width, f->width);
    set->least_height = first ? f->height : MIN(set->least_height, f->height);
    set->most_height = MAX(set->most_height, f->height);
    set->grey += !f->colour;
    set->alpha += f->alpha;
}

static void find_brightness(nsk_survey_set *set, const nsk_images *images, const facts *all) {
    const nsk_input *input = nsk_images_input(images);
    int channels = input->colour == NSK_COLOUR_GREY ? 1 : 3;
    double pixels = (double)set->images * input->width * input->height;
    for (int c = 0; c < channels && set->images > 0; c++) {
        double sum = 0.0;
        double square = 0.0;
        for (int i = 0; i < nsk_images_count(images); i++) {
            sum += (double)all[i].sum[c];
            square += (double)all[i].square[c];
        }
        double mean = sum / pixels;
        set->mean[c] = mean / 255.0 * input->top;
        set->deviation[c] = sqrt(fmax(square / pixels - mean * mean, 0.0)) / 255.0 * input->top;
    }
}

static void fill_set(nsk_survey_set *set, const char *name, const nsk_images *images,
                     const facts *all) {
    GPtrArray *reasons = g_ptr_array_new();
    set->name = name;
    set->in_class = g_new0(int, nsk_images_labels(images)->count);
    for (int i = 0; i < nsk_images_count(images); i++) {
        if (all[i].read) {
            take_picture(set, &all[i]);
            for (int c = 0; c < nsk_images_labels(images)->count; c++) {
                set->in_class[c] += nsk_images_has(images, i, c);
            }
        } else if (set->unreadable++ < MOST_REASONS) {
            g_ptr_array_add(reasons, g_strdup(all[i].reason));
        }
    }
    find_brightness(set, images, all);
    g_ptr_array_add(reasons, NULL);
    set->reasons = (char **)g_ptr_array_free(reasons, FALSE);
}

/* ---- light ---- */

static void find_light_range(nsk_survey *s, const facts *all, int count, nsk_light light) {
    double *values = g_new(double, MAX(count, 1));
    int read = 0;
    for (int i = 0; i < count; i++) {
        if (all[i].read) {
            values[read++] = all[i].light[light];
        }
    }
    if (read > 0) {
        nsk_light_between(values, read, &s->low[light], &s->high[light]);
    }
    g_free(values);
}

static void find_light(nsk_survey *s, const nsk_images *const *images, facts *const *all) {
    for (int k = 0; k < NSK_LIGHTS; k++) {
        find_light_range(s, all[0], nsk_images_count(images[0]), (nsk_light)k);
    }
    for (int i = 0; i < nsk_images_count(images[1]) && s->sets[0].images > 0; i++) {
        bool any = false;
        for (int k = 0; k < NSK_LIGHTS && all[1][i].read; k++) {
            const double light = all[1][i].light[k];
            const bool outside = light < s->low[k] || light > s->high[k];
            s->outside[k] += outside;
            any = any || outside;
        }
        s->outside_any += any;
    }
}

/* ---- pictures that stand there twice ---- */

typedef struct candidate {
    int set, image, label;
    const facts *facts;
} candidate;

/* Pictures by eight bits of their hash, for each eight bits: hashes that differ in at most seven
 * bits share at least one. */
typedef struct drawer {
    GArray *slot[8][256]; /* of int, indices of candidates */
} drawer;

static GArray **slot_of(drawer *d, uint64_t hash, int part) {
    return &d->slot[part][hash >> (8 * part) & 255U];
}

static nsk_twin_place place_of(const candidate *a, const candidate *b) {
    return a->set != b->set       ? NSK_TWINS_IN_BOTH_SETS
           : a->label != b->label ? NSK_TWINS_IN_TWO_CLASSES
                                  : NSK_TWINS_IN_A_CLASS;
}

/* Keeps the graver of what is known and this pair: exact before near, then by place. */
static void consider(nsk_twins *best, const candidate *a, const candidate *b) {
    bool exact = memcmp(a->facts->digest, b->facts->digest, DIGEST) == 0;
    if (!exact && !nsk_likeness_is_near(&a->facts->likeness, &b->facts->likeness)) {
        return;
    }
    const nsk_twins pair = {place_of(a, b), exact, {a->set, b->set}, {a->image, b->image}};
    bool graver = best->place == NSK_TWIN_PLACES || (exact && !best->exact) ||
                  (exact == best->exact && pair.place < best->place);
    *best = graver ? pair : *best;
}

static void find_earlier(drawer *d, const candidate *all, int index, nsk_twins *best) {
    for (int part = 0; part < 8; part++) {
        GArray *slot = *slot_of(d, all[index].facts->likeness.hash, part);
        for (guint i = 0; slot != NULL && i < slot->len; i++) {
            consider(best, &all[g_array_index(slot, int, i)], &all[index]);
        }
    }
}

static void file_away(drawer *d, const candidate *all, int index) {
    for (int part = 0; part < 8; part++) {
        GArray **slot = slot_of(d, all[index].facts->likeness.hash, part);
        *slot = *slot != NULL ? *slot : g_array_new(FALSE, FALSE, sizeof(int));
        g_array_append_val(*slot, index);
    }
}

/* Pictures that are the same pixel by pixel: of each digest, the first of each set and label, which
 * is all that a later one needs to know. So a set of many copies takes no longer than one of few.
 */
static guint hash_of_digest(const void *digest) {
    guint hash;
    memcpy(&hash, digest, sizeof hash);
    return hash;
}

static gboolean same_digest(const void *a, const void *b) {
    return memcmp(a, b, DIGEST) == 0;
}

static void free_list(void *list) {
    g_array_free(list, TRUE);
}

/* Looks among the same pictures. Whether this one is the first of its set and label; it is kept
 * then. */
static bool find_same(GHashTable *known, const candidate *all, int index, nsk_twins *best) {
    const candidate *one = &all[index];
    GArray *same = g_hash_table_lookup(known, one->facts->digest);
    bool first = true;
    for (guint i = 0; same != NULL && i < same->len; i++) {
        const candidate *other = &all[g_array_index(same, int, i)];
        first = first && (other->set != one->set || other->label != one->label);
        consider(best, other, one);
    }
    if (same == NULL) {
        same = g_array_new(FALSE, FALSE, sizeof(int));
        g_hash_table_insert(known, (void *)one->facts->digest, same);
    }
    if (first) {
        g_array_append_val(same, index);
    }
    return first;
}

static GArray *all_candidates(const nsk_images *const *images, facts *const *all) {
    GArray *list = g_array_new(FALSE, FALSE, sizeof(candidate));
    for (int k = 0; k < 2; k++) {
        for (int i = 0; i < nsk_images_count(images[k]); i++) {
            const candidate one = {k, i, nsk_images_label(images[k], i), &all[k][i]};
            if (all[k][i].read) {
                g_array_append_val(list, one);
            }
        }
    }
    return list;
}

static void find_twins(nsk_survey *s, const nsk_images *const *images, facts *const *all) {
    GArray *list = all_candidates(images, all);
    const candidate *candidates = (const candidate *)(void *)list->data;
    GArray *twins = g_array_new(FALSE, FALSE, sizeof(nsk_twins));
    drawer *d = g_new0(drawer, 1);
    GHashTable *known = g_hash_table_new_full(hash_of_digest, same_digest, NULL, free_list);
    for (int i = 0; i < (int)list->len; i++) {
        nsk_twins best = {.place = NSK_TWIN_PLACES};
        bool first = find_same(known, candidates, i, &best);
        if (best.place == NSK_TWIN_PLACES) { /* the same is graver than the alike */
            find_earlier(d, candidates, i, &best);
        }
        if (first) {
            file_away(d, candidates, i);
        }
        if (best.place != NSK_TWIN_PLACES) {
            g_array_append_val(twins, best);
            ++*(best.exact ? &s->exact[best.place] : &s->near[best.place]);
        }
    }
    for (int i = 0; i < 8 * 256; i++) {
        GArray *slot = d->slot[i / 256][i % 256];
        if (slot != NULL) {
            g_array_free(slot, TRUE);
        }
    }
    g_free(d);
    g_hash_table_destroy(known);
    g_array_free(list, TRUE);
    s->overlap = s->exact[NSK_TWINS_IN_BOTH_SETS];
    s->twin_count = (int)twins->len;
    s->twins = (nsk_twins *)(void *)g_array_free(twins, FALSE);
}

nsk_survey *nsk_survey_make(const nsk_images *calibration, const nsk_images *held_out,
                            nsk_progress progress, void *context, nsk_error *error) {
    static const char *const names[2] = {"calibration", "held-out"};
    const nsk_images *const images[2] = {calibration, held_out};
    watch w = {progress, context, 0, nsk_images_count(calibration) + nsk_images_count(held_out)};
    facts *all[2];
    nsk_survey *survey = g_new0(nsk_survey, 1);
    for (int k = 0; k < 2; k++) {
        all[k] = gather(images[k], &w);
        fill_set(&survey->sets[k], names[k], images[k], all[k]);
    }
    find_light(survey, images, all);
    find_twins(survey, images, all);
    for (int k = 0; k < 2; k++) {
        for (int i = 0; i < nsk_images_count(images[k]); i++) {
            g_free(all[k][i].reason);
        }
        g_free(all[k]);
    }
    for (int k = 0; k < 2 && survey != NULL; k++) {
        if (survey->sets[k].images == 0 && nsk_images_count(images[k]) > 0) {
            nsk_fail(error, "none of the %d images of the %s set can be read; the first: %s",
                     survey->sets[k].unreadable, names[k], survey->sets[k].reasons[0]);
            nsk_survey_free(survey);
            survey = NULL;
        }
    }
    return survey;
}

/* The digests of all pictures; NULL stands for one that cannot be read. */
static GBytes **digests_of(const nsk_images *images) {
    int count = nsk_images_count(images);
    GBytes **all = g_new0(GBytes *, count);
#pragma omp parallel for schedule(dynamic, 8)
    for (int i = 0; i < count; i++) {
        nsk_error ignored;
        nsk_picture picture;
        uint8_t digest[DIGEST];
        if (nsk_images_picture(images, i, &picture, &ignored)) {
            digest_of(&picture, digest);
            all[i] = g_bytes_new(digest, sizeof digest);
            nsk_picture_clear(&picture);
        }
    }
    return all;
}

int nsk_images_shared(const nsk_images *first, const nsk_images *second) {
    const nsk_images *const sets[2] = {first, second};
    GHashTable *known =
        g_hash_table_new_full(g_bytes_hash, g_bytes_equal, (GDestroyNotify)g_bytes_unref, NULL);
    int shared = 0;
    for (int k = 0; k < 2; k++) {
        GBytes **digests = digests_of(sets[k]);
        for (int i = 0; i < nsk_images_count(sets[k]); i++) {
            if (digests[i] != NULL && k == 0) {
                g_hash_table_add(known, digests[i]);
            } else if (digests[i] != NULL) {
                shared += g_hash_table_contains(known, digests[i]) != FALSE;
                g_bytes_unref(digests[i]);
            }
        }
        g_free(digests);
    }
    g_hash_table_destroy(known);
    return shared;
}

void nsk_survey_free(nsk_survey *survey) {
    if (survey != NULL) {
        for (int k = 0; k < 2; k++) {
            g_free(survey->sets[k].in_class);
            g_strfreev(survey->sets[k].reasons);
        }
        g_free(survey->twins);
        g_free(survey);
    }
}
