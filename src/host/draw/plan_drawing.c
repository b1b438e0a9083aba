/* Where every tensor stands in the workspace, and when: layers across, addresses up. */
#include <math.h>
#include <stdio.h>
#include <string.h>

#include "device/format.h"
#include "device/scratch.h"
#include "device/work.h"
#include "draw/canvas.h"
#include "netsuke/budget.h"

enum { WIDTH = 1280, HEIGHT = 800, LEFT = 84, RIGHT = 24, TOP = 78, BOTTOM = 118, TICKS = 5 };

/* A tensor's box: from the first column that it lives in to the last. */
typedef struct life {
    int first, last; /* last < first: it never lives */
    int writer;      /* layer; NSK_NONE for the frame */
} life;

typedef struct drawing {
    nsk_canvas canvas;
    nsk_model model;
    life *lives;
    int columns;
    double top_address;
} drawing;

static int column_of(const nsk_model *m, unsigned layer) {
    return layer < m->streamed ? 0 : (int)(layer - m->streamed) + 1;
}

static double x_of(const drawing *d, int column) {
    return LEFT + (double)(WIDTH - LEFT - RIGHT) * column / d->columns;
}

static double y_of(const drawing *d, double address) {
    return HEIGHT - BOTTOM - (HEIGHT - TOP - BOTTOM) * address / d->top_address;
}

static uint32_t bytes_held(const nsk_tensor *t) {
    return (uint32_t)t->rows * t->width * t->channels;
}

static void live(life *l, int column) {
    l->first = MIN(l->first, column);
    l->last = MAX(l->last, column);
}

/* What a layer reads: the tensor itself, or the newest that stands in the same bytes where this one
 * is only another shape of it. */
static life *source_of(const drawing *d, unsigned tensor) {
    life *own = &d->lives[tensor];
    if (own->last >= own->first) {
        return own;
    }
    nsk_tensor t = nsk_tensor_at(&d->model, tensor);
    life *found = own;
    for (unsigned i = 0; i < d->model.tensors; i++) {
        nsk_tensor other = nsk_tensor_at(&d->model, i);
        life *l = &d->lives[i];
        if (l->last >= l->first && other.offset == t.offset &&
            bytes_held(&other) == bytes_held(&t) && (found == own || l->first > found->first)) {
            found = l;
        }
    }
    return found;
}

/* The tensor that a slice is part of, else the tensor itself. */
static unsigned whole_of(const nsk_model *m, unsigned tensor) {
    const uint8_t *tensors = m->bytes + nsk_load32(m->bytes + NSK_H_TENSORS_AT);
    const uint8_t *at = tensors + (size_t)NSK_TENSOR_BYTES * tensor;
    return at[NSK_T_ROWS] == NSK_SLICE ? nsk_load32(at + NSK_T_SCALE) : tensor;
}

static void find_lives(const drawing *d) {
    const nsk_model *m = &d->model;
    for (unsigned i = 0; i < m->tensors; i++) {
        d->lives[i] = (life){.first = G_MAXINT, .last = -1, .writer = -1};
    }
    live(&d->lives[m->input], 0);
    for (unsigned i = 0; i < m->layers; i++) {
        unsigned tensors[3];
        nsk_layer_tensors(m, i, tensors);
        int column = column_of(m, i);
        live(source_of(d, tensors[0]), column);
        if (tensors[1] < m->tensors) {
            live(source_of(d, tensors[1]), column);
        }
        unsigned out = whole_of(m, tensors[2]);
        live(&d->lives[out], column);
        d->lives[out].writer = (int)i;
    }
    live(source_of(d, m->output), d->columns - 1);
}

static const char *kib(double bytes, char *text, size_t size) {
    snprintf(text, size, bytes < 1024.0 ? "%.0f B" : "%.1f KiB",
             bytes < 1024.0 ? bytes : bytes / 1024.0);
    return text;
}

