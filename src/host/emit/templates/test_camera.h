/* test_camera: the pictures that the self-test shows the product's loop. The host that wrote the
 * test used this same file. */
#ifndef TEST_CAMERA_H
#define TEST_CAMERA_H

#include <stddef.h>
#include <stdint.h>

typedef struct test_camera {
    const uint8_t *frames;      /* of the network's size, one behind the other; NULL: noise */
    unsigned frame_count, each; /* each is shown so many times on end */
    unsigned frame_width, frame_height, channels;
    unsigned width, height; /* of the camera's pictures */
} test_camera;

/* Row `y` of a picture: a frame's pixels, each as often as it takes to fill the camera's row. Of
 * every other pixel the lowest bit is another, like the fields of a chessboard, and from picture to
 * picture they change places: no row is that of the picture before, or the one above, and none, nor
 * a column, is of one colour. */
static inline void test_camera_row(const test_camera *c, unsigned picture, unsigned y,
                                   uint8_t *to) {
    const size_t row = (size_t)c->frame_width * c->channels;
    const unsigned frame = c->frames != NULL ? picture / c->each % c->frame_count : 0U;
    const uint8_t *from =
        c->frames != NULL
            ? c->frames + (frame * c->frame_height + y * c->frame_height / c->height) * row
            : NULL;
    uint32_t noise = (picture * c->height + y + 1U) * 2654435761U;
    for (unsigned x = 0; x < c->width; x++) {
        for (unsigned k = 0; k < c->channels; k++) {
            noise = noise * 1664525U + 1013904223U;
            uint8_t byte = (uint8_t)(noise >> 24);
            if (from != NULL) {
                byte = from[x * c->frame_width / c->width * c->channels + k];
            }
            to[x * c->channels + k] = (uint8_t)(byte ^ ((x + y + picture) & 1U));
        }
    }
}

#endif
