/* Accuracy over strength, float and integer beside each other, a panel a change. */
#include <math.h>
#include <stdio.h>
#include <string.h>

#include "draw/canvas.h"
#include "netsuke/stress.h"

enum {
    WIDTH = NSK_PAGE_WIDTH,
    HEIGHT = NSK_PAGE_HEIGHT,
    ACROSS = 4,
    DOWN = 3,
    LEFT = 56,
    TOP = 92,
    GAP = 46,
    TITLE = 26
};

typedef struct panel {
    const nsk_canvas *canvas;
    double x, y, width, height;
    double lowest; /* percent, at the bottom */
} panel;

static double x_of(const panel *p, int strength) {
    return p->x + p->width * strength / NSK_STRENGTHS;
}

static double y_of(const panel *p, double percent) {
    return p->y + p->height * (100.0 - percent) / (100.0 - p->lowest);
}

static void draw_line(const panel *p, const double *percent, unsigned colour, double width) {
    cairo_t *cr = p->canvas->cr;
    nsk_canvas_colour(p->canvas, colour);
    cairo_set_line_width(cr, width);
    cairo_new_path(cr); /* text leaves a point behind */
    for (int k = 0; k <= NSK_STRENGTHS; k++) {
        cairo_line_to(cr, x_of(p, k), y_of(p, percent[k]));
    }
    cairo_stroke(cr);
    for (int k = 0; k <= NSK_STRENGTHS; k++) {
        cairo_arc(cr, x_of(p, k), y_of(p, percent[k]), width + 0.8, 0.0, 2.0 * G_PI);
        cairo_fill(cr);
    }
}

static void draw_scale(const panel *p, const nsk_stress_change *c) {
    char text[32];
    cairo_t *cr = p->canvas->cr;
    for (int percent = 100; percent > p->lowest - 1.0; percent -= 20) {
        nsk_canvas_colour(p->canvas, NSK_LINE);
        cairo_set_line_width(cr, 0.6);
        cairo_move_to(cr, p->x, y_of(p, percent));
        cairo_line_to(cr, p->x + p->width, y_of(p, percent));
        cairo_stroke(cr);
        snprintf(text, sizeof text, "%d %%", percent);
        nsk_canvas_colour(p->canvas, NSK_FAINT);
        double width = nsk_canvas_text_width(p->canvas, 9.5, false, text);
        nsk_canvas_text(p->canvas, p->x - 8 - width, y_of(p, percent) + 3.5, 9.5, false, 0.0, text);
    }
    for (int k = 0; k <= NSK_STRENGTHS; k++) {
        snprintf(text, sizeof text, "%g", k > 0 ? c->amount[k - 1] : 0.0);
        const char *label = k > 0 ? text : "as is";
        double width = nsk_canvas_text_width(p->canvas, 9.5, false, label);
        nsk_canvas_text(p->canvas, x_of(p, k) - width / 2.0, p->y + p->height + 15, 9.5, false, 0.0,
                        label);
    }
}

static double percent_of(int correct, int images) {
    return 100.0 * correct / images;
}

static void draw_panel(const panel *p, const nsk_stress *s, const nsk_stress_change *c) {
    double percent[2][NSK_STRENGTHS + 1];
    char title[96];
    percent[0][0] = percent_of(s->unchanged.float_correct, s->images);
    percent[1][0] = percent_of(s->unchanged.integer_correct, s->images);
    for (int k = 0; k < NSK_STRENGTHS; k++) {
        percent[0][k + 1] = percent_of(c->count[k].float_correct, s->images);
        percent[1][k + 1] = percent_of(c->count[k].integer_correct, s->images);
    }
    snprintf(title, sizeof title, "%s, %s", c->name, c->unit);
    nsk_canvas_colour(p->canvas, NSK_INK);
    nsk_canvas_text(p->canvas, p->x, p->y - 9, 12.0, true, p->width, title);
    draw_scale(p, c);
    draw_line(p, percent[0], NSK_GLAZE, 3.4);
    draw_line(p, percent[1], NSK_CLAY, 1.6);
    for (int k = 0; k < NSK_STRENGTHS; k++) {
        if (nsk_stress_breaks(s, &c->count[k])) {
            cairo_arc(p->canvas->cr, x_of(p, k + 1), y_of(p, percent[1][k + 1]), 7.0, 0.0,
                      2.0 * G_PI);
            nsk_canvas_colour(p->canvas, NSK_INK);
            cairo_set_line_width(p->canvas->cr, 1.4);
            cairo_stroke(p->canvas->cr);
        }
    }
}

/* The lowest accuracy of all, down to whole steps of the scale. */
static double lowest_of(const nsk_stress *s) {
    double lowest = 100.0;
    for (int c = 0; c < s->changes; c++) {
        for (int k = 0; k < NSK_STRENGTHS; k++) {
            const nsk_stress_count *count = &s->change[c].count[k];
            lowest = fmin(lowest,
                          percent_of(MIN(count->float_correct, count->integer_correct), s->images));
        }
    }
    return fmin(floor(lowest / 20.0) * 20.0, 80.0);
}

static double draw_key(const nsk_canvas *canvas, double x, unsigned colour, const char *text) {
    nsk_canvas_colour(canvas, colour);
    cairo_rectangle(canvas->cr, x, 46, 18, 4);
    cairo_fill(canvas->cr);
    nsk_canvas_colour(canvas, NSK_FAINT);
    nsk_canvas_text(canvas, x + 25, 52, 11.5, false, 0.0, text);
    return x + 25 + nsk_canvas_text_width(canvas, 11.5, false, text) + 24;
}

bool nsk_stress_draw(const nsk_stress *s, const char *name, const char *path, nsk_error *error) {
    nsk_canvas canvas;
    char text[160];
    snprintf(text, sizeof text, "%s: accuracy on %d changed images", name, s->images);
    if (!nsk_canvas_open(&canvas, LEFT, path, text, NULL, error)) {
        return false;
    }
    double x = draw_key(&canvas, LEFT, NSK_GLAZE, "float");
    x = draw_key(&canvas, x, NSK_CLAY, "integer");
    nsk_canvas_text(&canvas, x, 52, 11.5, false, 0.0,
                    "ringed: the integer model is worse than chance explains");
    double width = (WIDTH - LEFT - 20.0) / ACROSS;
    double height = (HEIGHT - TOP - 8.0) / DOWN;
    for (int i = 0; i < s->changes && i < ACROSS * DOWN; i++) {
        panel p = {.canvas = &canvas, .lowest = lowest_of(s)};
        p.x = LEFT + width * (i % ACROSS);
        p.y = TOP + height * (i / ACROSS);
        p.width = width - GAP;
        p.height = height - GAP - TITLE / 2.0;
        draw_panel(&p, s, &s->change[i]);
    }
    return nsk_canvas_finish(&canvas, path, error);
}