static void draw_rectangle(const drawing *d, const life *l, double place, double bytes,
                           unsigned colour) {
    cairo_t *cr = d->canvas.cr;
    double x = x_of(d, l->first) + 1.5;
    double y = y_of(d, place + bytes);
    nsk_canvas_colour(&d->canvas, colour);
    cairo_rectangle(cr, x, y, x_of(d, l->last + 1) - 1.5 - x, y_of(d, place) - y);
    cairo_fill_preserve(cr);
    nsk_canvas_colour(&d->canvas, NSK_PAPER);
    cairo_set_line_width(cr, 1.0);
    cairo_stroke(cr);
}

static void draw_scratch(const drawing *d, unsigned index) {
    nsk_layer l;
    nsk_layer_decode(&d->model, index, &l);
    int column = column_of(&d->model, index);
    const life alone = {column, column, (int)index};
    double bytes = (double)nsk_layer_scratch(&l);
    if (bytes > 0.0) {
        draw_rectangle(d, &alone, l.scratch, bytes, NSK_LINE);
    }
}

static void draw_box(const drawing *d, unsigned tensor) {
    const life *l = &d->lives[tensor];
    nsk_tensor t = nsk_tensor_at(&d->model, tensor);
    bool part = t.rows < t.height;
    if (l->last < l->first) {
        return;
    }
    double x = x_of(d, l->first) + 1.5;
    double width = x_of(d, l->last + 1) - 1.5 - x;
    double y = y_of(d, t.offset + (double)bytes_held(&t));
    double height = y_of(d, t.offset) - y;
    draw_rectangle(d, l, t.offset, bytes_held(&t),
                   part            ? NSK_SAND
                   : l->writer < 0 ? NSK_GLAZE
                                   : NSK_CLAY);
    if (height < 13.0) {
        return;
    }
    char size[32];
    char text[160];
    const char *name = l->writer < 0 ? "frame" : nsk_layer_name(&d->model, (unsigned)l->writer);
    kib(bytes_held(&t), size, sizeof size);
    nsk_canvas_colour(&d->canvas, part ? NSK_INK : NSK_SLIP);
    if (height >= 30.0) {
        nsk_canvas_text(&d->canvas, x + 5, y + 13, 10.5, true, width - 8, name);
        nsk_canvas_text(&d->canvas, x + 5, y + 26, 10.0, false, width - 8, size);
    } else {
        snprintf(text, sizeof text, "%s  %s", name, size);
        nsk_canvas_text(&d->canvas, x + 5, y + height / 2.0 + 4, 10.0, false, width - 8, text);
    }
    if (part && height >= 43.0) {
        snprintf(text, sizeof text, "%u of %u rows", t.rows, t.height);
        nsk_canvas_text(&d->canvas, x + 5, y + 39, 10.0, false, width - 8, text);
    }
}

static void draw_columns(const drawing *d) {
    cairo_t *cr = d->canvas.cr;
    for (int column = 0; column < d->columns; column++) {
        const char *name =
            column > 0 ? nsk_layer_name(&d->model, d->model.streamed + (unsigned)column - 1U)
                       : "frame comes in";
        cairo_save(cr);
        cairo_translate(cr, (x_of(d, column) + x_of(d, column + 1)) / 2.0 - 2,
                        HEIGHT - BOTTOM + 14);
        cairo_rotate(cr, 0.9);
        nsk_canvas_colour(&d->canvas, NSK_FAINT);
        nsk_canvas_text(&d->canvas, 0, 0, 10.5, column == 0, 140, name);
        cairo_restore(cr);
        nsk_canvas_colour(&d->canvas, NSK_LINE);
        cairo_set_line_width(cr, 0.5);
        cairo_move_to(cr, x_of(d, column), TOP);
        cairo_line_to(cr, x_of(d, column), HEIGHT - BOTTOM);
        cairo_stroke(cr);
    }
}

