/* images/picture: one picture in memory: reading, writing PNG, resizing. docs/preparation.md is the
 * text to it. */
#ifndef NSK_IMAGES_PICTURE_H
#define NSK_IMAGES_PICTURE_H

#include "base/base.h"
#include "netsuke/brief.h"

typedef struct nsk_picture {
    int width, height;
    bool colour, alpha; /* did the file have colours, transparency? */
    uint8_t *rgb;       /* rows from the top, three bytes a pixel */
} nsk_picture;

/* Reads a PNG, JPEG, BMP or PNM of any kind, told apart by its first bytes. Transparency is
 * dropped, EXIF's orientation followed, 16 bits scaled to 8. At most 64 million pixels. */
bool nsk_picture_read(const char *path, nsk_picture *picture, nsk_error *error);
bool nsk_picture_decode(const uint8_t *bytes, size_t size, nsk_picture *picture, nsk_error *error);
bool nsk_picture_write_png(const nsk_picture *picture, const char *path, nsk_error *error);
/* Checks a size that a file claims and makes room for that many pixels, black. */
bool nsk_picture_start(nsk_picture *picture, uint64_t width, uint64_t height, nsk_error *error);

/* "not a readable PNG (reason); replace the file", and the picture emptied; returns false. */
bool nsk_picture_refuse(nsk_picture *picture, const char *format, const char *reason,
                        nsk_error *error);
void nsk_picture_clear(nsk_picture *picture);

/* Turns a picture as EXIF's orientation 1 to 8 says; any other number leaves it. */
void nsk_picture_turn(nsk_picture *picture, int orientation);

/* Resizes, along each axis by itself, with one rounding at the end, halves up: see nsk_resample.
 * A picture of the size wanted is copied. */
void nsk_picture_resize(const nsk_picture *source, int width, int height, nsk_resample resample,
                        nsk_picture *result);

/* Brings a picture to the input's size: see nsk_fit. */
void nsk_picture_fit(const nsk_picture *source, const nsk_input *input, nsk_picture *result);

/* Writes width x height x channels bytes in the given order. Grey is (77 R + 150 G + 29 B + 128)
 * >> 8, the weights of ITU-R BT.601. */
void nsk_picture_channels(const nsk_picture *picture, nsk_colour colour, uint8_t *frame);

/* The other way round, into a picture of that size. */
void nsk_picture_from_channels(const uint8_t *frame, nsk_colour colour, nsk_picture *picture);

/* Through the sensor, where the input says that there is one (images/sensor.h), fits and orders:
 * one frame as the camera would give it. */
void nsk_picture_to_frame(const nsk_picture *picture, const nsk_input *input, uint8_t *frame);

#endif
