#include "netsuke/film.h"

#include <string.h>

#include "base/base.h"
#include "images/array.h"
#include "images/list.h"
#include "images/sensor.h"
#include "images/set.h"

typedef struct shot {
    char *name; /* of a scene's picture; NULL where it is a set's */
    char *path;
    int index; /* in the set, or in the array at `path`; -1: the path is a picture */
    int truth;
    int set; /* of labels, where there may be several: its number */
} shot;

struct nsk_film {
    const nsk_images *images; /* NULL: a scene */
    nsk_input camera;         /* what pictures become: the camera's own, or the model's frames */
    nsk_input sent;           /* as the sensor sends them */
    int width, height;        /* of a scene's pictures, as they are stored */
    GArray *shots;
    nsk_label_sets *sets; /* NULL: a frame has one label */
    int labels;
    nsk_array array; /* the one that the scene's pictures stand in */
    char *array_path;
};

static void clear_shot(void *data) {
    shot *s = data;
    g_free(s->name);
    g_free(s->path);
}

/* A camera that gives the model's frames gives them as the model's fit has it; one of another size
 * sees the middle of what a scene shows, in its own proportions. */
static nsk_film *film_new(const nsk_input *input, const nsk_product *product) {
    nsk_film *film = g_new0(nsk_film, 1);
    film->camera = *input;
    film->sent = *input;
    film->camera.sensor = (nsk_sensor){0}; /* before that: what stands in front of it */
    if (product->camera_width > 0) {
        film->camera.width = product->camera_width;
        film->camera.height = product->camera_height;
        film->camera.fit = NSK_FIT_CROP;
    }
    film->shots = g_array_new(FALSE, TRUE, sizeof(shot));
    g_array_set_clear_func(film->shots, clear_shot);
    return film;
}

/* Fisher and Yates; the generator of Numerical Recipes' "quick and dirty" section is enough. */
static int *draw_order(int images, int frames, unsigned seed) {
    int *order = g_new0(int, MAX(images, frames));
    uint32_t state = seed;
    for (int i = 0; i < MAX(images, frames); i++) {
        order[i] = i % images;
    }
    for (int i = images - 1; i > 0; i--) {
        state = state * 1664525U + 1013904223U;
        int k = (int)((uint64_t)(state >> 8) * (uint64_t)(i + 1) >> 24);
        int kept = order[i];
        order[i] = order[k];
        order[k] = kept;
    }
    for (int i = images; i < frames; i++) {
        order[i] = order[i % images];
    }
    return order;
}

/* Notes which labels there are; the first of them is the truth. */
static void take_labels(const nsk_film *film, const bool *has, shot *one) {
    one->set = nsk_label_sets_number(film->sets, has);
    for (one->truth = 0; one->truth < film->labels && !has[one->truth];) {
        one->truth++;
    }
}

static void start_labels(nsk_film *film, const nsk_labels *labels) {
    film->labels = labels->count;
    film->sets = labels->thresholds != NULL ? nsk_label_sets_new(labels->count) : NULL;
}

nsk_film *nsk_film_of_set(const nsk_images *images, int frames, unsigned seed) {
    const nsk_product none = {0};
    nsk_film *film = film_new(nsk_images_input(images), &none);
    int count = nsk_images_count(images);
    int all = frames > 0 ? frames : count;
    int *order = draw_order(count, all, seed);
    film->images = images;
    start_labels(film, nsk_images_labels(images));
    for (int i = 0; i < all; i++) {
        shot one = {.index = order[i], .truth = nsk_images_label(images, order[i])};
        if (film->sets != NULL) {
            take_labels(film, nsk_label_sets_at(images->sets, one.truth), &one);
        }
        g_array_append_val(film->shots, one);
    }
    g_free(order);
    return film;
}