/* A line at an address, named on the left. */
static void draw_level(const drawing *d, double address, unsigned colour, bool dashed) {
    char text[32];
    const double dash[] = {6.0, 4.0};
    cairo_t *cr = d->canvas.cr;
    kib(address, text, sizeof text);
    nsk_canvas_colour(&d->canvas, colour);
    nsk_canvas_text(&d->canvas, LEFT - 10 - nsk_canvas_text_width(&d->canvas, 10.5, dashed, text),
                    y_of(d, address) + 4, 10.5, dashed, 0.0, text);
    cairo_set_line_width(cr, dashed ? 1.4 : 0.7);
    cairo_set_dash(cr, dash, dashed ? 2 : 0, 0.0);
    cairo_move_to(cr, LEFT, y_of(d, address));
    cairo_line_to(cr, WIDTH - RIGHT, y_of(d, address));
    cairo_stroke(cr);
    cairo_set_dash(cr, dash, 0, 0.0);
}

/* A square of its colour and what it stands for, from the right; returns where the next one ends.
 */
static double draw_key(const drawing *d, double right, unsigned colour, const char *text) {
    double x = right - nsk_canvas_text_width(&d->canvas, 11.0, false, text);
    nsk_canvas_colour(&d->canvas, NSK_FAINT);
    nsk_canvas_text(&d->canvas, x, 32, 11.0, false, 0.0, text);
    nsk_canvas_colour(&d->canvas, colour);
    cairo_rectangle(d->canvas.cr, x - 17, 22, 11, 11);
    cairo_fill(d->canvas.cr);
    return x - 32;
}

static void draw_keys(const drawing *d) {
    double x = draw_key(d, WIDTH - RIGHT, NSK_LINE, "a layer's scratch");
    x = d->model.streamed > 0 ? draw_key(d, x, NSK_SAND, "some rows of a tensor") : x;
    x = draw_key(d, x, NSK_CLAY, "a layer's output");
    if (d->model.streamed == 0) {
        draw_key(d, x, NSK_GLAZE, "the frame");
    }
}

static void draw_title(const drawing *d, size_t lower_bound) {
    char size[2][32];
    char text[200];
    const nsk_model *m = &d->model;
    snprintf(text, sizeof text, "%s: %s of workspace", nsk_model_fact(m, NSK_FACT_NAME),
             kib(m->workspace_bytes, size[0], sizeof size[0]));
    nsk_canvas_colour(&d->canvas, NSK_INK);
    nsk_canvas_text(&d->canvas, LEFT, 32, 17.0, true, WIDTH - LEFT - RIGHT, text);
    nsk_canvas_colour(&d->canvas, NSK_FAINT);
    snprintf(
        text, sizeof text,
        m->streamed > 0
            ? "layers across, addresses up; no plan can need less than %s; the first %u layers "
              "run while the frame comes in, %u of its rows at a time"
            : "layers across, addresses up; no plan can need less than %s",
        kib((double)lower_bound, size[1], sizeof size[1]), m->streamed, m->band);
    nsk_canvas_text(&d->canvas, LEFT, 52, 11.5, false, WIDTH - LEFT - RIGHT, text);
}

bool nsk_plan_draw(const nsk_model_file *file, const char *path, nsk_error *error) {
    bool svg;
    drawing d;
    if (!nsk_canvas_is_svg(path, &svg, error)) {
        return false;
    }
    nsk_status status = nsk_open(&d.model, file->bytes, file->size);
    if (status != NSK_STATUS_OK) {
        return nsk_fail(error, "the model is %s", nsk_status_text(status));
    }
    d.columns = d.model.layers - d.model.streamed + 1;
    d.top_address = d.model.workspace_bytes;
    d.lives = g_new(life, d.model.tensors);
    find_lives(&d);
    nsk_canvas_start(&d.canvas, WIDTH, HEIGHT, svg);
    draw_title(&d, file->workspace_lower_bound);
    draw_keys(&d);
    draw_columns(&d);
    double step = exp2(ceil(log2(d.top_address / TICKS)));
    for (int i = 0; i * step < d.top_address - step / 4.0; i++) {
        draw_level(&d, i * step, NSK_FAINT, false);
    }
    for (unsigned i = 0; i < d.model.tensors; i++) {
        draw_box(&d, i);
    }
    for (unsigned i = 0; i < d.model.layers; i++) {
        draw_scratch(&d, i);
    }
    draw_level(&d, d.top_address, NSK_INK, true);
    g_free(d.lives);
    return nsk_canvas_finish(&d.canvas, path, error);
}
