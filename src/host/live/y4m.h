/* live/y4m: YUV4MPEG2, as mjpegtools describes it and ffmpeg writes it: a line on the stream, then
 * of each picture a line and its planes, 8 bits a sample. */
#ifndef NSK_LIVE_Y4M_H
#define NSK_LIVE_Y4M_H

#include <gio/gio.h>

#include "images/picture.h"

typedef struct nsk_y4m {
    int width, height;
    int across, down; /* pixels to a sample of colour; 0: there is none */
    bool full;        /* luma from 0 to 255, not from 16 to 235 */
    double rate;      /* pictures a second; 0: not said */
    size_t bytes;     /* of a picture's planes */
} nsk_y4m;

/* Reads the stream's first line. */
bool nsk_y4m_begin(GInputStream *in, nsk_y4m *format, GCancellable *cancel, nsk_error *error);
/* The next picture's planes: 1, or 0 where the stream ends before it, or -1. */
int nsk_y4m_next(GInputStream *in, const nsk_y4m *format, uint8_t *planes, GCancellable *cancel,
                 nsk_error *error);
/* To red, green and blue by ITU-R BT.601, in whole numbers; a sample of colour holds for all pixels
 * that it stands for. */
void nsk_y4m_rgb(const nsk_y4m *format, const uint8_t *planes, uint8_t *rgb);

#endif
