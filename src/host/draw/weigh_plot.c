/* Variants: time across, accuracy up, RAM as size, limits as lines. */
#include <math.h>
#include <stdio.h>
#include <string.h>

#include "draw/canvas.h"
#include "netsuke/weigh.h"

enum { LEFT = 90, RIGHT = 60, TOP = 96, BOTTOM = 64, TICKS = 5, MOST_RADIUS = 26 };

typedef struct chart {
    nsk_canvas canvas;
    const nsk_variant *variants;
    int count;
    double most_seconds, least_share, most_share, most_ram;
} chart;

static double x_of(const chart *c, double seconds) {
    return LEFT + (NSK_PAGE_WIDTH - LEFT - RIGHT) * seconds / c->most_seconds;
}

static double y_of(const chart *c, double share) {
    double up = (share - c->least_share) / (c->most_share - c->least_share);
    return NSK_PAGE_HEIGHT - BOTTOM - (NSK_PAGE_HEIGHT - TOP - BOTTOM) * up;
}

static double share_of(const nsk_variant *v) {
    return (double)v->integer_correct / v->images;
}

/* Room for every interval, and for limits that are near. */
static void fit(chart *c) {
    double low = 1.0;
    double high = 0.0;
    for (int i = 0; i < c->count; i++) {
        const nsk_variant *v = &c->variants[i];
        double limit = v->limits[NSK_LIMIT_LATENCY].limit;
        low = fmin(low, v->accuracy_low);
        high = fmax(high, v->accuracy_high);
        c->most_seconds = fmax(c->most_seconds, v->seconds);
        c->most_ram = fmax(c->most_ram, v->ram);
        if (limit < 3.0 * v->seconds) {
            c->most_seconds = fmax(c->most_seconds, limit);
        }
    }
    c->most_seconds *= 1.12;
    c->least_share = fmax(low - 0.15 * (high - low) - 0.005, 0.0);
    c->most_share = fmin(high + 0.15 * (high - low) + 0.005, 1.0);
}

static void draw_line(const chart *c, double x0, double y0, double x1, double y1) {
    cairo_new_path(c->canvas.cr);
    cairo_move_to(c->canvas.cr, x0, y0);
    cairo_line_to(c->canvas.cr, x1, y1);
    cairo_stroke(c->canvas.cr);
}

/* 1, 2 or 5 times a power of ten, so that about TICKS of it make the span. */
static double step_of(double span) {
    double ten = pow(10.0, floor(log10(span / TICKS)));
    double part = span / TICKS / ten;
    return ten * (part < 1.5 ? 1.0 : part < 3.5 ? 2.0 : part < 7.5 ? 5.0 : 10.0);
}

static void draw_scales(const chart *c) {
    char text[32];
    double bottom = NSK_PAGE_HEIGHT - BOTTOM;
    double step = step_of(c->most_share - c->least_share);
    int last = (int)floor(c->most_share / step + 1e-9);
    for (int i = (int)ceil(c->least_share / step - 1e-9); i <= last; i++) {
        nsk_canvas_colour(&c->canvas, NSK_LINE);
        cairo_set_line_width(c->canvas.cr, 0.6);
        draw_line(c, LEFT, y_of(c, i * step), NSK_PAGE_WIDTH - RIGHT, y_of(c, i * step));
        nsk_canvas_colour(&c->canvas, NSK_FAINT);
        snprintf(text, sizeof text, "%.4g %%", 100.0 * i * step);
        nsk_canvas_text(&c->canvas, LEFT - 62.0, y_of(c, i * step) + 4, 10.5, false, 0.0, text);
    }
    step = step_of(c->most_seconds);
    last = (int)floor(c->most_seconds / step);
    for (int i = 0; i <= last; i++) {
        snprintf(text, sizeof text, "%.3g ms", 1e3 * i * step);
        nsk_canvas_text(&c->canvas, x_of(c, i * step) - 14, bottom + 18, 10.5, false, 0.0, text);
    }
    nsk_canvas_text(&c->canvas, LEFT, bottom + 42, 11.0, false, 0.0,
                    "across: time a frame; up: accuracy of the integer model with its 95 % "
                    "interval; area: RAM; hollow: breaks a limit; grey: another is better in all");
}

/* Each limit of time once. */
static void draw_limits(const chart *c) {
    char text[64];
    for (int i = 0; i < c->count; i++) {
        double limit = c->variants[i].limits[NSK_LIMIT_LATENCY].limit;
        bool known = limit > c->most_seconds;
        for (int k = 0; k < i; k++) {
            known = known || fabs(c->variants[k].limits[NSK_LIMIT_LATENCY].limit - limit) <= 0.0;
        }
        if (known) {
            continue;
        }
        nsk_canvas_colour(&c->canvas, NSK_GLAZE);
        cairo_set_line_width(c->canvas.cr, 2.0);
        draw_line(c, floor(x_of(c, limit)), TOP, floor(x_of(c, limit)), NSK_PAGE_HEIGHT - BOTTOM);
        snprintf(text, sizeof text, "limit %.3g ms", 1e3 * limit);
        nsk_canvas_text(&c->canvas, x_of(c, limit) - 90, TOP + 12, 10.5, false, 0.0, text);
    }
}

static void draw_variant(const chart *c, const nsk_variant *v) {
    cairo_t *cr = c->canvas.cr;
    double x = x_of(c, v->seconds);
    double radius = fmax(MOST_RADIUS * sqrt(v->ram / c->most_ram), 4.0);
    nsk_canvas_colour(&c->canvas, v->beaten_by == NSK_NO_VARIANT ? NSK_CLAY : NSK_LINE);
    cairo_set_line_width(cr, 1.2);
    draw_line(c, x, y_of(c, v->accuracy_low), x, y_of(c, v->accuracy_high));
    cairo_new_path(cr);
    cairo_set_line_width(cr, 2.0);
    cairo_arc(cr, x, y_of(c, share_of(v)), radius, 0.0, 2.0 * G_PI);
    if (v->fits) {
        cairo_fill(cr);
    } else {
        cairo_stroke(cr);
    }
    nsk_canvas_colour(&c->canvas, NSK_INK);
    nsk_canvas_text(&c->canvas, x + radius + 6, y_of(c, share_of(v)) + 4, 11.5, true, 260.0,
                    v->name);
}

bool nsk_weigh_draw(const nsk_variant *variants, int count, const char *path, nsk_error *error) {
    chart c = {.variants = variants, .count = count};
    char below[120];
    snprintf(below, sizeof below, "%d variants", count);
    if (!nsk_canvas_open(&c.canvas, LEFT - 62.0, path, "Time, accuracy and RAM", below, error)) {
        return false;
    }
    fit(&c);
    draw_scales(&c);
    draw_limits(&c);
    for (int i = 0; i < count; i++) {
        draw_variant(&c, &variants[i]);
    }
    return nsk_canvas_finish(&c.canvas, path, error);
}
