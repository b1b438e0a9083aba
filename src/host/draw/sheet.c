#include "draw/sheet.h"

#include <math.h>
#include <string.h>

#include "draw/canvas.h"

enum { MARGIN = 18, TITLE = 34, HEADING = 26, CAPTION = 15, GAP = 8, LEAST_SHOWN = 88 };

typedef struct cell {
    nsk_picture picture;
    char *caption[2];
    bool bad;
    int row, column;
} cell;

struct nsk_sheet {
    char *title;
    int width, height, columns;
    GArray *cells;
    GPtrArray *headings; /* one a row */
    int next;            /* column */
    int captions;        /* most lines under a picture */
};

nsk_sheet *nsk_sheet_new(const char *title, int width, int height, int columns) {
    nsk_sheet *s = g_new0(nsk_sheet, 1);
    s->title = g_strdup(title);
    s->width = width;
    s->height = height;
    s->columns = columns;
    s->cells = g_array_new(FALSE, FALSE, sizeof(cell));
    s->headings = g_ptr_array_new_with_free_func(g_free);
    return s;
}

void nsk_sheet_row(nsk_sheet *sheet, const char *heading) {
    g_ptr_array_add(sheet->headings, g_strdup(heading));
    sheet->next = 0;
}

void nsk_sheet_skip_to(nsk_sheet *sheet, int column) {
    sheet->next = MAX(sheet->next, column);
}

void nsk_sheet_add(nsk_sheet *sheet, const nsk_picture *picture, const char *first,
                   const char *second, bool bad) {
    if (sheet->next == sheet->columns) {
        nsk_sheet_row(sheet, NULL);
    }
    cell c = {.picture = *picture,
              .caption = {g_strdup(first), g_strdup(second)},
              .bad = bad,
              .row = (int)sheet->headings->len - 1,
              .column = sheet->next++};
    c.picture.rgb =
        g_memdup2(picture->rgb, (gsize)3 * (gsize)picture->width * (gsize)picture->height);
    g_array_append_val(sheet->cells, c);
    sheet->captions = MAX(sheet->captions, second != NULL ? 2 : first != NULL ? 1 : 0);
}

/* Where a row starts. */
static int row_top(const nsk_sheet *s, int row, int cell_height) {
    int top = MARGIN + TITLE;
    for (int i = 0; i < row; i++) {
        top += (s->headings->pdata[i] != NULL ? HEADING : 0) + cell_height + GAP;
    }
    return top;
}

/* The picture enlarged with every pixel kept a square. */
static void draw_picture(const nsk_canvas *canvas, const nsk_picture *p, double x, double y,
                         int factor) {
    cairo_surface_t *image = cairo_image_surface_create(CAIRO_FORMAT_RGB24, p->width, p->height);
    int stride = cairo_image_surface_get_stride(image);
    unsigned char *data = cairo_image_surface_get_data(image);
    for (int i = 0; i < p->width * p->height; i++) {
        const uint8_t *rgb = p->rgb + 3 * (size_t)i;
        uint32_t pixel = (uint32_t)rgb[0] << 16 | (uint32_t)rgb[1] << 8 | rgb[2];
        memcpy(data + (size_t)(i / p->width) * (size_t)stride + 4 * (size_t)(i % p->width), &pixel,
               sizeof pixel);
    }
    cairo_surface_mark_dirty(image);
    cairo_save(canvas->cr);
    cairo_translate(canvas->cr, x, y);
    cairo_scale(canvas->cr, factor, factor);
    cairo_set_source_surface(canvas->cr, image, 0.0, 0.0);
    cairo_pattern_set_filter(cairo_get_source(canvas->cr), CAIRO_FILTER_NEAREST);
    cairo_paint(canvas->cr);
    cairo_restore(canvas->cr);
    cairo_surface_destroy(image);
}

