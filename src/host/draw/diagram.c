/* The network as boxes with the shapes between them, layers in the order in which they run, column
 * by column. */
#include <math.h>
#include <stdio.h>
#include <string.h>

#include "draw/canvas.h"
#include "draw/parts.h"
#include "graph/graph.h"
#include "network/network.h"

enum {
    MARGIN = 24,
    TITLE = 46,
    BOX_WIDTH = 236,
    BOX_HEIGHT = 62,
    DOWN = 30,   /* between boxes of a column: room for the shape */
    BESIDE = 64, /* between columns: room for the lines */
    STRIPE = 6
};
static const double ASPECT = 1.6; /* of the whole, about */

typedef struct diagram {
    const nsk_graph *graph;
    nsk_outline *outline;
    int *node_of;  /* of a layer */
    int *layer_of; /* of a node; NSK_NONE where it is gone */
    int rows;
    nsk_canvas canvas;
} diagram;

typedef struct point {
    double x, y;
} point;

/* The upper left corner of a box; box -1 is the input. */
static point box_at(const diagram *d, int layer) {
    int place = layer + 1;
    point p = {MARGIN + (double)(place / d->rows) * (BOX_WIDTH + BESIDE),
               MARGIN + TITLE + (double)(place % d->rows) * (BOX_HEIGHT + DOWN)};
    return p;
}

/* ---- boxes ---- */

static unsigned stripe_colour(const nsk_outline_layer *l) {
    return l->depthwise       ? NSK_GLAZE
           : l->macs > 0      ? NSK_CLAY
           : l->kernel[0] > 0 ? NSK_SAND
                              : NSK_LINE;
}

static void draw_frame(const diagram *d, point at, unsigned stripe) {
    cairo_t *cr = d->canvas.cr;
    nsk_canvas_colour(&d->canvas, NSK_SLIP);
    cairo_rectangle(cr, at.x, at.y, BOX_WIDTH, BOX_HEIGHT);
    cairo_fill_preserve(cr);
    nsk_canvas_colour(&d->canvas, NSK_LINE);
    cairo_set_line_width(cr, 1.0);
    cairo_stroke(cr);
    nsk_canvas_colour(&d->canvas, stripe);
    cairo_rectangle(cr, at.x, at.y, STRIPE, BOX_HEIGHT);
    cairo_fill(cr);
}

/* "12,345" as "12.3 k". */
static const char *short_count(double count, char *text, size_t size) {
    double unit = count >= 1e6 ? 1e6 : count >= 1e4 ? 1e3 : 1.0;
    snprintf(text, size, unit > 1.0 ? "%.1f %s" : "%.0f%s", count / unit,
             unit > 1e5   ? "M"
             : unit > 1.0 ? "k"
                          : "");
    return text;
}

static void draw_layer(const diagram *d, int layer) {
    const nsk_outline_layer *l = &d->outline->layers[layer];
    point at = box_at(d, layer);
    char kind[160];
    char counts[2][24];
    char work[96] = "";
    draw_frame(d, at, stripe_colour(l));
    nsk_outline_kind(l, kind, sizeof kind);
    if (l->macs > 0) {
        snprintf(work, sizeof work, "%s parameters, %s mult-accs",
                 short_count((double)l->parameters, counts[0], sizeof counts[0]),
                 short_count((double)l->macs, counts[1], sizeof counts[1]));
    }
    double left = at.x + STRIPE + 8;
    double room = BOX_WIDTH - STRIPE - 16;
    nsk_canvas_colour(&d->canvas, NSK_INK);
    nsk_canvas_text(&d->canvas, left, at.y + 19, 12.5, true, room, kind);
    nsk_canvas_colour(&d->canvas, NSK_FAINT);
    nsk_canvas_text(&d->canvas, left, at.y + 53, 10.0, false, room, work);
    char *name =
        l->folded[0] != '\0' ? g_strdup_printf("%s + %s", l->name, l->folded) : g_strdup(l->name);
    nsk_canvas_text(&d->canvas, left, at.y + 37, 10.0, false, room, name);
    g_free(name);
}

