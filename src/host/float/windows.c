/* Windows that slide over pictures. */
#include <cblas.h>
#include <math.h>
#include <string.h>

#include "float/kernel.h"

/* ---- where windows meet the picture ---- */

/* The outputs [first, last) along an axis whose tap `k` falls inside, and the input that the first
 * of them meets. */
typedef struct span {
    int64_t first, last, from;
} span;

static span span_of(const nsk_step *s, int axis, int64_t k) {
    const nsk_window_attributes *w = &s->node->attributes.window;
    int64_t stride = w->stride[axis];
    int64_t shift = k * w->dilation[axis] - w->pad_before[axis]; /* input of output 0 */
    int64_t size = axis == 0 ? nsk_value_rows(s->in) : nsk_value_columns(s->in);
    span r = {shift < 0 ? (stride - 1 - shift) / stride : 0,
              size > shift ? (size - 1 - shift) / stride + 1 : 0, 0};
    r.last = MIN(r.last, axis == 0 ? nsk_value_rows(s->out) : nsk_value_columns(s->out));
    r.first = MIN(r.first, r.last);
    r.from = r.first * stride + shift;
    return r;
}

/* ---- convolution: unfold one group's planes, then one matrix product ---- */

static void unfold_plane(const nsk_step *s, const float *plane, int64_t ky, int64_t kx,
                         float *row) {
    int64_t stride = s->node->attributes.window.stride[1];
    int64_t width = nsk_value_columns(s->out);
    span down = span_of(s, 0, ky);
    span across = span_of(s, 1, kx);
    memset(row, 0, (size_t)(nsk_value_rows(s->out) * width) * sizeof *row);
    for (int64_t oy = down.first; oy < down.last; oy++) {
        int64_t y = down.from + (oy - down.first) * s->node->attributes.window.stride[0];
        const float *from = plane + y * nsk_value_columns(s->in) + across.from;
        float *to = row + oy * width;
        for (int64_t ox = across.first; ox < across.last; ox++, from += stride) {
            to[ox] = *from;
        }
    }
}

/* The plane with its padding around it: `wide` floats a row. */
static void pad_plane(const nsk_step *s, const float *x, int64_t wide, float *to) {
    const nsk_window_attributes *w = &s->node->attributes.window;
    int64_t width = nsk_value_columns(s->in);
    int64_t rows = nsk_value_rows(s->in) + w->pad_before[0] + w->pad_after[0];
    memset(to, 0, (size_t)(rows * wide) * sizeof *to);
    for (int64_t y = 0; y < nsk_value_rows(s->in); y++) {
        memcpy(to + (y + w->pad_before[0]) * wide + w->pad_before[1], x + y * width,
               (size_t)width * sizeof *to);
    }
}

/* One row of outputs of a kernel of 3 x 3 on the padded plane. */
static inline void nine_taps(const float *restrict rows, int64_t wide, int64_t stride,
                             const float *restrict k, float *restrict y, int64_t count) {
    const float *a = rows;
    const float *b = a + wide;
    const float *c = b + wide;
    for (int64_t i = 0; i < count; i++) {
        int64_t x = i * stride;
        y[i] = k[0] * a[x] + k[1] * a[x + 1] + k[2] * a[x + 2] + k[3] * b[x] + k[4] * b[x + 1] +
               k[5] * b[x + 2] + k[6] * c[x] + k[7] * c[x + 1] + k[8] * c[x + 2];
    }
}

/* The most usual depthwise kernel, where it fits its padded plane. */
static bool is_nine_taps(const nsk_window_attributes *w) {
    return w->kernel[0] == 3 && w->kernel[1] == 3 && w->dilation[0] == 1 && w->dilation[1] == 1 &&
           w->pad_before[0] >= 0 && w->pad_before[1] >= 0 && w->pad_after[0] >= 0 &&
           w->pad_after[1] >= 0;
}

