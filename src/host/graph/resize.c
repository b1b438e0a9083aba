#include "graph/resize.h"

#include <math.h>

#include "graph/infer.h"

/* A table of shares has so many numbers at the most. */
static const int64_t MOST_SHARES = (int64_t)1 << 24;

/* ---- how much larger ---- */

/* Where the axis stands among those that scales or sizes are given for, or NSK_NONE. */
static int place_of(const nsk_value *in, const nsk_attributes *a, int axis) {
    for (int i = 0; i < a->listed; i++) {
        if (nsk_axis(a->list[i], in->rank) == axis) {
            return i;
        }
    }
    return a->listed == 0 ? axis : NSK_NONE;
}

static const nsk_value *scales_of(const nsk_graph *graph, const nsk_node *node) {
    const nsk_value *scales = nsk_node_input(graph, node, 2);
    return scales != NULL && scales->data != NULL && nsk_value_count(scales) > 0 ? scales : NULL;
}

static const nsk_value *sizes_of(const nsk_graph *graph, const nsk_node *node) {
    const nsk_value *sizes = nsk_node_input(graph, node, 3);
    return sizes != NULL && sizes->integers != NULL ? sizes : NULL;
}

/* Of sizes that keep the picture's shape: the least or the largest enlargement is that of all. */
static double common_scale(const nsk_graph *graph, const nsk_node *node) {
    const nsk_value *in = nsk_node_input(graph, node, 0);
    const nsk_attributes *a = &node->attributes;
    const nsk_value *sizes = sizes_of(graph, node);
    double common = NAN;
    for (int axis = 0; axis < in->rank; axis++) {
        int place = place_of(in, a, axis);
        if (place != NSK_NONE) {
            double own = (double)sizes->integers[place] / (double)in->dims[axis];
            common = a->aspect == NSK_ASPECT_NOT_LARGER ? fmin(common, own) : fmax(common, own);
        }
    }
    return common;
}

static double scale_of(const nsk_graph *graph, const nsk_node *node, int axis) {
    const nsk_value *in = nsk_node_input(graph, node, 0);
    const nsk_value *scales = scales_of(graph, node);
    int place = place_of(in, &node->attributes, axis);
    if (place == NSK_NONE) {
        return 1.0;
    }
    if (scales != NULL) {
        return (double)scales->data[place];
    }
    return node->attributes.aspect == NSK_ASPECT_STRETCH
               ? (double)sizes_of(graph, node)->integers[place] / (double)in->dims[axis]
               : common_scale(graph, node);
}

static double size_of(const nsk_graph *graph, const nsk_node *node, int axis) {
    const nsk_value *in = nsk_node_input(graph, node, 0);
    int place = place_of(in, &node->attributes, axis);
    double size = (double)in->dims[axis] * scale_of(graph, node, axis);
    if (place == NSK_NONE) {
        return (double)in->dims[axis];
    }
    if (scales_of(graph, node) != NULL) {
        return floor((double)in->dims[axis] * (double)scales_of(graph, node)->data[place]);
    }
    return node->attributes.aspect == NSK_ASPECT_STRETCH
               ? (double)sizes_of(graph, node)->integers[place]
               : floor(size + 0.5);
}

/* ---- where an output stands in the input ---- */

static double coordinate(const nsk_graph *graph, const nsk_node *node, int axis, int64_t at) {
    const double in = (double)nsk_node_input(graph, node, 0)->dims[axis];
    const double out = (double)nsk_graph_value(graph, node->output)->dims[axis];
    const double scale = scale_of(graph, node, axis);
    const double x = (double)at;
    switch (node->attributes.coordinates) {
    case NSK_COORDINATES_PYTORCH_HALF_PIXEL:
        return out > 1.0 ? (x + 0.5) / scale - 0.5 : 0.0;
    case NSK_COORDINATES_ALIGN_CORNERS:
        /* the output's true length is not rounded yet */
        return in * scale > 1.0 ? x * (in - 1.0) / (in * scale - 1.0) : 0.0;
    case NSK_COORDINATES_ASYMMETRIC:
        return x / scale;
    case NSK_COORDINATES_HALF_PIXEL_FOR_NEAREST:
        return (x + 0.5) / scale;
    case NSK_COORDINATES_HALF_PIXEL_SYMMETRIC:
        /* what rounding the length took goes from both ends */
        return in / 2.0 * (1.0 - out / (in * scale)) + (x + 0.5) / scale - 0.5;
    default:
        return (x + 0.5) / scale - 0.5;
    }
}

