/* A rehearsal along its time. */
#include <stdio.h>
#include <string.h>

#include "draw/canvas.h"
#include "rehearsal/figures.h"

enum { LEFT = 110, RIGHT = 28, TOP = 100, MOST_CLASSES = 24, MOST_TICKS = 12 };

typedef struct strip {
    const nsk_canvas *canvas;
    const nsk_rehearsal *rehearsal;
    const nsk_stage *stage;
    const nsk_labels *labels;
    double seconds; /* that the width shows */
    double y;       /* of what is drawn next */
} strip;

static double x_of(const strip *s, double seconds) {
    return LEFT + (NSK_PAGE_WIDTH - LEFT - RIGHT) * seconds / s->seconds;
}

static double period(const strip *s) {
    return 1.0 / s->stage->board->frame_rate;
}

static void box(const strip *s, unsigned colour, double from, double to, double y, double height) {
    nsk_canvas_colour(s->canvas, colour);
    cairo_new_path(s->canvas->cr);
    cairo_rectangle(s->canvas->cr, x_of(s, from), y, x_of(s, to) - x_of(s, from), height);
    cairo_fill(s->canvas->cr);
}

static void title(const strip *s, double y, const char *text) {
    nsk_canvas_colour(s->canvas, NSK_INK);
    nsk_canvas_text(s->canvas, 28, y, 11.0, true, LEFT - 36.0, text);
}

/* What is there, a colour a class. */
static void draw_truth(strip *s) {
    enum { HEIGHT = 52 };
    title(s, s->y + 30, "there is");
    for (int f = 0; f < s->rehearsal->frames; f++) {
        int truth = nsk_film_truth(s->stage->film, f);
        unsigned colour = truth == NSK_NOBODY_KNOWS ? NSK_LINE : nsk_class_colour(truth);
        box(s, colour, f * period(s), (f + 1.02) * period(s), s->y, HEIGHT);
    }
    s->y += HEIGHT + 26;
}

/* A row a class; a mark where it is the answer, pale where that is unsure. */
static void draw_answers(strip *s) {
    const nsk_rehearsal *r = s->rehearsal;
    int classes = MIN(r->classes, MOST_CLASSES);
    double row = MIN(44.0, 320.0 / classes);
    for (int c = 0; c < classes; c++) {
        nsk_canvas_colour(s->canvas, nsk_class_colour(c));
        nsk_canvas_text(s->canvas, 28, s->y + row * c + row * 0.7, 11.0, true, LEFT - 36.0,
                        s->labels->names[c]);
        box(s, 0xe9e5dc, 0.0, s->seconds, s->y + row * (c + 1) - 1.0, 1.0);
    }
    for (int i = 0; i < r->taken; i++) {
        const nsk_rehearsed *a = &r->answers[i];
        if (a->fault == NSK_FAULT_NONE && a->class_index < classes) {
            double y = s->y + row * a->class_index;
            double height = a->line == NSK_UNSURE ? row * 0.25 : row * 0.8;
            box(s, nsk_class_colour(a->class_index), a->arrived, a->arrived + 0.85 * period(s),
                y + row * 0.9 - height, height);
        }
    }
    s->y += row * classes + 26;
}

static bool moves(const strip *s, int line) {
    for (int i = 0; i < s->rehearsal->taken; i++) {
        if (s->rehearsal->answers[i].decided == line) {
            return true;
        }
    }
    for (int i = 0; i < s->rehearsal->figures.events; i++) {
        if (s->rehearsal->event[i].line == line) {
            return true;
        }
    }
    return false;
}

static bool is_right(const nsk_rehearsal *r, int answer) {
    for (int i = 0; i < r->figures.events; i++) {
        if (r->event[i].caught == answer) {
            return true;
        }
    }
    return false;
}

