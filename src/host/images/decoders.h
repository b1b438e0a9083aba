/* images/decoders: one function a file format. Each takes a whole file in memory that starts as its
 * format does, and leaves `picture` empty where it fails. */
#ifndef NSK_IMAGES_DECODERS_H
#define NSK_IMAGES_DECODERS_H

#include "images/picture.h"

typedef bool nsk_decoder(const uint8_t *bytes, size_t size, nsk_picture *picture, nsk_error *error);

nsk_decoder nsk_decode_png, nsk_decode_jpeg, nsk_decode_pnm, nsk_decode_bmp;

/* Checks a size that a file claims and makes room for that many pixels, black. */
bool nsk_picture_start(nsk_picture *picture, uint64_t width, uint64_t height, nsk_error *error);

/* "not a readable PNG (reason); replace the file", and the picture emptied; returns false. */
bool nsk_picture_refuse(nsk_picture *picture, const char *format, const char *reason,
                        nsk_error *error);

#endif
