/* draw/canvas: a cairo surface of the house's look that becomes a PNG or an SVG file. */
#ifndef NSK_DRAW_CANVAS_H
#define NSK_DRAW_CANVAS_H

#include <cairo.h>

#include "base/base.h"

/* Colours of everything drawn, as 0xrrggbb: paper, ink, fainter ink, lines, and the kinds of
 * things that are told apart. */
enum {
    NSK_PAPER = 0xf6f4ef,
    NSK_INK = 0x22282c,
    NSK_FAINT = 0x6d7479,
    NSK_LINE = 0xc4beb2,
    NSK_CLAY = 0xb5533c,
    NSK_GLAZE = 0x2f6f73,
    NSK_SAND = 0xd9b871,
    NSK_SLIP = 0xffffff
};

typedef struct nsk_canvas {
    cairo_t *cr;
    cairo_surface_t *surface;
    GByteArray *bytes; /* what SVG has written so far; NULL for PNG */
    int width, height;
} nsk_canvas;

/* What the ending of `path` asks for: true where it is .svg, .png is the other; an error else. */
bool nsk_canvas_is_svg(const char *path, bool *svg, nsk_error *error);

void nsk_canvas_start(nsk_canvas *canvas, int width, int height, bool svg);
/* A canvas for `path`, 1280 x 800, with a bold heading and a fainter line below it (or NULL), both
 * from `left` on; false and an error where its ending is neither .png nor .svg. */
enum { NSK_PAGE_WIDTH = 1280, NSK_PAGE_HEIGHT = 800 };
bool nsk_canvas_open(nsk_canvas *canvas, double left, const char *path, const char *heading,
                     const char *below, nsk_error *error);
/* Writes the file whole or not at all, and ends the canvas. */
bool nsk_canvas_finish(nsk_canvas *canvas, const char *path, nsk_error *error);

void nsk_canvas_colour(const nsk_canvas *canvas, unsigned rgb);
/* A colour for a class: hues a golden angle apart, so that neighbours in a list differ. */
unsigned nsk_class_colour(int class_index);
/* Text whose baseline starts at x, y; cut with an ellipsis where it is wider than `most` > 0. */
void nsk_canvas_text(const nsk_canvas *canvas, double x, double y, double size, bool bold,
                     double most, const char *text);
double nsk_canvas_text_width(const nsk_canvas *canvas, double size, bool bold, const char *text);

#endif
