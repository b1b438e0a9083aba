#include "draw/canvas.h"

#include <math.h>

#include <cairo-svg.h>
#include <string.h>

bool nsk_canvas_is_svg(const char *path, bool *svg, nsk_error *error) {
    char *lower = g_ascii_strdown(path, -1);
    *svg = g_str_has_suffix(lower, ".svg");
    bool good = *svg || g_str_has_suffix(lower, ".png") ||
                nsk_fail(error, "%s: end the name in .svg or .png", path);
    g_free(lower);
    return good;
}

static cairo_status_t collect(void *closure, const unsigned char *data, unsigned length) {
    g_byte_array_append(closure, data, length);
    return CAIRO_STATUS_SUCCESS;
}

void nsk_canvas_start(nsk_canvas *canvas, int width, int height, bool svg) {
    *canvas = (nsk_canvas){.width = width, .height = height};
    if (svg) {
        canvas->bytes = g_byte_array_new();
        canvas->surface =
            cairo_svg_surface_create_for_stream(collect, canvas->bytes, width, height);
    } else {
        canvas->surface = cairo_image_surface_create(CAIRO_FORMAT_RGB24, width, height);
    }
    canvas->cr = cairo_create(canvas->surface);
    nsk_canvas_colour(canvas, NSK_PAPER);
    cairo_paint(canvas->cr);
}

bool nsk_canvas_finish(nsk_canvas *canvas, const char *path, nsk_error *error) {
    cairo_status_t status = cairo_status(canvas->cr);
    bool svg = canvas->bytes != NULL;
    GByteArray *bytes = svg ? canvas->bytes : g_byte_array_new();
    if (!svg && status == CAIRO_STATUS_SUCCESS) {
        status = cairo_surface_write_to_png_stream(canvas->surface, collect, bytes);
    }
    cairo_destroy(canvas->cr);
    cairo_surface_finish(canvas->surface);
    status = status == CAIRO_STATUS_SUCCESS ? cairo_surface_status(canvas->surface) : status;
    cairo_surface_destroy(canvas->surface);
    bool good =
        status == CAIRO_STATUS_SUCCESS
            ? nsk_file_write(path, bytes->data, bytes->len, error)
            : nsk_fail(error, "%s: cannot be drawn: %s", path, cairo_status_to_string(status));
    g_byte_array_free(bytes, TRUE);
    *canvas = (nsk_canvas){0};
    return good;
}

void nsk_canvas_colour(const nsk_canvas *canvas, unsigned rgb) {
    cairo_set_source_rgb(canvas->cr, (rgb >> 16 & 255U) / 255.0, (rgb >> 8 & 255U) / 255.0,
                         (rgb & 255U) / 255.0);
}

static void choose_font(const nsk_canvas *canvas, double size, bool bold) {
    cairo_select_font_face(canvas->cr, "DejaVu Sans", CAIRO_FONT_SLANT_NORMAL,
                           bold ? CAIRO_FONT_WEIGHT_BOLD : CAIRO_FONT_WEIGHT_NORMAL);
    cairo_set_font_size(canvas->cr, size);
}

double nsk_canvas_text_width(const nsk_canvas *canvas, double size, bool bold, const char *text) {
    cairo_text_extents_t extents;
    choose_font(canvas, size, bold);
    cairo_text_extents(canvas->cr, text, &extents);
    return extents.x_advance;
}

void nsk_canvas_text(const nsk_canvas *canvas, double x, double y, double size, bool bold,
                     double most, const char *text) {
    char *shown = g_utf8_make_valid(text, -1);
    glong length = g_utf8_strlen(shown, -1);
    while (most > 0.0 && length > 1 && nsk_canvas_text_width(canvas, size, bold, shown) > most) {
        char *head = g_utf8_substring(text, 0, --length);
        g_free(shown);
        shown = g_strconcat(head, "\xe2\x80\xa6", NULL);
        g_free(head);
    }
    choose_font(canvas, size, bold);
    cairo_move_to(canvas->cr, x, y);
    cairo_show_text(canvas->cr, shown);
    g_free(shown);
}

bool nsk_canvas_open(nsk_canvas *canvas, double left, const char *path, const char *heading,
                     const char *below, nsk_error *error) {
    bool svg;
    if (!nsk_canvas_is_svg(path, &svg, error)) {
        return false;
    }
    double most = NSK_PAGE_WIDTH - 2.0 * left;
    nsk_canvas_start(canvas, NSK_PAGE_WIDTH, NSK_PAGE_HEIGHT, svg);
    nsk_canvas_colour(canvas, NSK_INK);
    nsk_canvas_text(canvas, left, 34, 17.0, true, most, heading);
    nsk_canvas_colour(canvas, NSK_FAINT);
    if (below != NULL) {
        nsk_canvas_text(canvas, left, 56, 11.5, false, most, below);
    }
    return true;
}

unsigned nsk_class_colour(int class_index) {
    double hue = fmod(0.02 + 0.381966 * class_index, 1.0) * 6.0;
    double part[3];
    unsigned rgb = 0;
    for (int k = 0; k < 3; k++) {
        double from = fmod(hue + 6.0 - 2.0 * k, 6.0);
        part[k] = fmin(fmax(fabs(from - 3.0) - 1.0, 0.0), 1.0);
        rgb = rgb << 8 | (unsigned)(40.0 + 165.0 * part[k]);
    }
    return rgb;
}