static void conv_plane_nine(const nsk_step *s, const float *x, const float *weight, float *y) {
    const nsk_window_attributes *w = &s->node->attributes.window;
    int64_t wide = nsk_value_columns(s->in) + w->pad_before[1] + w->pad_after[1];
    int64_t width = nsk_value_columns(s->out);
    pad_plane(s, x, wide, s->scratch);
    for (int64_t oy = 0; oy < nsk_value_rows(s->out); oy++) {
        const float *rows = s->scratch + oy * w->stride[0] * wide;
        if (w->stride[1] == 1) {
            nine_taps(rows, wide, 1, weight, y + oy * width, width);
        } else {
            nine_taps(rows, wide, w->stride[1], weight, y + oy * width, width);
        }
    }
}

/* A group of one input and one output: the products are added up row by row. */
static void conv_plane(const nsk_step *s, const float *x, const float *weight, float *y) {
    const nsk_window_attributes *w = &s->node->attributes.window;
    int64_t width = nsk_value_columns(s->out);
    memset(y, 0, (size_t)(nsk_value_rows(s->out) * width) * sizeof *y);
    for (int64_t k = 0; k < w->kernel[0] * w->kernel[1]; k++) {
        span down = span_of(s, 0, k / w->kernel[1]);
        span across = span_of(s, 1, k % w->kernel[1]);
        float factor = weight[k];
        for (int64_t oy = down.first; oy < down.last; oy++) {
            int64_t row = down.from + (oy - down.first) * w->stride[0];
            const float *from = x + row * nsk_value_columns(s->in) + across.from;
            float *to = y + oy * width + across.first;
            int64_t count = across.last - across.first;
            if (w->stride[1] == 1) {
                for (int64_t i = 0; i < count; i++) {
                    to[i] += factor * from[i];
                }
                continue;
            }
            for (int64_t i = 0; i < count; i++) {
                to[i] += factor * from[i * w->stride[1]];
            }
        }
    }
}

static bool is_pointwise(const nsk_window_attributes *w) {
    return w->kernel[0] * w->kernel[1] == 1 && w->stride[0] * w->stride[1] == 1 &&
           w->pad_before[0] + w->pad_before[1] + w->pad_after[0] + w->pad_after[1] == 0;
}

static void conv_group(const nsk_step *s, const float *x, const float *weight, float *y) {
    const nsk_window_attributes *w = &s->node->attributes.window;
    int64_t inputs = s->in->dims[1] / w->groups;
    int64_t outputs = s->out->dims[1] / w->groups;
    int64_t taps = inputs * w->kernel[0] * w->kernel[1];
    int64_t pixels = nsk_value_rows(s->out) * nsk_value_columns(s->out);
    const float *columns = x;
    if (inputs == 1 && outputs == 1) {
        (is_nine_taps(w) ? conv_plane_nine : conv_plane)(s, x, weight, y);
        return;
    }
    if (!is_pointwise(w)) {
        float *row = s->scratch;
        for (int64_t c = 0; c < inputs; c++) {
            for (int64_t k = 0; k < w->kernel[0] * w->kernel[1]; k++, row += pixels) {
                unfold_plane(s, x + c * nsk_value_rows(s->in) * nsk_value_columns(s->in),
                             k / w->kernel[1], k % w->kernel[1], row);
            }
        }
        columns = s->scratch;
    }
    cblas_sgemm(CblasRowMajor, CblasNoTrans, CblasNoTrans, (int)outputs, (int)pixels, (int)taps,
                1.0F, weight, (int)taps, columns, (int)pixels, 0.0F, y, (int)pixels);
}

