#include "refine/lesson.h"

#include <string.h>

#include "base/base.h"
#include "modelfile/check.h"
#include "run/runner.h"

enum { ASIDE = 5 };

typedef struct reading {
    nsk_lesson *lesson;
    double trust;
} reading;

static bool take_image(const nsk_runner *runner, int image, void *context, nsk_error *error) {
    const reading *r = context;
    const nsk_lesson *l = r->lesson;
    float *target = l->targets + (size_t)image * (size_t)l->classes;
    memcpy(l->frames + (size_t)image * l->frame_bytes, runner->frame, l->frame_bytes);
    const float *said = nsk_runner_float(runner);
    for (int c = 0; c < l->classes; c++) {
        double label = nsk_images_has(runner->images, image, c) ? 1.0 : 0.0;
        target[c] = (float)(r->trust * (double)said[c] + (1.0 - r->trust) * label);
    }
    (void)error;
    return true;
}

/* Every fifth of each class; false where there is none. */
static bool set_aside(nsk_lesson *l) {
    int *seen = g_new0(int, nsk_images_label_sets(l->images));
    int aside = l->count;
    for (int i = 0; i < l->count; i++) {
        bool last = seen[nsk_images_label(l->images, i)]++ % ASIDE == ASIDE - 1;
        l->order[last ? --aside : l->learning++] = i;
    }
    g_free(seen);
    return aside < l->count;
}

nsk_lesson *nsk_lesson_new(const nsk_network *teacher, const nsk_images *images, double trust,
                           nsk_error *error) {
    if (!nsk_network_takes(teacher, images, error)) {
        return NULL;
    }
    nsk_lesson *l = g_new0(nsk_lesson, 1);
    reading r = {l, trust};
    l->images = images;
    l->classes = nsk_network_classes(teacher);
    l->count = nsk_images_count(images);
    l->frame_bytes = nsk_images_frame_bytes(images);
    l->targets = g_new0(float, (gsize)l->count *(gsize)l->classes);
    l->frames = g_malloc((gsize)l->count * l->frame_bytes);
    l->order = g_new0(int, l->count);
    bool good = nsk_run_images(teacher, NULL, NULL, images, take_image, &r, NULL, NULL, error);
    if (good && !set_aside(l)) {
        good = nsk_fail(error,
                        "refining wants %d training images of a class at least; [images] training "
                        "names them",
                        ASIDE);
    }
    if (!good) {
        g_clear_pointer(&l, nsk_lesson_free);
    }
    return l;
}

void nsk_lesson_free(nsk_lesson *l) {
    if (l != NULL) {
        g_free(l->targets);
        g_free(l->frames);
        g_free(l->order);
        g_free(l);
    }
}
