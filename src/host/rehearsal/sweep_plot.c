/* The settings of a sweep: missed across, false up, the best of them named. */
#include <math.h>
#include <stdio.h>

#include "draw/canvas.h"
#include "draw/scale.h"
#include "netsuke/rehearse.h"

enum { LEFT = 96, RIGHT = 60, TOP = 96, BOTTOM = 76 };

typedef struct chart {
    nsk_canvas canvas;
    double most_missed, most_false;
} chart;

/* Square roots, so that what is near none can be told apart. */
static double x_of(const chart *c, double missed) {
    return LEFT + (NSK_PAGE_WIDTH - LEFT - RIGHT) * sqrt(missed / c->most_missed);
}

static double y_of(const chart *c, double wrong) {
    return NSK_PAGE_HEIGHT - BOTTOM -
           (NSK_PAGE_HEIGHT - TOP - BOTTOM) * sqrt(wrong / c->most_false);
}

/* A line across at a number of false actions, or down at one of missed events. */
static void draw_line(const chart *c, double number, bool across) {
    char text[32];
    double x = across ? LEFT : x_of(c, number);
    double y = across ? y_of(c, number) : TOP;
    nsk_canvas_colour(&c->canvas, NSK_LINE);
    cairo_set_line_width(c->canvas.cr, 0.6);
    cairo_move_to(c->canvas.cr, x, y);
    cairo_line_to(c->canvas.cr, across ? NSK_PAGE_WIDTH - RIGHT : x,
                  across ? y : NSK_PAGE_HEIGHT - BOTTOM);
    cairo_stroke(c->canvas.cr);
    g_snprintf(text, sizeof text, "%g", number);
    double width = nsk_canvas_text_width(&c->canvas, 10.5, false, text);
    nsk_canvas_colour(&c->canvas, NSK_FAINT);
    nsk_canvas_text(&c->canvas, across ? LEFT - 8 - width : x - width / 2.0,
                    across ? y + 4 : NSK_PAGE_HEIGHT - BOTTOM + 18, 10.5, false, 0.0, text);
}

/* Lines at round numbers, no nearer to each other than what can be read. */
static void draw_lines(const chart *c, bool across) {
    enum { LEAST_APART = 34 };
    double numbers[NSK_ROUND_NUMBERS];
    int count = nsk_round_numbers(across ? c->most_false : c->most_missed, numbers);
    double last = INFINITY;
    for (int i = 0; i < count; i++) {
        double place = across ? y_of(c, numbers[i]) : x_of(c, numbers[i]);
        if (fabs(place - last) >= LEAST_APART) {
            draw_line(c, numbers[i], across);
            last = place;
        }
    }
}

static void draw_scales(const chart *c) {
    cairo_t *cr = c->canvas.cr;
    draw_lines(c, false);
    draw_lines(c, true);
    nsk_canvas_colour(&c->canvas, NSK_INK);
    static const char missed[] = "missed events an hour";
    static const char wrong[] = "false actions an hour";
    double width = nsk_canvas_text_width(&c->canvas, 12.0, false, missed);
    nsk_canvas_text(&c->canvas, LEFT + (NSK_PAGE_WIDTH - LEFT - RIGHT - width) / 2.0,
                    NSK_PAGE_HEIGHT - BOTTOM + 36, 12.0, false, 0.0, missed);
    width = nsk_canvas_text_width(&c->canvas, 12.0, false, wrong);
    cairo_save(cr);
    cairo_translate(cr, LEFT - 50.0, TOP + (NSK_PAGE_HEIGHT - TOP - BOTTOM + width) / 2.0);
    cairo_rotate(cr, -G_PI / 2.0);
    nsk_canvas_text(&c->canvas, 0.0, 0.0, 12.0, false, 0.0, wrong);
    cairo_restore(cr);
    nsk_canvas_colour(&c->canvas, NSK_FAINT);
    nsk_canvas_text(
        &c->canvas, LEFT, NSK_PAGE_HEIGHT - BOTTOM + 58, 11.0, false, 0.0,
        "Axes by square roots. Grey: another setting is better in both. '2 of 3 at 0.60': "
        "the answer on two of the last three frames, each with a probability of at least "
        "0.60. Ring: the brief's rule.");
}

static void name_of(const nsk_sweep_point *p, char *text, size_t size) {
    if (p->window > 0) {
        g_snprintf(text, size, "%d of %d at %.2f", p->frames, p->window, p->threshold);
    } else {
        g_snprintf(text, size, "%d in a row at %.2f", p->frames, p->threshold);
    }
}

/* Names of those that are not beaten, each place once. */
static void draw_points(const chart *c, const nsk_sweep *sweep) {
    GHashTable *named = g_hash_table_new_full(g_str_hash, g_str_equal, g_free, NULL);
    for (int i = 0; i < sweep->count; i++) {
        const nsk_sweep_point *p = &sweep->points[i];
        double x = x_of(c, p->figures.missed_an_hour);
        double y = y_of(c, p->figures.false_an_hour);
        char *place = g_strdup_printf("%d %d", p->figures.missed, p->figures.false_actions);
        nsk_canvas_colour(&c->canvas, p->beaten ? NSK_LINE : NSK_CLAY);
        cairo_new_path(c->canvas.cr);
        cairo_arc(c->canvas.cr, x, y, p->beaten ? 3.5 : 6.0, 0.0, 2.0 * G_PI);
        cairo_fill(c->canvas.cr);
        if (p->own) {
            nsk_canvas_colour(&c->canvas, NSK_GLAZE);
            cairo_set_line_width(c->canvas.cr, 2.4);
            cairo_new_path(c->canvas.cr);
            cairo_arc(c->canvas.cr, x, y, 11.0, 0.0, 2.0 * G_PI);
            cairo_stroke(c->canvas.cr);
        }
        if ((!p->beaten || p->own) && g_hash_table_add(named, g_strdup(place))) {
            char text[64];
            name_of(p, text, sizeof text);
            nsk_canvas_colour(&c->canvas, NSK_INK);
            nsk_canvas_text(&c->canvas, x + 14, y - 6, 11.0, p->own, 0.0, text);
        }
        g_free(place);
    }
    g_hash_table_destroy(named);
}

bool nsk_sweep_draw(const nsk_sweep *sweep, const char *name, const char *path, nsk_error *error) {
    chart c = {.most_missed = 1.0, .most_false = 1.0};
    char below[200];
    g_snprintf(below, sizeof below, "%s: %d settings of the rule on the same scores", name,
               sweep->count);
    if (!nsk_canvas_open(&c.canvas, LEFT - 62.0, path, "Missed and false", below, error)) {
        return false;
    }
    for (int i = 0; i < sweep->count; i++) {
        const nsk_figures *f = &sweep->points[i].figures;
        c.most_missed = fmax(c.most_missed, f->missed_an_hour);
        c.most_false = fmax(c.most_false, f->false_an_hour);
    }
    draw_scales(&c);
    draw_points(&c, sweep);
    return nsk_canvas_finish(&c.canvas, path, error);
}