void nsk_float_conv(const nsk_step *s) {
    const nsk_window_attributes *w = &s->node->attributes.window;
    const float *weight = s->inputs[1];
    const float *bias = s->inputs[2];
    int64_t in_plane = nsk_value_rows(s->in) * nsk_value_columns(s->in);
    int64_t pixels = nsk_value_rows(s->out) * nsk_value_columns(s->out);
    int64_t inputs = s->in->dims[1] / w->groups;
    int64_t outputs = s->out->dims[1] / w->groups;
    int64_t group_weights = outputs * inputs * w->kernel[0] * w->kernel[1];
    for (int64_t n = 0; n < s->in->dims[0] * w->groups; n++) {
        conv_group(s, s->x + n * inputs * in_plane, weight + n % w->groups * group_weights,
                   s->y + n * outputs * pixels);
    }
    for (int64_t plane = 0; bias != NULL && plane < s->out->dims[0] * s->out->dims[1]; plane++) {
        float *to = s->y + plane * pixels;
        for (int64_t i = 0; i < pixels; i++) {
            to[i] += bias[plane % s->out->dims[1]];
        }
    }
}

/* ---- transposed convolution: each input spreads its product with the kernel ---- */

/* Adds one input plane's share to one output plane. */
static void spread_plane(const nsk_step *s, const float *x, const float *kernel, float *y) {
    const nsk_window_attributes *w = &s->node->attributes.window;
    int64_t width = nsk_value_columns(s->in);
    for (int64_t i = 0; i < nsk_value_rows(s->in) * width; i++) {
        for (int64_t k = 0; k < w->kernel[0] * w->kernel[1]; k++) {
            int64_t oy =
                i / width * w->stride[0] - w->pad_before[0] + k / w->kernel[1] * w->dilation[0];
            int64_t ox =
                i % width * w->stride[1] - w->pad_before[1] + k % w->kernel[1] * w->dilation[1];
            if (oy >= 0 && oy < nsk_value_rows(s->out) && ox >= 0 &&
                ox < nsk_value_columns(s->out)) {
                y[oy * nsk_value_columns(s->out) + ox] += x[i] * kernel[k];
            }
        }
    }
}

void nsk_float_conv_transpose(const nsk_step *s) {
    const nsk_window_attributes *w = &s->node->attributes.window;
    int64_t inputs = s->in->dims[1];
    int64_t outputs = s->out->dims[1] / w->groups; /* of one group */
    int64_t in_plane = nsk_value_rows(s->in) * nsk_value_columns(s->in);
    int64_t out_plane = nsk_value_rows(s->out) * nsk_value_columns(s->out);
    int64_t area = w->kernel[0] * w->kernel[1];
    for (int64_t plane = 0; plane < s->out->dims[0] * s->out->dims[1]; plane++) {
        for (int64_t i = 0; i < out_plane; i++) {
            s->y[plane * out_plane + i] =
                s->inputs[2] != NULL ? s->inputs[2][plane % s->out->dims[1]] : 0.0F;
        }
    }
    for (int64_t n = 0; n < s->in->dims[0] * inputs; n++) {
        int64_t c = n % inputs;
        int64_t group = c / (inputs / w->groups);
        for (int64_t o = 0; o < outputs; o++) {
            int64_t plane = n / inputs * s->out->dims[1] + group * outputs + o;
            spread_plane(s, s->x + n * in_plane, s->inputs[1] + (c * outputs + o) * area,
                         s->y + plane * out_plane);
        }
    }
}

/* ---- pools ---- */

typedef float pool_window(const nsk_step *s, const float *plane, int64_t oy, int64_t ox);

static float window_max(const nsk_step *s, const float *plane, int64_t oy, int64_t ox) {
    const nsk_window_attributes *w = &s->node->attributes.window;
    float most = -INFINITY;
    for (int64_t ky = 0; ky < w->kernel[0]; ky++) {
        int64_t y = oy * w->stride[0] - w->pad_before[0] + ky * w->dilation[0];
        for (int64_t kx = 0; kx < w->kernel[1]; kx++) {
            int64_t x = ox * w->stride[1] - w->pad_before[1] + kx * w->dilation[1];
            if (y >= 0 && y < nsk_value_rows(s->in) && x >= 0 && x < nsk_value_columns(s->in)) {
                most = fmaxf(most, plane[y * nsk_value_columns(s->in) + x]);
            }
        }
    }
    return most;
}