/* False where it names no label, or not only labels. */
static bool take_truth(const nsk_film *film, const char *text, const nsk_labels *labels,
                       shot *one) {
    one->truth = nsk_label_index(labels, text);
    if (film->sets == NULL) {
        return one->truth >= 0;
    }
    bool *has = g_new0(bool, labels->count);
    char *unknown = NULL;
    bool good = nsk_label_set_of_text(labels, text, has, &unknown);
    take_labels(film, has, one);
    g_free(unknown);
    g_free(has);
    return good;
}

static bool take_line(nsk_film *film, const char *path, const nsk_list_line *line,
                      const nsk_labels *labels, nsk_error *error) {
    shot one = {.name = g_strdup(line->cells[0]), .truth = NSK_NOBODY_KNOWS};
    if (strcmp(line->cells[1], "-") != 0) {
        if (!take_truth(film, line->cells[1], labels, &one)) {
            g_free(one.name);
            return nsk_fail(error, "%s:%d: no label is called '%s'; '-' is for what nobody knows",
                            path, line->line, line->cells[1]);
        }
    }
    char *file = g_strdup(line->cells[0]);
    one.index = nsk_array_cut_index(file);
    one.path = nsk_path_beside(path, file);
    g_free(file);
    g_array_append_val(film->shots, one);
    return true;
}

/* Opens the array that a picture stands in; a scene has one. */
static bool open_array(nsk_film *film, const char *path, nsk_error *error) {
    if (film->array_path != NULL) {
        return strcmp(film->array_path, path) == 0 ||
               nsk_fail(error, "%s: a scene's pictures stand in one array, not in this and %s",
                        path, film->array_path);
    }
    if (!nsk_array_open(path, &film->array, error)) {
        return false;
    }
    film->array_path = g_strdup(path);
    return nsk_array_is_pictures(&film->array, error) || nsk_fail_in(error, "%s", path);
}

static bool read_shot(const nsk_film *film, const shot *one, nsk_picture *picture,
                      nsk_error *error) {
    if (one->index < 0) {
        return nsk_picture_read(one->path, picture, error);
    }
    if ((size_t)one->index >= film->array.dims[0]) {
        return nsk_fail(error, "%s: the array has %zu pictures", one->name, film->array.dims[0]);
    }
    nsk_array_picture(&film->array, (size_t)one->index, picture);
    return true;
}

/* Arrays are opened, and the first picture tells the size of all. */
static bool prepare(nsk_film *film, nsk_error *error) {
    nsk_picture first = {0};
    for (guint i = 0; i < film->shots->len; i++) {
        const shot *one = &g_array_index(film->shots, shot, i);
        if (one->index >= 0 && !open_array(film, one->path, error)) {
            return false;
        }
    }
    if (!read_shot(film, &g_array_index(film->shots, shot, 0), &first, error)) {
        return false;
    }
    film->width = first.width;
    film->height = first.height;
    nsk_picture_clear(&first);
    return (film->width >= film->camera.width && film->height >= film->camera.height) ||
           nsk_fail(error,
                    "pictures of %d x %d are smaller than the camera's %d x %d, and are never "
                    "enlarged; play a larger scene, or say under [firmware] what the camera gives",
                    film->width, film->height, film->camera.width, film->camera.height);
}

nsk_film *nsk_film_read(const char *path, const nsk_labels *labels, const nsk_input *input,
                        const nsk_product *product, int most, nsk_error *error) {
    enum { MOST_BYTES = 256 << 20 };
    size_t size;
    char *text = (char *)nsk_file_read(path, MOST_BYTES, &size, error);
    GArray *lines = text != NULL ? nsk_list_parse(text, size, false, error) : NULL;
    g_free(text);
    if (lines == NULL) {
        nsk_fail_in(error, "%s", path);
        return NULL;
    }
    nsk_film *film = film_new(input, product);
    bool good = true;
    start_labels(film, labels);
    for (guint i = 0; i < lines->len && good; i++) {
        const nsk_list_line *line = &g_array_index(lines, nsk_list_line, i);
        bool header = i == 0 && strcmp(line->cells[0], "picture") == 0;
        bool enough = most > 0 && (int)film->shots->len >= most;
        good = header || enough || take_line(film, path, line, labels, error);
    }
    nsk_list_free(lines);
    good = good && (film->shots->len > 0 || nsk_fail(error, "%s: no pictures in it", path)) &&
           (prepare(film, error) || nsk_fail_in(error, "%s", path));
    if (!good) {
        nsk_film_free(film);
        return NULL;
    }
    return film;
}

