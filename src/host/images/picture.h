/* images/picture: one picture in memory: reading PNG and JPEG, writing PNG, resizing. */
#ifndef NSK_PICTURE_H
#define NSK_PICTURE_H

#include "base/base.h"

typedef struct nsk_picture {
    int width, height;
    uint8_t *rgb; /* rows from the top, three bytes a pixel */
} nsk_picture;

/* Reads a PNG (any depth, palette, interlaced; transparency over black) or a JPEG, told apart by
 * their first bytes. At most 64 million pixels. */
bool nsk_picture_read(const char *path, nsk_picture *picture, nsk_error *error);
bool nsk_picture_decode(const uint8_t *bytes, size_t size, nsk_picture *picture, nsk_error *error);
bool nsk_picture_write_png(const nsk_picture *picture, const char *path, nsk_error *error);
void nsk_picture_clear(nsk_picture *picture);

/* Resizes. Along each axis by itself: when shrinking, an output pixel is the mean of the source
 * interval that it covers, partly covered pixels counting in part; when enlarging, linear between
 * the two nearest pixel centres, edges repeated. One rounding at the end, halves up. */
void nsk_picture_resize(const nsk_picture *source, int width, int height, nsk_picture *result);

/* Brings a picture to width x height by `fit`: see nsk_fit. */
void nsk_picture_fit(const nsk_picture *source, int width, int height, nsk_fit fit,
                     nsk_picture *result);

/* Writes width x height x channels bytes in the given order. Grey is (77 R + 150 G + 29 B + 128)
 * >> 8, the weights of ITU-R BT.601. */
void nsk_picture_channels(const nsk_picture *picture, nsk_colour colour, uint8_t *frame);

#endif
