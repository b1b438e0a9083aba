/* refine/lesson: pictures to learn from, and what is aimed at for each. */
#ifndef NSK_REFINE_LESSON_H
#define NSK_REFINE_LESSON_H

#include "netsuke/images.h"
#include "netsuke/network.h"

typedef struct nsk_lesson {
    const nsk_images *images;
    int classes, count;
    float *targets; /* [image][class] */
    uint8_t *frames;
    size_t frame_bytes;
    int *order; /* images: those to learn from, then those set aside, every fifth of a class */
    int learning;
} nsk_lesson;

/* Runs the teacher on all images. What is aimed at is `trust` of what it says and the rest the
 * label. NULL and an error where the images are not of its form, or none can be set aside. They
 * must outlive the lesson. */
nsk_lesson *nsk_lesson_new(const nsk_network *teacher, const nsk_images *images, double trust,
                           nsk_error *error);
void nsk_lesson_free(nsk_lesson *lesson);

static inline const uint8_t *nsk_lesson_frame(const nsk_lesson *lesson, int image) {
    return lesson->frames + (size_t)image * lesson->frame_bytes;
}
static inline const float *nsk_lesson_target(const nsk_lesson *lesson, int image) {
    return lesson->targets + (size_t)image * (size_t)lesson->classes;
}

#endif