void nsk_film_free(nsk_film *film) {
    if (film != NULL) {
        if (film->array_path != NULL) {
            nsk_array_close(&film->array);
        }
        nsk_label_sets_free(film->sets);
        g_array_free(film->shots, TRUE);
        g_free(film->array_path);
        g_free(film);
    }
}

int nsk_film_frames(const nsk_film *film) {
    return (int)film->shots->len;
}

void nsk_film_size(const nsk_film *film, int *width, int *height) {
    *width = film->camera.width;
    *height = film->camera.height;
}

void nsk_film_stored_size(const nsk_film *film, int *width, int *height) {
    *width = film->width;
    *height = film->height;
}

size_t nsk_film_sent(const nsk_film *film) {
    return film->images == NULL && nsk_input_is_sensed(&film->sent)
               ? nsk_sent_bytes(&film->sent, film->camera.width, film->camera.height)
               : 0;
}

static void picture_of(const nsk_film *film, const uint8_t *pixels, nsk_picture *picture) {
    nsk_error never;
    nsk_picture_start(picture, (uint64_t)film->camera.width, (uint64_t)film->camera.height, &never);
    nsk_picture_from_channels(pixels, film->camera.colour, picture);
}

void nsk_film_frame(const nsk_film *film, const uint8_t *pixels, uint8_t *frame) {
    nsk_picture picture;
    if (film->images != NULL) { /* it is one */
        memcpy(frame, pixels, nsk_frame_bytes(&film->camera));
        return;
    }
    picture_of(film, pixels, &picture);
    nsk_picture_to_frame(&picture, &film->sent, frame);
    nsk_picture_clear(&picture);
}

void nsk_film_send(const nsk_film *film, const uint8_t *pixels, uint8_t *lines) {
    nsk_picture picture;
    picture_of(film, pixels, &picture);
    nsk_picture_send(&picture, &film->sent, lines);
    nsk_picture_clear(&picture);
}

static const shot *shot_at(const nsk_film *film, int frame) {
    return &g_array_index(film->shots, shot, frame);
}

bool nsk_film_shows(const nsk_film *film, int frame, int label) {
    const shot *one = shot_at(film, frame);
    if (film->sets == NULL || one->truth == NSK_NOBODY_KNOWS || label >= film->labels) {
        return one->truth == label;
    }
    return nsk_label_sets_at(film->sets, one->set)[label];
}

int nsk_film_truth(const nsk_film *film, int frame) {
    return shot_at(film, frame)->truth;
}

const char *nsk_film_name(const nsk_film *film, int frame) {
    const shot *one = shot_at(film, frame);
    return film->images != NULL ? nsk_images_path(film->images, one->index) : one->name;
}

bool nsk_film_picture(const nsk_film *film, int frame, uint8_t *to, nsk_error *error) {
    const shot *one = shot_at(film, frame);
    nsk_picture picture = {0};
    if (film->images != NULL) {
        return nsk_images_frame(film->images, one->index, to, error);
    }
    if (!read_shot(film, one, &picture, error)) {
        return false;
    }
    bool good = (picture.width == film->width && picture.height == film->height) ||
                nsk_fail(error, "%s: %d x %d pixels, where the scene began with %d x %d", one->name,
                         picture.width, picture.height, film->width, film->height);
    if (good) {
        nsk_picture_to_frame(&picture, &film->camera, to);
    }
    nsk_picture_clear(&picture);
    return good;
}
