/* live/jpeg: a picture as a small JPEG, for showing. */
#ifndef NSK_LIVE_JPEG_H
#define NSK_LIVE_JPEG_H

#include "images/picture.h"

/* Of at most `most` pixels a side. g_free. */
uint8_t *nsk_small_jpeg(const nsk_picture *picture, int most, size_t *size);

#endif
