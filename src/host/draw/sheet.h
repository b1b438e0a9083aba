/* draw/sheet: pictures in rows with captions, as one PNG: a contact sheet. */
#ifndef NSK_DRAW_SHEET_H
#define NSK_DRAW_SHEET_H

#include "images/picture.h"

typedef struct nsk_sheet nsk_sheet;

/* Pictures are `width` x `height` pixels, enlarged by a whole factor to be seen. */
nsk_sheet *nsk_sheet_new(const char *title, int width, int height, int columns);
/* Starts a row; `heading` may be NULL. */
void nsk_sheet_row(nsk_sheet *sheet, const char *heading);
/* Adds a picture to the row, up to two lines under it; copies everything. `bad` marks it. */
void nsk_sheet_add(nsk_sheet *sheet, const nsk_picture *picture, const char *first,
                   const char *second, bool bad);
/* Leaves the rest of a row's columns up to `column` empty. */
void nsk_sheet_skip_to(nsk_sheet *sheet, int column);
/* Writes the PNG and frees. */
bool nsk_sheet_write(nsk_sheet *sheet, const char *path, nsk_error *error);

/* A frame as a picture again, its colours in their right order. */
void nsk_picture_of_frame(const uint8_t *frame, const nsk_input *input, nsk_picture *picture);

#endif
