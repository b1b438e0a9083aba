/* Other settings of the rule, on the scores that a rehearsal has left. */
#include <math.h>
#include <stdio.h>
#include <string.h>

#include "brief/labels.h"
#include "draw/canvas.h"
#include "draw/scale.h"
#include "sim/rehearse.h"

/* Adds up what scenes come to, each for its time. */
static void add(nsk_figures *to, const nsk_figures *one) {
    to->events += one->events;
    to->missed += one->missed;
    to->longer += one->longer;
    to->longer_missed += one->longer_missed;
    to->actions += one->actions;
    to->right += one->right;
    to->false_actions += one->false_actions;
    to->worst_delay_frames = fmax(to->worst_delay_frames, one->worst_delay_frames);
    to->delay_frames += one->delay_frames * (one->events - one->missed);
    to->delay_seconds += one->delay_seconds * (one->events - one->missed);
}

static nsk_sweep_point try(nsk_rehearsal *const *rehearsals, const nsk_stage *stages, int count,
                           const nsk_decision *decision) {
    nsk_sweep_point p = {
        decision->threshold, decision->frames, decision->window, {0}, false, false};
    double hours = 0.0;
    for (int i = 0; i < count; i++) {
        nsk_model model;
        nsk_figures one;
        uint8_t line_of[NSK_MOST_LABELS];
        int *decided = g_new(int, rehearsals[i]->taken + 1);
        nsk_open(&model, stages[i].model->bytes, stages[i].model->size);
        nsk_rule rule = nsk_rule_of(decision, &model, line_of);
        nsk_rejudge(rehearsals[i], &stages[i], &rule, decided, &one);
        add(&p.figures, &one);
        hours += rehearsals[i]->frames / stages[i].board->frame_rate / 3600.0;
        g_free(decided);
    }
    int caught = MAX(p.figures.events - p.figures.missed, 1);
    p.figures.delay_frames /= caught;
    p.figures.delay_seconds /= caught;
    p.figures.missed_an_hour = p.figures.missed / hours;
    p.figures.false_an_hour = p.figures.false_actions / hours;
    return p;
}

static void mark_beaten(GArray *points) {
    for (guint i = 0; i < points->len; i++) {
        nsk_sweep_point *p = &g_array_index(points, nsk_sweep_point, i);
        for (guint k = 0; k < points->len && !p->beaten; k++) {
            const nsk_figures *a = &g_array_index(points, nsk_sweep_point, k).figures;
            const nsk_figures *b = &p->figures;
            p->beaten = a->missed <= b->missed && a->false_actions <= b->false_actions &&
                        (a->missed < b->missed || a->false_actions < b->false_actions);
        }
    }
}

GArray *nsk_sweep(nsk_rehearsal *const *rehearsals, const nsk_stage *stages, int count) {
    static const double thresholds[] = {0.3, 0.4, 0.5, 0.6, 0.7, 0.8, 0.9, 0.95};
    static const int windows[][2] = {{1, 0}, {2, 0}, {3, 0}, {4, 0}, {2, 3}, {2, 4},
                                     {3, 4}, {3, 5}, {3, 6}, {4, 5}, {4, 6}};
    GArray *points = g_array_new(FALSE, FALSE, sizeof(nsk_sweep_point));
    nsk_decision d = *stages[0].decision;
    nsk_sweep_point own = try(rehearsals, stages, count, &d);
    own.own = true;
    g_array_append_val(points, own);
    for (size_t w = 0; w < G_N_ELEMENTS(windows); w++) {
        for (size_t t = 0; t < G_N_ELEMENTS(thresholds); t++) {
            d.threshold = thresholds[t];
            d.frames = windows[w][0];
            d.window = windows[w][1];
            nsk_sweep_point p = try(rehearsals, stages, count, &d);
            g_array_append_val(points, p);
        }
    }
    mark_beaten(points);
    return points;
}

/* ---- drawing ---- */

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
static void draw_points(const chart *c, const GArray *points) {
    GHashTable *named = g_hash_table_new_full(g_str_hash, g_str_equal, g_free, NULL);
    for (guint i = 0; i < points->len; i++) {
        const nsk_sweep_point *p = &g_array_index(points, nsk_sweep_point, i);
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

bool nsk_sweep_draw(const GArray *points, const char *name, const char *path, nsk_error *error) {
    chart c = {.most_missed = 1.0, .most_false = 1.0};
    char below[200];
    g_snprintf(below, sizeof below, "%s: %u settings of the rule on the same scores", name,
               points->len);
    if (!nsk_canvas_open(&c.canvas, LEFT - 62.0, path, "Missed and false", below, error)) {
        return false;
    }
    for (guint i = 0; i < points->len; i++) {
        const nsk_figures *f = &g_array_index(points, nsk_sweep_point, i).figures;
        c.most_missed = fmax(c.most_missed, f->missed_an_hour);
        c.most_false = fmax(c.most_false, f->false_an_hour);
    }
    draw_scales(&c);
    draw_points(&c, points);
    return nsk_canvas_finish(&c.canvas, path, error);
}
