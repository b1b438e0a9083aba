/* images/decoders: one function a file format. Each takes a whole file in memory that starts as its
 * format does, and leaves `picture` empty where it fails. */
#ifndef NSK_IMAGES_DECODERS_H
#define NSK_IMAGES_DECODERS_H

#include "images/picture.h"

typedef bool nsk_decoder(const uint8_t *bytes, size_t size, nsk_picture *picture, nsk_error *error);

nsk_decoder nsk_decode_png, nsk_decode_jpeg, nsk_decode_pnm, nsk_decode_bmp;

#endif