/* Pixels of the padding count as zeroes with count_include_pad, and never beyond it. */
static float window_average(const nsk_step *s, const float *plane, int64_t oy, int64_t ox) {
    const nsk_window_attributes *w = &s->node->attributes.window;
    double sum = 0.0;
    int64_t count = 0;
    for (int64_t ky = 0; ky < w->kernel[0]; ky++) {
        int64_t y = oy * w->stride[0] - w->pad_before[0] + ky * w->dilation[0];
        for (int64_t kx = 0; kx < w->kernel[1]; kx++) {
            int64_t x = ox * w->stride[1] - w->pad_before[1] + kx * w->dilation[1];
            bool inside =
                y >= 0 && y < nsk_value_rows(s->in) && x >= 0 && x < nsk_value_columns(s->in);
            bool padded = y < nsk_value_rows(s->in) + w->pad_after[0] &&
                          x < nsk_value_columns(s->in) + w->pad_after[1];
            sum += inside ? (double)plane[y * nsk_value_columns(s->in) + x] : 0.0;
            count += inside || (w->count_include_pad && padded);
        }
    }
    return count > 0 ? (float)(sum / (double)count) : 0.0F;
}

static void pool(const nsk_step *s, pool_window *window) {
    int64_t plane = nsk_value_rows(s->in) * nsk_value_columns(s->in);
    float *to = s->y;
    for (int64_t p = 0; p < s->in->dims[0] * s->in->dims[1]; p++) {
        for (int64_t oy = 0; oy < nsk_value_rows(s->out); oy++) {
            for (int64_t ox = 0; ox < nsk_value_columns(s->out); ox++) {
                *to++ = window(s, s->x + p * plane, oy, ox);
            }
        }
    }
}

void nsk_float_max_pool(const nsk_step *s) {
    pool(s, window_max);
}

void nsk_float_average_pool(const nsk_step *s) {
    pool(s, window_average);
}

/* ---- local response normalisation: the formula of the operator's specification ---- */

void nsk_float_lrn(const nsk_step *s) {
    const nsk_attributes *a = &s->node->attributes;
    int64_t channels = s->in->dims[1];
    int64_t plane = nsk_value_rows(s->in) * nsk_value_columns(s->in);
    for (int64_t i = 0; i < s->in->dims[0] * channels * plane; i++) {
        int64_t c = i / plane % channels;
        double sum = 0.0;
        for (int64_t k = c - (a->size - 1) / 2; k <= c + a->size / 2; k++) {
            double x = k >= 0 && k < channels ? (double)s->x[i + (k - c) * plane] : 0.0;
            sum += x * x;
        }
        s->y[i] =
            (float)((double)s->x[i] / pow(a->bias + a->alpha / (double)a->size * sum, a->beta));
    }
}

size_t nsk_scratch_needed(const nsk_graph *graph, const nsk_node *node) {
    if (node->op != NSK_OP_CONV) {
        return 0;
    }
    const nsk_value *weight = nsk_node_input(graph, node, 1);
    const nsk_value *out = nsk_graph_value(graph, node->output);
    const nsk_value *in = nsk_node_input(graph, node, 0);
    const nsk_window_attributes *w = &node->attributes.window;
    size_t unfolded = nsk_value_count(weight) / (size_t)weight->dims[0] *
                      (size_t)(nsk_value_rows(out) * nsk_value_columns(out));
    size_t padded = is_nine_taps(w)
                        ? (size_t)((nsk_value_rows(in) + w->pad_before[0] + w->pad_after[0]) *
                                   (nsk_value_columns(in) + w->pad_before[1] + w->pad_after[1]))
                        : 0;
    return MAX(unfolded, padded);
}
