/* Pictures in a folder, and scenes, as cameras. */
#include <string.h>

#include "images/array.h"
#include "images/set.h"
#include "live/camera.h"

/* ---- a folder ---- */

typedef struct folder {
    GPtrArray *paths;
    const nsk_labels *labels;
    guint at;
    nsk_picture picture;
} folder;

/* By the name of the folder that it stands in. */
static int truth_of(const nsk_labels *labels, const char *path) {
    char *parent = g_path_get_dirname(path);
    char *name = g_path_get_basename(parent);
    const int label = labels->thresholds == NULL ? nsk_label_index(labels, name) : -1;
    g_free(name);
    g_free(parent);
    return label >= 0 ? label : NSK_NOBODY_KNOWS;
}

static nsk_live_state next_of_folder(void *of, nsk_shot *shot, nsk_error *error) {
    folder *f = of;
    if (f->at >= f->paths->len) {
        return NSK_LIVE_ENDED;
    }
    const char *path = f->paths->pdata[f->at];
    nsk_picture_clear(&f->picture);
    if (!nsk_picture_named(path, &f->picture, error)) {
        return NSK_LIVE_FAILED;
    }
    shot->picture = f->picture;
    shot->name = path;
    shot->truth = truth_of(f->labels, path);
    shot->number = f->at++;
    return NSK_LIVE_THERE;
}

static void close_folder(void *of) {
    folder *f = of;
    g_ptr_array_free(f->paths, TRUE);
    nsk_picture_clear(&f->picture);
    g_free(f);
}

bool nsk_camera_folder(nsk_camera *camera, const nsk_live_setup *setup, nsk_error *error) {
    static const nsk_camera_kind kind = {next_of_folder, close_folder, NULL};
    folder *f = g_new0(folder, 1);
    f->paths = g_ptr_array_new_with_free_func(g_free);
    f->labels = setup->labels;
    *camera = (nsk_camera){.kind = &kind, .of = f};
    if (!nsk_list_pictures(setup->camera, f->paths, error)) {
        return false;
    }
    camera->count = (int)f->paths->len;
    return f->paths->len > 0 ||
           nsk_fail(error, "%s: no image in this folder; give one that has some", setup->camera);
}

/* ---- a scene ---- */

typedef struct scene {
    nsk_film *film;
    const nsk_input *input;
    uint8_t *frame;
    nsk_picture picture;
    int at;
} scene;

static nsk_live_state next_of_scene(void *of, nsk_shot *shot, nsk_error *error) {
    scene *s = of;
    if (s->at >= nsk_film_frames(s->film)) {
        return NSK_LIVE_ENDED;
    }
    if (!nsk_film_picture(s->film, s->at, s->frame, error)) {
        return NSK_LIVE_FAILED;
    }
    nsk_picture_from_channels(s->frame, s->input->colour, &s->picture);
    shot->picture = s->picture;
    shot->name = nsk_film_name(s->film, s->at);
    shot->truth = nsk_film_truth(s->film, s->at);
    shot->number = s->at++;
    return NSK_LIVE_THERE;
}

static void close_scene(void *of) {
    scene *s = of;
    nsk_film_free(s->film);
    nsk_picture_clear(&s->picture);
    g_free(s->frame);
    g_free(s);
}

bool nsk_camera_scene(nsk_camera *camera, const nsk_live_setup *setup, nsk_error *error) {
    static const nsk_camera_kind kind = {next_of_scene, close_scene, NULL};
    scene *s = g_new0(scene, 1);
    int width;
    int height;
    s->input = setup->input;
    *camera = (nsk_camera){.kind = &kind, .of = s, .same_size = true};
    s->film = nsk_film_read(setup->camera, setup->labels, setup->input, setup->product, 0, error);
    if (s->film == NULL) {
        return false;
    }
    nsk_film_size(s->film, &width, &height);
    camera->count = nsk_film_frames(s->film);
    s->frame = g_malloc((gsize)width * (gsize)height * 3);
    return nsk_picture_start(&s->picture, (uint64_t)width, (uint64_t)height, error);
}