static int64_t clamp_pixel(double pixel, int64_t last) {
    return pixel < 0.0 ? 0 : pixel > (double)last ? last : (int64_t)pixel;
}

static double nearest_pixel(double x, nsk_nearest_mode how) {
    switch (how) {
    case NSK_NEAREST_MODE_FLOOR:
        return floor(x);
    case NSK_NEAREST_MODE_CEIL:
        return ceil(x);
    case NSK_NEAREST_MODE_PREFER_CEIL:
        return floor(x + 0.5);
    default:
        return ceil(x - 0.5);
    }
}

nsk_blend nsk_blend_at(const nsk_graph *graph, const nsk_node *node, int axis, int64_t at) {
    int64_t last = nsk_node_input(graph, node, 0)->dims[axis] - 1;
    double x = coordinate(graph, node, axis, at);
    if (node->attributes.mode == NSK_MODE_NEAREST) {
        int64_t pixel = clamp_pixel(nearest_pixel(x, node->attributes.nearest), last);
        return (nsk_blend){pixel, pixel, 0.0};
    }
    double inside = fmin(fmax(x, 0.0), (double)last);
    int64_t first = (int64_t)floor(inside);
    return (nsk_blend){first, first < last ? first + 1 : last, inside - (double)first};
}

/* ---- shares ---- */

/* Of what stands `x` away: the tent of linear, or R. G. Keys' cubic (IEEE Transactions on
 * Acoustics, Speech, and Signal Processing 29, 1981), whose steepness is `a`. */
static double share_at(nsk_mode mode, double a, double x) {
    x = fabs(x);
    if (mode == NSK_MODE_LINEAR) {
        return fmax(1.0 - x, 0.0);
    }
    if (x <= 1.0) {
        return ((a + 2.0) * x - (a + 3.0)) * x * x + 1.0;
    }
    return x < 2.0 ? a * (((x - 5.0) * x + 8.0) * x - 4.0) : 0.0;
}

/* A row of the table. What lies outside of the input is its border, or not there; where a picture
 * is made smaller without aliases, an output looks at as many inputs as it stands for. */
static void add_shares(const nsk_graph *graph, const nsk_node *node, int axis, int64_t at,
                       double *row) {
    const nsk_attributes *a = &node->attributes;
    const int64_t last = nsk_node_input(graph, node, 0)->dims[axis] - 1;
    const double narrow = a->antialias ? fmin(scale_of(graph, node, axis), 1.0) : 1.0;
    const double reach = (a->mode == NSK_MODE_LINEAR ? 1.0 : 2.0) / narrow;
    const double x = coordinate(graph, node, axis, at);
    double sum = 0.0;
    const int64_t end = (int64_t)floor(x + reach);
    for (int64_t pixel = (int64_t)ceil(x - reach); pixel <= end; pixel++) {
        double share = share_at(a->mode, a->alpha, ((double)pixel - x) * narrow);
        if ((pixel >= 0 && pixel <= last) || !a->exclude_outside) {
            row[CLAMP(pixel, 0, last)] += share;
            sum += share;
        }
    }
    for (int64_t i = 0; i <= last && sum != 0.0; i++) {
        row[i] /= sum;
    }
}

static bool stays(const nsk_graph *graph, const nsk_node *node, int axis) {
    double scale = scale_of(graph, node, axis);
    return scale >= 1.0 && scale <= 1.0 &&
           nsk_node_input(graph, node, 0)->dims[axis] ==
               nsk_graph_value(graph, node->output)->dims[axis];
}