/* A row a line that ever moves: events below, missed ones hollow, actions as needles. */
static void draw_lines(strip *s) {
    enum { ROW = 66 };
    const nsk_rehearsal *r = s->rehearsal;
    cairo_t *cr = s->canvas->cr;
    int lines = s->stage->decision->lines > 0 ? s->stage->decision->lines : r->classes;
    for (int line = 0; line < lines && s->y < 690.0; line++) {
        if (!moves(s, line)) {
            continue;
        }
        title(s, s->y + 36, nsk_line_name(s->stage->decision, s->labels, line));
        for (int i = 0; i < r->figures.events; i++) {
            const nsk_event *e = &r->event[i];
            if (e->line == line) {
                double from = e->first * period(s);
                double to = (e->last + 1) * period(s);
                box(s, e->caught >= 0 ? NSK_SAND : NSK_CLAY, from, to, s->y + 44, 8);
            }
        }
        for (int i = 0; i < r->taken; i++) {
            const nsk_rehearsed *a = &r->answers[i];
            if (a->decided == line) {
                double x = x_of(s, a->answered);
                nsk_canvas_colour(s->canvas, is_right(r, i) ? NSK_GLAZE : NSK_CLAY);
                cairo_set_line_width(cr, 1.6);
                cairo_new_path(cr);
                cairo_move_to(cr, x, s->y + 52);
                cairo_line_to(cr, x, s->y + 8);
                cairo_stroke(cr);
                cairo_arc(cr, x, s->y + 8, 3.2, 0.0, 2.0 * G_PI);
                cairo_fill(cr);
            }
        }
        s->y += ROW;
    }
    s->y += 6;
}

/* Frames that were dropped, and those without an answer. */
static void draw_losses(strip *s) {
    const nsk_rehearsal *r = s->rehearsal;
    bool *taken = g_new0(bool, r->frames + 1);
    if (r->dropped == 0 && r->faulted == 0) {
        g_free(taken);
        return;
    }
    title(s, s->y + 12, "no answer");
    for (int i = 0; i < r->taken; i++) {
        const nsk_rehearsed *a = &r->answers[i];
        taken[a->frame] = true;
        if (a->fault != NSK_FAULT_NONE) {
            box(s, NSK_CLAY, a->frame * period(s), (a->frame + 0.9) * period(s), s->y, 16);
        }
    }
    for (int f = 0; f < r->frames; f++) {
        if (!taken[f]) {
            box(s, NSK_FAINT, f * period(s), (f + 0.9) * period(s), s->y + 6, 4);
        }
    }
    s->y += 34;
    g_free(taken);
}

static void draw_seconds(const strip *s) {
    static const double steps[] = {1, 2, 5, 10, 20, 30, 60, 120, 300, 600, 1800, 3600};
    double step = steps[G_N_ELEMENTS(steps) - 1];
    for (size_t i = G_N_ELEMENTS(steps); i-- > 0;) {
        step = s->seconds / steps[i] <= MOST_TICKS ? steps[i] : step;
    }
    for (int i = 0; i * step <= s->seconds; i++) {
        char text[32];
        g_snprintf(text, sizeof text, "%.0f s", i * step);
        nsk_canvas_colour(s->canvas, NSK_FAINT);
        nsk_canvas_text(s->canvas, x_of(s, i * step) - 8, s->y + 14, 10.5, false, 0.0, text);
    }
    nsk_canvas_text(
        s->canvas, LEFT, s->y + 38, 11.0, false, 0.0,
        "answers: low where unsure; grey above: nobody can say; needles: a line goes up, "
        "red where nothing called for it; bars below: what called, red where missed");
}

bool nsk_rehearsal_draw(const nsk_rehearsal *r, const nsk_stage *stage, const nsk_labels *labels,
                        const char *name, const char *path, nsk_error *error) {
    nsk_canvas canvas;
    char below[200];
    const nsk_figures *f = &r->figures;
    g_snprintf(below, sizeof below,
               "%d frames, %d dropped, %d without an answer; %d events, %d missed; %d actions, %d "
               "false",
               r->frames, r->dropped, r->faulted, f->events, f->missed, f->actions,
               f->false_actions);
    if (!nsk_canvas_open(&canvas, 28.0, path, name, below, error)) {
        return false;
    }
    strip s = {&canvas, r, stage, labels, r->frames / stage->board->frame_rate, TOP};
    draw_truth(&s);
    draw_answers(&s);
    draw_lines(&s);
    draw_losses(&s);
    draw_seconds(&s);
    return nsk_canvas_finish(&canvas, path, error);
}
