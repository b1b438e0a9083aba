/* Error by layer: signal over error so far and alone, and what each layer would bring back. */
#include <math.h>
#include <stdio.h>
#include <string.h>

#include "draw/canvas.h"
#include "netsuke/drift.h"

enum { LEFT = 84, TOP = 96, BOTTOM = 36, NAMES = 150, PANEL = 540, MOST_LAYERS = 60 };

typedef struct chart {
    nsk_canvas canvas;
    const nsk_drift *drift;
    const nsk_regain *regain; /* or NULL */
    double row;               /* height of a layer's */
    double left, width;       /* of the bars of decibels */
    int most;                 /* decibels at their end */
} chart;

static double x_of(const chart *c, double db) {
    return c->left + c->width * fmin(fmax(db, 0.0) / c->most, 1.0);
}

static double y_of(const chart *c, int layer) {
    return TOP + 22.0 + c->row * layer;
}

static void draw_scale(const chart *c) {
    char text[16];
    for (int db = 0; db <= c->most; db += 10) {
        nsk_canvas_colour(&c->canvas, NSK_LINE);
        cairo_set_line_width(c->canvas.cr, 0.6);
        cairo_move_to(c->canvas.cr, x_of(c, db), TOP + 14);
        cairo_line_to(c->canvas.cr, x_of(c, db), NSK_PAGE_HEIGHT - BOTTOM);
        cairo_stroke(c->canvas.cr);
        snprintf(text, sizeof text, "%d dB", db);
        nsk_canvas_colour(&c->canvas, NSK_FAINT);
        nsk_canvas_text(&c->canvas, x_of(c, db) - 12, NSK_PAGE_HEIGHT - BOTTOM + 16, 10.5, false, 0,
                        text);
    }
}

static void draw_bar(const chart *c, double x, double y, double width, double height,
                     unsigned colour) {
    nsk_canvas_colour(&c->canvas, colour);
    cairo_rectangle(c->canvas.cr, x, y, fmax(width, 0.5), height);
    cairo_fill(c->canvas.cr);
}

static void draw_layer(const chart *c, int index) {
    const nsk_drift_layer *l = &c->drift->layer[index];
    double y = y_of(c, index);
    double half = c->row * 0.36;
    nsk_canvas_colour(&c->canvas, NSK_INK);
    nsk_canvas_text(&c->canvas, LEFT - 60.0, y + c->row * 0.55, 11.0, false, NAMES, l->name);
    if (!l->measured) {
        return;
    }
    draw_bar(c, c->left, y, x_of(c, l->sqnr_db) - c->left, half, NSK_CLAY);
    if (!isnan(l->alone_db)) {
        draw_bar(c, c->left, y + half, x_of(c, l->alone_db) - c->left, half, NSK_GLAZE);
    }
}

static void draw_regained(const chart *c, double left) {
    const nsk_regain *r = c->regain;
    double width = NSK_PAGE_WIDTH - 40.0 - left - NAMES;
    double most = 1.0;
    char text[64];
    nsk_canvas_colour(&c->canvas, NSK_INK);
    snprintf(text, sizeof text, "were this layer alone float, on %d images", r->images);
    nsk_canvas_text(&c->canvas, left, TOP, 12.0, true, 0.0, text);
    for (int i = 0; i < r->layers; i++) {
        most = fmax(most, nsk_regain_closer(r, &r->layer[i]));
    }
    double row = fmin((NSK_PAGE_HEIGHT - BOTTOM - TOP - 22.0) / r->layers, 40.0);
    for (int i = 0; i < r->layers; i++) {
        const nsk_regained *l = &r->layer[i];
        double y = TOP + 22.0 + row * i;
        double close = nsk_regain_closer(r, l);
        nsk_canvas_colour(&c->canvas, NSK_INK);
        nsk_canvas_text(&c->canvas, left, y + row * 0.5, 11.0, false, NAMES - 12.0, l->name);
        draw_bar(c, left + NAMES, y + row * 0.1, width * 0.55 * fmax(close, 0.0) / most, row * 0.55,
                 NSK_SAND);
        snprintf(text, sizeof text, "%.0f %% closer, %+d right", fabs(close) < 0.5 ? 0.0 : close,
                 l->right - r->rounded.right);
        nsk_canvas_colour(&c->canvas, NSK_FAINT);
        nsk_canvas_text(&c->canvas, left + NAMES + width * 0.58, y + row * 0.5, 10.5, false, 0.0,
                        text);
    }
}

static double draw_key(const chart *c, double x, unsigned colour, const char *text) {
    draw_bar(c, x, TOP - 9, 12, 10, colour);
    nsk_canvas_colour(&c->canvas, NSK_INK);
    nsk_canvas_text(&c->canvas, x + 18, TOP, 11.5, false, 0.0, text);
    return x + 40 + nsk_canvas_text_width(&c->canvas, 11.5, false, text);
}

/* Where the scale ends: past the longest bar, at a full ten. */
static int longest(const nsk_drift *d) {
    enum { LEAST = 60, MOST = 150 };
    double most = LEAST;
    for (int i = 0; i < d->layers; i++) {
        const nsk_drift_layer *l = &d->layer[i];
        most = l->measured ? fmax(most, l->sqnr_db) : most;
        most = l->measured && !isnan(l->alone_db) ? fmax(most, l->alone_db) : most;
    }
    return (int)(ceil(fmin(most, MOST) / 10.0) * 10.0);
}

bool nsk_drift_draw(const nsk_drift *d, const nsk_regain *regain, const char *name,
                    const char *path, nsk_error *error) {
    chart c = {.drift = d, .regain = regain, .left = LEFT + NAMES - 60.0, .most = longest(d)};
    char heading[160];
    char below[200];
    int layers = MIN(d->layers, MOST_LAYERS);
    snprintf(heading, sizeof heading, "%s: error by layer", name);
    snprintf(below, sizeof below,
             "signal over error of every layer's output on %d held-out images%s", d->images,
             layers < d->layers ? "; the first 60 layers" : "");
    if (!nsk_canvas_open(&c.canvas, LEFT - 60.0, path, heading, below, error)) {
        return false;
    }
    c.width = (regain != NULL ? PANEL : NSK_PAGE_WIDTH - 60.0) - c.left + LEFT;
    c.row = fmin((NSK_PAGE_HEIGHT - BOTTOM - TOP - 22.0) / layers, 48.0);
    draw_scale(&c);
    double x = draw_key(&c, c.left, NSK_CLAY, "all layers up to this one");
    draw_key(&c, x, NSK_GLAZE, "this one by itself");
    for (int i = 0; i < layers; i++) {
        draw_layer(&c, i);
    }
    if (regain != NULL && regain->layers > 0) {
        draw_regained(&c, c.left + c.width + 60.0);
    }
    return nsk_canvas_finish(&c.canvas, path, error);
}