static void draw_input(const diagram *d, const char *name) {
    point at = box_at(d, -1);
    draw_frame(d, at, NSK_INK);
    nsk_canvas_colour(&d->canvas, NSK_INK);
    nsk_canvas_text(&d->canvas, at.x + STRIPE + 8, at.y + 36, 12.5, true, BOX_WIDTH - 30, name);
}

/* ---- parts ---- */

enum { AROUND = 10, LABEL = 12 };

/* Layers [first, last] of one column, on a ground of their own. */
static void draw_ground(const diagram *d, int first, int last, const char *what) {
    cairo_t *cr = d->canvas.cr;
    const point from = box_at(d, first);
    const point to = box_at(d, last);
    const double top = from.y - AROUND;
    nsk_canvas_colour(&d->canvas, NSK_SAND);
    cairo_save(cr);
    cairo_rectangle(cr, from.x - AROUND, top, BOX_WIDTH + 2 * AROUND,
                    to.y + BOX_HEIGHT + AROUND - top);
    cairo_clip(cr);
    cairo_paint_with_alpha(cr, 0.3);
    cairo_restore(cr);
    nsk_canvas_colour(&d->canvas, NSK_CLAY);
    nsk_canvas_text(&d->canvas, from.x - AROUND + 3, from.y - 2, LABEL * 0.8, true, 0.0, what);
}

/* What is cut by the end of a column goes on at the top of the next. */
static void draw_part(const diagram *d, const nsk_part *part) {
    int first = d->layer_of[part->first];
    const int last = d->layer_of[part->last];
    while (first <= last) {
        const int end = MIN(last, ((first + 1) / d->rows + 1) * d->rows - 2);
        draw_ground(d, first, end, part->what);
        first = end + 1;
    }
}

static void draw_parts(const diagram *d) {
    int count;
    nsk_part *parts = nsk_parts_of(d->graph, &count);
    for (int i = 0; i < count; i++) {
        draw_part(d, &parts[i]);
    }
    g_free(parts);
}

/* ---- lines ---- */

static void draw_head(const diagram *d, double x, double y, bool down) {
    cairo_t *cr = d->canvas.cr;
    cairo_move_to(cr, x, y);
    if (down) {
        cairo_line_to(cr, x - 4, y - 7);
        cairo_line_to(cr, x + 4, y - 7);
    } else {
        cairo_line_to(cr, x - 7, y - 4);
        cairo_line_to(cr, x - 7, y + 4);
    }
    cairo_close_path(cr);
    cairo_fill(cr);
}

static void write_shape(const diagram *d, int layer, double x, double y) {
    char shape[64];
    const nsk_outline *o = d->outline;
    const nsk_outline_layer *l = layer >= 0 ? &o->layers[layer] : NULL;
    snprintf(shape, sizeof shape, "%d x %d x %d", l != NULL ? l->height : o->height,
             l != NULL ? l->width : o->width, l != NULL ? l->channels : o->channels);
    nsk_canvas_colour(&d->canvas, NSK_FAINT);
    nsk_canvas_text(&d->canvas, x, y, 10.5, false, 0.0, shape);
}

/* From a layer (or the input, -1) to a later one. */
static void draw_edge(const diagram *d, int from, int to) {
    cairo_t *cr = d->canvas.cr;
    point a = box_at(d, from);
    point b = box_at(d, to);
    bool same_column = (from + 1) / d->rows == (to + 1) / d->rows;
    bool next = to == from + 1;
    nsk_canvas_colour(&d->canvas, next ? NSK_INK : NSK_CLAY);
    cairo_set_line_width(cr, 1.4);
    if (next && same_column) {
        double x = a.x + BOX_WIDTH / 2.0;
        cairo_move_to(cr, x, a.y + BOX_HEIGHT);
        cairo_line_to(cr, x, b.y - 4);
        cairo_stroke(cr);
        draw_head(d, x, b.y, true);
        return;
    }
    double bend = 18.0 + 10.0 * fmin(abs(to - from), 3.0);
    double start = a.y + BOX_HEIGHT * 0.7;
    double end = b.y + BOX_HEIGHT * 0.35;
    cairo_move_to(cr, a.x + BOX_WIDTH, start);
    if (same_column) { /* around on the right */
        cairo_curve_to(cr, a.x + BOX_WIDTH + bend, start, b.x + BOX_WIDTH + bend, end,
                       b.x + BOX_WIDTH + 3, end);
        cairo_stroke(cr);
        cairo_save(cr);
        cairo_translate(cr, b.x + BOX_WIDTH, end);
        cairo_rotate(cr, G_PI);
        draw_head(d, 0.0, 0.0, false);
        cairo_restore(cr);
    } else {
        cairo_curve_to(cr, a.x + BOX_WIDTH + BESIDE * 0.7, start, b.x - BESIDE * 0.7, end, b.x - 5,
                       end);
        cairo_stroke(cr);
        draw_head(d, b.x, end, false);
    }
}

