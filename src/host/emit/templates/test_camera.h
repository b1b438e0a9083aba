/* test_camera: the pictures that the self-test shows the product's loop. The host that wrote the
 * test used this same file. */
#ifndef TEST_CAMERA_H
#define TEST_CAMERA_H

#include <stddef.h>
#include <stdint.h>

#include "netsuke/sensor.h"

typedef struct test_camera {
    const uint8_t *frames;      /* of the network's size, one behind the other; NULL: noise */
    unsigned frame_count, each; /* each is shown so many times on end */
    unsigned frame_width, frame_height, channels;
    unsigned width, height;   /* of the camera's pictures */
    const nsk_sensor *sensor; /* as which they are sent; NULL: as they are */
} test_camera;

/* The row that is asked for first. */
static inline unsigned test_camera_first(const test_camera *c) {
    return c->sensor != NULL && c->sensor->upside_down ? c->height - 1U : 0U;
}

/* Row `y` of a picture: a frame's pixels, each as often as it takes to fill the camera's row. Of
 * every other pixel the lowest bit is another, like the fields of a chessboard, and from picture to
 * picture they change places: no row is that of the picture before, or the one above, and none, nor
 * a column, is of one colour. */
static inline void test_camera_pixels(const test_camera *c, unsigned picture, unsigned y,
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

/* Byte `i` of a line that a sensor sends. What it shows may have other colours: it serves to see
 * whether two machines make the same of the same bytes. */
static inline uint8_t test_camera_sent(const test_camera *c, unsigned picture, unsigned y, size_t i,
                                       size_t bytes) {
    const unsigned frame = c->frames != NULL ? picture / c->each % c->frame_count : 0U;
    const size_t size = (size_t)c->frame_width * c->frame_height * c->channels;
    const uint32_t noise =
        ((uint32_t)(picture * 4099U + y) * 1664525U + (uint32_t)i) * 2654435761U >> 24;
    const size_t at = (y % c->height * c->frame_height / c->height * c->frame_width +
                       i * c->frame_width / bytes) *
                      c->channels;
    return (uint8_t)(c->frames != NULL ? c->frames[frame * size + at] ^ (noise & 15U) : noise);
}

/* Row `y` of a picture, or the line that the sensor sends, of so many bytes. Nothing of sensor.c is
 * called here: what has no sensor links none of it. */
static inline void test_camera_row(const test_camera *c, unsigned picture, unsigned y, uint8_t *to,
                                   size_t bytes) {
    if (c->sensor == NULL) {
        test_camera_pixels(c, picture, y, to);
        return;
    }
    for (size_t i = 0; i < bytes; i++) {
        to[i] = test_camera_sent(c, picture, y, i, bytes);
    }
}

#endif