static void draw_cell(const nsk_sheet *s, const nsk_canvas *canvas, const cell *c, double x,
                      double y, int factor) {
    double width = (double)s->width * factor;
    double height = (double)s->height * factor;
    draw_picture(canvas, &c->picture, x, y, factor);
    if (c->bad) {
        nsk_canvas_colour(canvas, NSK_CLAY);
        cairo_set_line_width(canvas->cr, 3.0);
        cairo_rectangle(canvas->cr, x - 1.5, y - 1.5, width + 3.0, height + 3.0);
        cairo_stroke(canvas->cr);
    }
    for (int i = 0; i < 2; i++) {
        if (c->caption[i] != NULL) {
            nsk_canvas_colour(canvas, c->bad && i == 0 ? NSK_CLAY : i == 0 ? NSK_INK : NSK_FAINT);
            nsk_canvas_text(canvas, x, y + height + CAPTION * (i + 1) - 2, 11.0, false,
                            width + GAP - 2, c->caption[i]);
        }
    }
}

static void sheet_free(nsk_sheet *s) {
    for (guint i = 0; i < s->cells->len; i++) {
        cell *c = &g_array_index(s->cells, cell, i);
        nsk_picture_clear(&c->picture);
        g_free(c->caption[0]);
        g_free(c->caption[1]);
    }
    g_array_free(s->cells, TRUE);
    g_ptr_array_free(s->headings, TRUE);
    g_free(s->title);
    g_free(s);
}

bool nsk_sheet_write(nsk_sheet *s, const char *path, nsk_error *error) {
    enum { MOST_PIXELS = 30000 };
    int factor = MAX(1, (LEAST_SHOWN + s->height - 1) / s->height);
    int cell_width = s->width * factor + GAP;
    int cell_height = s->height * factor + CAPTION * s->captions + 4;
    int rows = (int)s->headings->len;
    int width = 2 * MARGIN + cell_width * s->columns;
    int height = row_top(s, rows, cell_height) + MARGIN;
    if (width > MOST_PIXELS || height > MOST_PIXELS) {
        sheet_free(s);
        return nsk_fail(error, "%s: would be %d x %d pixels; show fewer images", path, width,
                        height);
    }
    nsk_canvas canvas;
    nsk_canvas_start(&canvas, width, height, false);
    nsk_canvas_colour(&canvas, NSK_INK);
    nsk_canvas_text(&canvas, MARGIN, MARGIN + 14, 16.0, true, width - 2 * MARGIN, s->title);
    for (int row = 0; row < rows; row++) {
        const char *heading = s->headings->pdata[row];
        if (heading != NULL) {
            nsk_canvas_colour(&canvas, NSK_GLAZE);
            nsk_canvas_text(&canvas, MARGIN, row_top(s, row, cell_height) + 16, 13.0, true,
                            width - 2 * MARGIN, heading);
        }
    }
    for (guint i = 0; i < s->cells->len; i++) {
        const cell *c = &g_array_index(s->cells, cell, i);
        double y =
            row_top(s, c->row, cell_height) + (s->headings->pdata[c->row] != NULL ? HEADING : 0);
        draw_cell(s, &canvas, c, MARGIN + cell_width * c->column, y, factor);
    }
    bool good = nsk_canvas_finish(&canvas, path, error);
    sheet_free(s);
    return good;
}

void nsk_picture_of_frame(const uint8_t *frame, const nsk_input *input, nsk_picture *picture) {
    size_t pixels = (size_t)input->width * (size_t)input->height;
    *picture = (nsk_picture){.width = input->width,
                             .height = input->height,
                             .colour = input->colour != NSK_COLOUR_GREY,
                             .rgb = g_malloc(3 * pixels)};
    for (size_t i = 0; i < 3 * pixels; i++) {
        size_t channel = input->colour == NSK_COLOUR_BGR ? 2 - i % 3 : i % 3;
        picture->rgb[i] = frame[input->colour == NSK_COLOUR_GREY ? i / 3 : i / 3 * 3 + channel];
    }
}
