/* How often answers are right beside what they say, float and integer side by side. */
#include <math.h>
#include <stdio.h>

#include "draw/canvas.h"
#include "netsuke/compare.h"

enum { HEIGHT = NSK_PAGE_HEIGHT, TOP = 110, SIDE = 500, GAP = 120, LEFT = 90, BARS = 100 };

typedef struct panel {
    const nsk_canvas *canvas;
    const nsk_comparison *comparison;
    const nsk_scoring *scoring;
    double x;
    unsigned colour;
} panel;

static double x_of(const panel *p, double share) {
    return p->x + SIDE * share;
}

static double y_of(double share) {
    return TOP + SIDE * (1.0 - share);
}

static void draw_line(const panel *p, double x0, double y0, double x1, double y1) {
    cairo_move_to(p->canvas->cr, x_of(p, x0), y_of(y0));
    cairo_line_to(p->canvas->cr, x_of(p, x1), y_of(y1));
    cairo_stroke(p->canvas->cr);
}

static void draw_frame(const panel *p) {
    char text[16];
    for (int i = 0; i <= 5; i++) {
        double share = i / 5.0;
        nsk_canvas_colour(p->canvas, NSK_LINE);
        cairo_set_line_width(p->canvas->cr, 0.6);
        draw_line(p, 0.0, share, 1.0, share);
        nsk_canvas_colour(p->canvas, NSK_FAINT);
        snprintf(text, sizeof text, "%.1f", share);
        nsk_canvas_text(p->canvas, p->x - 28, y_of(share) + 4, 10.5, false, 0.0, text);
        nsk_canvas_text(p->canvas, x_of(p, share) - 8, y_of(0.0) + 16, 10.5, false, 0.0, text);
    }
    cairo_set_line_width(p->canvas->cr, 1.0);
    draw_line(p, 0.0, 0.0, 1.0, 1.0);
}

/* A point a bin, its area its images; below, how many images each bin has. */
static void draw_bins(const panel *p) {
    cairo_t *cr = p->canvas->cr;
    int most = 1;
    for (int b = 0; b < NSK_CALIBRATION_BINS; b++) {
        most = MAX(most, p->scoring->bins[b].images);
    }
    nsk_canvas_colour(p->canvas, p->colour);
    for (int b = 0; b < NSK_CALIBRATION_BINS; b++) {
        const nsk_calibration_bin *bin = &p->scoring->bins[b];
        if (bin->images == 0) {
            continue;
        }
        double left = x_of(p, (double)b / NSK_CALIBRATION_BINS) + 1.5;
        double height = BARS * sqrt((double)bin->images / most);
        cairo_new_path(cr);
        cairo_arc(cr, x_of(p, bin->said), y_of(bin->right),
                  3.0 + 13.0 * sqrt((double)bin->images / p->comparison->images), 0.0, 2.0 * G_PI);
        cairo_fill(cr);
        cairo_rectangle(cr, left, HEIGHT - 28 - height, (double)SIDE / NSK_CALIBRATION_BINS - 3.0,
                        height);
        cairo_fill(cr);
    }
}

static void draw_panel(const panel *p, const char *side) {
    char text[120];
    snprintf(text, sizeof text, "%s: calibration error %.2f %%", side,
             100.0 * p->scoring->calibration_error);
    nsk_canvas_colour(p->canvas, p->colour);
    nsk_canvas_text(p->canvas, p->x, TOP - 20, 13.0, true, SIDE, text);
    draw_frame(p);
    draw_bins(p);
    nsk_canvas_colour(p->canvas, NSK_FAINT);
    nsk_canvas_text(p->canvas, p->x, y_of(0.0) + 36, 11.0, false, SIDE,
                    "across: probability of the answer; up: share of such answers that are right");
    nsk_canvas_text(p->canvas, p->x, HEIGHT - 10, 11.0, false, SIDE,
                    "images of each of 15 bins, on a scale of square roots");
}

bool nsk_reliability_draw(const nsk_comparison *c, const char *name, const char *path,
                          nsk_error *error) {
    nsk_canvas canvas;
    char heading[160];
    char below[160];
    snprintf(heading, sizeof heading, "%s: can its probabilities be trusted?", name);
    snprintf(below, sizeof below,
             "%d held-out images; on the diagonal they can, below it the model is too sure",
             c->images);
    if (!nsk_canvas_open(&canvas, LEFT, path, heading, below, error)) {
        return false;
    }
    for (int k = 0; k < 2; k++) {
        nsk_scoring *scoring = nsk_scoring_of(c, k == 1);
        const panel p = {&canvas, c, scoring, LEFT + k * (SIDE + GAP),
                         k == 1 ? NSK_CLAY : NSK_GLAZE};
        draw_panel(&p, k == 1 ? "integer" : "float");
        nsk_scoring_free(scoring);
    }
    return nsk_canvas_finish(&canvas, path, error);
}