static void draw_edges_of(const diagram *d, int layer) {
    const nsk_node *node = nsk_graph_node(d->graph, d->node_of[layer]);
    for (int i = 0; i < node->inputs; i++) {
        int value = node->input[i];
        if (value == NSK_NONE || nsk_graph_is_constant(d->graph, value)) {
            continue;
        }
        const nsk_node *producer = nsk_graph_producer(d->graph, value);
        int from = -1;
        if (producer != NULL) {
            from = d->layer_of[nsk_graph_value(d->graph, value)->producer];
        }
        if (producer == NULL || from != NSK_NONE) {
            draw_edge(d, producer != NULL ? from : -1, layer);
        }
    }
}

/* The shape that leaves a box stands below it. */
static void draw_shapes(const diagram *d) {
    for (int layer = -1; layer < d->outline->count; layer++) {
        point at = box_at(d, layer);
        write_shape(d, layer, at.x + BOX_WIDTH / 2.0 + 10, at.y + BOX_HEIGHT + 17);
    }
}

/* ---- the whole ---- */

static void index_layers(diagram *d) {
    int nodes = (int)d->graph->nodes->len;
    int layer = 0;
    d->node_of = g_new0(int, (gsize)nodes + 1);
    d->layer_of = g_new0(int, (gsize)nodes + 1);
    for (int i = 0; i < nodes; i++) {
        bool dead = nsk_graph_node(d->graph, i)->dead;
        d->layer_of[i] = dead ? NSK_NONE : layer;
        if (!dead) {
            d->node_of[layer++] = i;
        }
    }
}

/* So many rows that the whole has about the aspect wanted. */
static int choose_rows(int boxes) {
    double columns = sqrt(boxes * (double)(BOX_HEIGHT + DOWN) / (BOX_WIDTH + BESIDE) * ASPECT);
    return (int)ceil(boxes / fmax(floor(columns + 0.5), 1.0));
}

bool nsk_network_draw(const nsk_network *network, const char *path, nsk_error *error) {
    bool svg;
    if (!nsk_canvas_is_svg(path, &svg, error)) {
        return false;
    }
    diagram d = {.graph = network->graph, .outline = nsk_network_outline(network)};
    int boxes = d.outline->count + 1;
    d.rows = choose_rows(boxes);
    int columns = (boxes + d.rows - 1) / d.rows;
    index_layers(&d);
    nsk_canvas_start(&d.canvas, 2 * MARGIN + columns * (BOX_WIDTH + BESIDE) - BESIDE / 2,
                     2 * MARGIN + TITLE + d.rows * (BOX_HEIGHT + DOWN), svg);
    char counts[2][24];
    char *title = g_strdup_printf(
        "%s: %s parameters, %s multiply-accumulates", nsk_network_fact(network, NSK_FACT_NAME),
        short_count((double)d.outline->parameters, counts[0], sizeof counts[0]),
        short_count((double)d.outline->macs, counts[1], sizeof counts[1]));
    nsk_canvas_colour(&d.canvas, NSK_INK);
    nsk_canvas_text(&d.canvas, MARGIN, MARGIN + 18, 17.0, true, 0.0, title);
    draw_parts(&d);
    for (int i = 0; i < d.outline->count; i++) {
        draw_edges_of(&d, i);
    }
    draw_shapes(&d);
    draw_input(&d, nsk_graph_value(d.graph, d.graph->input)->name);
    for (int i = 0; i < d.outline->count; i++) {
        draw_layer(&d, i);
    }
    g_free(title);
    g_free(d.node_of);
    g_free(d.layer_of);
    nsk_outline_free(d.outline);
    return nsk_canvas_finish(&d.canvas, path, error);
}
