/* An atlas: both models' planes beside each other, a colour a class, wrong answers ringed. */
#include <math.h>
#include <stdio.h>

#include "draw/canvas.h"
#include "netsuke/atlas.h"

enum { WIDTH = 1280, HEIGHT = 800, TOP = 104, BOTTOM = 30, SIDE = 40, MOST_NAMED = 20 };

typedef struct plane {
    const nsk_canvas *canvas;
    const nsk_atlas *atlas;
    double left, width;
    double low_x, low_y, scale; /* of both planes */
} plane;

static const nsk_atlas_side *side_of(const nsk_atlas_image *image, bool integer) {
    return integer ? &image->in_integer : &image->in_float;
}

static void draw_point(const plane *p, const nsk_atlas_image *image, bool integer) {
    const nsk_atlas_side *side = side_of(image, integer);
    cairo_t *cr = p->canvas->cr;
    double x = p->left + (side->x - p->low_x) * p->scale;
    double y = HEIGHT - BOTTOM - (side->y - p->low_y) * p->scale;
    cairo_new_path(cr);
    nsk_canvas_colour(p->canvas, nsk_class_colour(image->label));
    cairo_arc(cr, x, y, 3.2, 0.0, 2.0 * G_PI);
    cairo_fill(cr);
    if (side->answer != image->label) {
        nsk_canvas_colour(p->canvas, NSK_INK);
        cairo_set_line_width(cr, 1.3);
        cairo_arc(cr, x, y, 5.6, 0.0, 2.0 * G_PI);
        cairo_stroke(cr);
    }
    if (nsk_atlas_is_astray(image)) {
        nsk_canvas_colour(p->canvas, NSK_INK);
        cairo_set_line_width(cr, 1.0);
        cairo_rectangle(cr, x - 8.0, y - 8.0, 16.0, 16.0);
        cairo_stroke(cr);
    }
}

/* One scale for both axes and both planes. */
static void fit(plane *p, double width, double height) {
    double low[2] = {INFINITY, INFINITY};
    double high[2] = {-INFINITY, -INFINITY};
    for (int i = 0; i < 2 * p->atlas->images; i++) {
        const nsk_atlas_side *side = side_of(&p->atlas->image[i / 2], i % 2 == 1);
        low[0] = fmin(low[0], side->x);
        low[1] = fmin(low[1], side->y);
        high[0] = fmax(high[0], side->x);
        high[1] = fmax(high[1], side->y);
    }
    p->scale = fmin(width / fmax(high[0] - low[0], 1e-9), height / fmax(high[1] - low[1], 1e-9));
    p->low_x = (low[0] + high[0]) / 2.0 - width / p->scale / 2.0;
    p->low_y = (low[1] + high[1]) / 2.0 - height / p->scale / 2.0;
}

static void draw_names(const nsk_canvas *canvas, const nsk_labels *labels) {
    double x = SIDE;
    for (int c = 0; c < MIN(labels->count, MOST_NAMED); c++) {
        nsk_canvas_colour(canvas, nsk_class_colour(c));
        cairo_new_path(canvas->cr);
        cairo_arc(canvas->cr, x + 5, 72, 5.0, 0.0, 2.0 * G_PI);
        cairo_fill(canvas->cr);
        nsk_canvas_colour(canvas, NSK_INK);
        nsk_canvas_text(canvas, x + 15, 76, 11.5, false, 110, labels->names[c]);
        x += 15 + fmin(nsk_canvas_text_width(canvas, 11.5, false, labels->names[c]), 110) + 18;
    }
}

bool nsk_atlas_draw(const nsk_atlas *a, const nsk_labels *labels, const char *name,
                    const char *path, nsk_error *error) {
    nsk_canvas canvas;
    char heading[160];
    char text[200];
    snprintf(heading, sizeof heading, "%s: what the layer before the last says of %d images", name,
             a->images);
    static const char *const marks = "ringed: answered wrongly; boxed: among another class";
    if (a->by_neighbours) {
        snprintf(text, sizeof text,
                 "near ones stay near: %.0f %% of each image's ten nearest, among %d numbers, are "
                 "nearest here; %s",
                 100.0 * a->kept, a->numbers, marks);
    } else {
        snprintf(
            text, sizeof text,
            "the two directions in which %d numbers differ most: across %.0f %% of the spread, "
            "up %.0f %%; %s",
            a->numbers, 100.0 * a->spread[0], 100.0 * a->spread[1], marks);
    }
    if (!nsk_canvas_open(&canvas, SIDE, path, heading, text, error)) {
        return false;
    }
    draw_names(&canvas, labels);
    plane p = {.canvas = &canvas, .atlas = a, .width = (WIDTH - 3.0 * SIDE) / 2.0};
    fit(&p, p.width - 20.0, HEIGHT - TOP - BOTTOM - 40.0);
    for (int k = 0; k < 2; k++) {
        p.left = SIDE + k * (p.width + SIDE);
        nsk_canvas_colour(&canvas, NSK_FAINT);
        nsk_canvas_text(&canvas, p.left, TOP, 12.0, true, 0.0, k == 0 ? "float" : "integer");
        nsk_canvas_colour(&canvas, NSK_LINE);
        cairo_set_line_width(canvas.cr, 0.8);
        cairo_rectangle(canvas.cr, p.left - 10, TOP + 10, p.width + 10, HEIGHT - TOP - 22.0);
        cairo_stroke(canvas.cr);
        for (int i = 0; i < a->images; i++) {
            draw_point(&p, &a->image[i], k == 1);
        }
    }
    return nsk_canvas_finish(&canvas, path, error);
}