float *nsk_resize_shares(const nsk_graph *graph, const nsk_node *node, int axis) {
    const int64_t in = nsk_node_input(graph, node, 0)->dims[axis];
    const int64_t out = nsk_graph_value(graph, node->output)->dims[axis];
    if (stays(graph, node, axis)) {
        return NULL;
    }
    float *shares = g_new(float, (gsize)in *(gsize)out);
    double *row = g_new(double, in);
    for (int64_t i = 0; i < out; i++) {
        for (int64_t k = 0; k < in; k++) {
            row[k] = 0.0;
        }
        if (node->attributes.mode == NSK_MODE_NEAREST) {
            row[nsk_blend_at(graph, node, axis, i).first] = 1.0;
        } else {
            add_shares(graph, node, axis, i, row);
        }
        for (int64_t k = 0; k < in; k++) {
            shares[i * in + k] = (float)row[k];
        }
    }
    g_free(row);
    return shares;
}

bool nsk_resize_blends(const nsk_graph *graph, const nsk_node *node) {
    const nsk_attributes *a = &node->attributes;
    bool two = a->mode == NSK_MODE_NEAREST ||
               (a->mode == NSK_MODE_LINEAR && !a->antialias && !a->exclude_outside);
    bool freely =
        a->aspect == NSK_ASPECT_STRETCH && a->coordinates != NSK_COORDINATES_HALF_PIXEL_SYMMETRIC;
    return two && freely && nsk_node_input(graph, node, 0)->rank == 4 && stays(graph, node, 0) &&
           stays(graph, node, 1);
}

bool nsk_resize_scales(const nsk_graph *graph, const nsk_node *node, float *scales) {
    bool given = scales_of(graph, node) != NULL;
    for (int axis = 0; axis < 4 && given; axis++) {
        scales[axis] = (float)scale_of(graph, node, axis);
    }
    return given;
}

/* Where tables are needed, none is too large. */
static bool tables_fit(const nsk_scope *s) {
    const nsk_value *in = nsk_node_input(s->graph, s->node, 0);
    const nsk_value *out = nsk_graph_value(s->graph, s->node->output);
    bool fit = true;
    for (int i = 0; i < in->rank; i++) {
        fit = fit && (stays(s->graph, s->node, i) || in->dims[i] * out->dims[i] <= MOST_SHARES);
    }
    return fit || nsk_resize_blends(s->graph, s->node) ||
           nsk_complain_unsupported(s, "it is resized between sizes that are too large; resize "
                                       "in two steps, or by mode nearest or linear without "
                                       "antialias");
}

bool nsk_shape_resize(const nsk_scope *s) {
    const nsk_value *in = nsk_node_input(s->graph, s->node, 0);
    const nsk_value *scales = scales_of(s->graph, s->node);
    const nsk_value *given = scales != NULL ? scales : sizes_of(s->graph, s->node);
    const int listed = s->node->attributes.listed;
    int64_t dims[NSK_MOST_RANK];
    if (given == NULL || (int)nsk_value_count(given) != (listed > 0 ? listed : in->rank)) {
        return nsk_complain(s, "a constant scale or size is needed for each axis, or for each of "
                               "those that its axes attribute lists");
    }
    for (int i = 0; i < listed; i++) {
        if (nsk_axis(s->node->attributes.list[i], in->rank) == NSK_NONE) {
            return nsk_complain_shape(s, 0, "an axis in its axes attribute lies outside of that");
        }
    }
    for (int i = 0; i < in->rank; i++) {
        double scale = scale_of(s->graph, s->node, i);
        double wanted = size_of(s->graph, s->node, i);
        if (!(wanted >= 1.0 && wanted <= 65535.0 && scale > 0.0)) {
            return nsk_complain_unsupported(s, "an axis can be resized to 1 to 65535");
        }
        dims[i] = (int64_t)wanted;
    }
    return nsk_give(s, in->rank, dims) && tables_fit(s);
}
