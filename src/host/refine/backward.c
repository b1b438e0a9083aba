#include "refine/backward.h"

#include <cblas.h>
#include <math.h>
#include <string.h>

#include "device/format.h"

static size_t pixels_of(const nsk_backward_tensor *t) {
    return (size_t)t->height * (size_t)t->width;
}

nsk_backward_tensor *nsk_backward_tensors_new(const nsk_lowered *lowered) {
    int count = (int)lowered->tensors->len;
    nsk_backward_tensor *all = g_new0(nsk_backward_tensor, count);
    for (int pass = 0; pass < 2; pass++) { /* first those with memory of their own */
        for (int i = 0; i < count; i++) {
            const nsk_lowered_tensor *t = nsk_lowered_tensor_at(lowered, i);
            int root = nsk_lowered_tensor_root(lowered, i);
            nsk_backward_tensor *to = &all[i];
            if ((pass == 0) != (root == i)) {
                continue;
            }
            *to = all[root];
            to->height = t->height;
            to->width = t->width;
            to->channels = t->channels;
            if (root == i) {
                size_t size = pixels_of(to) * (size_t)t->channels;
                to->value = g_new0(float, size);
                to->gradient = g_new0(float, size);
                to->level = g_new0(int8_t, size);
            } else if (t->slice) {
                to->value += t->first_channel;
                to->gradient += t->first_channel;
                to->level += t->first_channel;
            }
            to->step = t->slice ? all[root].channels : t->channels;
        }
    }
    return all;
}

void nsk_backward_tensors_free(const nsk_lowered *lowered, nsk_backward_tensor *all) {
    for (int i = 0; i < (int)lowered->tensors->len; i++) {
        if (nsk_lowered_tensor_root(lowered, i) == i) {
            g_free(all[i].value);
            g_free(all[i].gradient);
            g_free(all[i].level);
        }
    }
    g_free(all);
}

/* Where pixel (y, x) stands; false outside of the picture. */
static bool find(const nsk_backward_tensor *t, int y, int x, size_t *at) {
    bool inside = y >= 0 && y < t->height && x >= 0 && x < t->width;
    *at = inside ? ((size_t)y * (size_t)t->width + (size_t)x) * (size_t)t->step : 0;
    return inside;
}

/* The input pixel that a tap of a window meets. */
static bool find_tap(const nsk_backward_step *s, int out_y, int out_x, int ky, int kx, size_t *at) {
    const nsk_window_attributes *w = &s->layer->window;
    return find(s->in, out_y * (int)w->stride[0] - (int)w->pad_before[0] + ky * (int)w->dilation[0],
                out_x * (int)w->stride[1] - (int)w->pad_before[1] + kx * (int)w->dilation[1], at);
}

/* What was cut off does not change with what made it. */
static void cut_off(const nsk_backward_step *s) {
    const nsk_backward_tensor *t = s->out;
    for (size_t p = 0; p < pixels_of(t); p++) {
        const int8_t *restrict level = t->level + p * (size_t)t->step;
        float *restrict gradient = t->gradient + p * (size_t)t->step;
#pragma omp simd
        for (int c = 0; c < t->channels; c++) {
            const bool inside = (level[c] > s->low) & (level[c] < s->high);
            gradient[c] = inside ? gradient[c] : 0.0F;
        }
    }
}

static void add_biases(const nsk_backward_step *s) {
    float *restrict sum = s->bias_gradient;
    for (size_t p = 0; p < pixels_of(s->out); p++) {
        const float *restrict gradient = s->out->gradient + p * (size_t)s->out->step;
#pragma omp simd
        for (int c = 0; c < s->out->channels; c++) {
            sum[c] += gradient[c];
        }
    }
}

/* ---- convolution: windows unfolded into rows, then matrix products ---- */

size_t nsk_backward_scratch(const nsk_lowered_layer *l, const nsk_backward_tensor *out) {
    return l->kind == NSK_KIND_CONV || l->kind == NSK_KIND_CONV_FINE
               ? 2 * pixels_of(out) * (size_t)l->taps
               : 0;
}

/* The windows' inputs into rows, or rows' gradients back to the inputs. */
static void unfold(const nsk_backward_step *s, int group, float *rows, bool back) {
    const nsk_window_attributes *w = &s->layer->window;
    size_t length = (size_t)(s->in->channels / (int)w->groups);
    size_t first = (size_t)group * length;
    for (int y = 0; y < s->out->height; y++) {
        for (int x = 0; x < s->out->width; x++) {
            for (int tap = 0; tap < (int)(w->kernel[0] * w->kernel[1]); tap++, rows += length) {
                size_t at;
                bool inside =
                    find_tap(s, y, x, tap / (int)w->kernel[1], tap % (int)w->kernel[1], &at);
                if (!back && inside) {
                    memcpy(rows, s->in->value + at + first, length * sizeof *rows);
                } else if (!back) {
                    memset(rows, 0, length * sizeof *rows);
                } else if (inside) {
                    cblas_saxpy((int)length, 1.0F, rows, 1, s->in->gradient + at + first, 1);
                }
            }
        }
    }
}

/* Whether the windows are the input's pixels as they stand. */
static bool is_plain(const nsk_backward_step *s) {
    const nsk_window_attributes *w = &s->layer->window;
    return w->kernel[0] * w->kernel[1] * w->stride[0] * w->stride[1] == 1 &&
           s->out->height == s->in->height && s->out->width == s->in->width;
}

/* The gradients of a group's weights, and of its inputs: `back` gets them, or adds them. */
typedef struct product {
    const float *rows;
    float *back;
    int step; /* from row to row */
    float added;
} product;

static void multiply(const nsk_backward_step *s, int group, const product *p) {
    const int outputs = s->out->channels / (int)s->layer->window.groups;
    const int taps = s->layer->taps;
    const int pixels = (int)pixels_of(s->out);
    const size_t first = (size_t)group * (size_t)outputs * (size_t)taps;
    const float *gradient = s->out->gradient + group * outputs;
    cblas_sgemm(CblasRowMajor, CblasTrans, CblasNoTrans, outputs, taps, pixels, 1.0F, gradient,
                s->out->step, p->rows, p->step, 1.0F, s->weight_gradient + first, taps);
    if (s->input_counts) {
        cblas_sgemm(CblasRowMajor, CblasNoTrans, CblasNoTrans, pixels, taps, outputs, 1.0F,
                    gradient, s->out->step, s->weight + first, taps, p->added, p->back, p->step);
    }
}

static void conv(const nsk_backward_step *s) {
    const int groups = (int)s->layer->window.groups;
    const int taps = s->layer->taps;
    float *rows = s->scratch;
    float *back = rows + pixels_of(s->out) * (size_t)taps;
    for (int g = 0; g < groups; g++) {
        if (is_plain(s)) {
            const ptrdiff_t first = (ptrdiff_t)g * taps;
            const product p = {s->in->value + first, s->in->gradient + first, s->in->step, 1.0F};
            multiply(s, g, &p);
            continue;
        }
        const product p = {rows, back, taps, 0.0F};
        unfold(s, g, rows, false);
        multiply(s, g, &p);
        if (s->input_counts) {
            unfold(s, g, back, true);
        }
    }
}

/* The outputs along an axis that a tap meets the picture for: `first` to one below `end`. */
typedef struct span {
    int first, end;
    int offset; /* of the input from the output times the stride */
} span;

static span span_of(const nsk_window_attributes *w, int axis, int tap, int in, int out) {
    const int stride = (int)w->stride[axis];
    const int offset = tap * (int)w->dilation[axis] - (int)w->pad_before[axis];
    const int first = offset < 0 ? (-offset + stride - 1) / stride : 0;
    const int end = in > offset ? (in - 1 - offset) / stride + 1 : 0;
    return (span){first, MIN(end, out), offset};
}

/* One tap of one row. Of several outputs an input, `each`, channels follow each other. */
static void depthwise_tap(const nsk_backward_step *s, int y, int from_y, const span *across,
                          size_t weights) {
    const int channels = s->out->channels;
    const int each = channels / s->in->channels;
    const int stride = (int)s->layer->window.stride[1];
    const float *restrict weight = s->weight + weights;
    float *restrict learned = s->weight_gradient + weights;
    for (int x = across->first; x < across->end; x++) {
        size_t to;
        size_t at;
        find(s->out, y, x, &to);
        find(s->in, from_y, x * stride + across->offset, &at);
        const float *restrict gradient = s->out->gradient + to;
        const float *restrict value = s->in->value + at;
        float *restrict back = s->in->gradient + at;
        if (each == 1) {
#pragma omp simd
            for (int c = 0; c < channels; c++) {
                learned[c] += gradient[c] * value[c];
                back[c] += gradient[c] * weight[c];
            }
            continue;
        }
        for (int c = 0; c < channels; c++) {
            learned[c] += gradient[c] * value[c / each];
            back[c / each] += gradient[c] * weight[c];
        }
    }
}

static void depthwise(const nsk_backward_step *s) {
    const nsk_window_attributes *w = &s->layer->window;
    for (int ky = 0; ky < (int)w->kernel[0]; ky++) {
        const span down = span_of(w, 0, ky, s->in->height, s->out->height);
        for (int y = down.first; y < down.end; y++) {
            for (int kx = 0; kx < (int)w->kernel[1]; kx++) {
                const span across = span_of(w, 1, kx, s->in->width, s->out->width);
                const size_t tap = (size_t)(ky * (int)w->kernel[1] + kx);
                depthwise_tap(s, y, y * (int)w->stride[0] + down.offset, &across,
                              tap * (size_t)s->out->channels);
            }
        }
    }
}

/* A dense layer's input is its tensor as it stands. */
static void dense(const nsk_backward_step *s) {
    int inputs = s->layer->taps;
    for (int o = 0; o < s->out->channels; o++) {
        size_t first = (size_t)o * (size_t)inputs;
        float gradient = s->out->gradient[o];
        cblas_saxpy(inputs, gradient, s->in->value, 1, s->weight_gradient + first, 1);
        cblas_saxpy(inputs, gradient, s->weight + first, 1, s->in->gradient, 1);
    }
}

/* Every input spreads over the outputs. Weights as a convolution's: [out][row][column][in]. */
static void transposed(const nsk_backward_step *s) {
    const nsk_window_attributes *w = &s->layer->window;
    int groups = (int)w->groups;
    int outputs = s->out->channels / groups;
    int inputs = s->in->channels / groups;
    int area = (int)(w->kernel[0] * w->kernel[1]);
    for (int n = 0; n < s->in->height * s->in->width * area; n++) {
        int y = n / area / s->in->width * (int)w->stride[0] - (int)w->pad_before[0];
        int x = n / area % s->in->width * (int)w->stride[1] - (int)w->pad_before[1];
        int tap = n % area;
        size_t to;
        if (!find(s->out, y + tap / (int)w->kernel[1] * (int)w->dilation[0],
                  x + tap % (int)w->kernel[1] * (int)w->dilation[1], &to)) {
            continue;
        }
        size_t from = (size_t)(n / area) * (size_t)s->in->step;
        for (int o = 0; o < s->out->channels; o++) {
            size_t k = ((size_t)o * (size_t)area + (size_t)tap) * (size_t)inputs;
            size_t first = from + (size_t)(o / outputs * inputs);
            float gradient = s->out->gradient[to + (size_t)o];
            cblas_saxpy(inputs, gradient, s->in->value + first, 1, s->weight_gradient + k, 1);
            cblas_saxpy(inputs, gradient, s->weight + k, 1, s->in->gradient + first, 1);
        }
    }
}

/* ---- pools ---- */

/* The tap of a window that holds its maximum, or minimum. */
static size_t find_most(const nsk_backward_step *s, int y, int x, int channel) {
    const nsk_window_attributes *w = &s->layer->window;
    size_t found = 0;
    float most = -INFINITY;
    for (int tap = 0; tap < (int)(w->kernel[0] * w->kernel[1]); tap++) {
        size_t at;
        if (find_tap(s, y, x, tap / (int)w->kernel[1], tap % (int)w->kernel[1], &at)) {
            float value = s->in->value[at + (size_t)channel] * (s->layer->least ? -1.0F : 1.0F);
            if (value > most) {
                most = value;
                found = at + (size_t)channel;
            }
        }
    }
    return found;
}

static void max_pool(const nsk_backward_step *s) {
    for (int y = 0; y < s->out->height; y++) {
        for (int x = 0; x < s->out->width; x++) {
            size_t to;
            find(s->out, y, x, &to);
            for (int c = 0; c < s->out->channels; c++) {
                s->in->gradient[find_most(s, y, x, c)] += s->out->gradient[to + (size_t)c];
            }
        }
    }
}

/* How many numbers an average is of. */
static int count_of(const nsk_backward_step *s, int y, int x) {
    const nsk_window_attributes *w = &s->layer->window;
    int area = (int)(w->kernel[0] * w->kernel[1]);
    int inside = 0;
    for (int tap = 0; tap < area; tap++) {
        size_t at;
        inside += find_tap(s, y, x, tap / (int)w->kernel[1], tap % (int)w->kernel[1], &at);
    }
    return s->layer->total ? 1 : w->count_include_pad ? area : MAX(inside, 1);
}

static void average_pool(const nsk_backward_step *s) {
    const nsk_window_attributes *w = &s->layer->window;
    for (int y = 0; y < s->out->height; y++) {
        for (int x = 0; x < s->out->width; x++) {
            float share = 1.0F / (float)count_of(s, y, x);
            size_t to;
            find(s->out, y, x, &to);
            for (int tap = 0; tap < (int)(w->kernel[0] * w->kernel[1]); tap++) {
                size_t at;
                if (find_tap(s, y, x, tap / (int)w->kernel[1], tap % (int)w->kernel[1], &at)) {
                    cblas_saxpy(s->out->channels, share, s->out->gradient + to, 1,
                                s->in->gradient + at, 1);
                }
            }
        }
    }
}

/* ---- element by element ---- */

static void pair(const nsk_backward_step *s) {
    size_t count = pixels_of(s->out) * (size_t)s->out->channels;
    size_t period = pixels_of(s->second) * (size_t)s->second->channels;
    nsk_kind kind = s->layer->kind;
    for (size_t i = 0; i < count; i++) {
        size_t k = i % period;
        float a = s->in->value[i];
        float b = s->second->value[k];
        bool first = (kind == NSK_KIND_MAX) == (a > b);
        float by_a = kind == NSK_KIND_ADD || kind == NSK_KIND_ADD_FINE ? (float)s->layer->sign[0]
                     : kind == NSK_KIND_MULTIPLY                       ? b
                                                                       : (float)first;
        float by_b = kind == NSK_KIND_ADD || kind == NSK_KIND_ADD_FINE ? (float)s->layer->sign[1]
                     : kind == NSK_KIND_MULTIPLY                       ? a
                                                                       : (float)!first;
        s->in->gradient[i] += s->out->gradient[i] * by_a;
        s->second->gradient[k] += s->out->gradient[i] * by_b;
    }
}

/* One product of matrices a row: by the first, its gradient is the output's times the second; by
 * the second, the output's, turned, times the first. */
static void matmul(const nsk_backward_step *s) {
    int rows = s->out->width;
    int columns = s->out->channels;
    int inner = s->in->channels;
    const float factor = s->layer->factor > 0.0 ? (float)s->layer->factor : 1.0F;
    for (int y = 0; y < s->out->height; y++) {
        const float *out = s->out->gradient + (ptrdiff_t)y * rows * columns;
        ptrdiff_t first = (ptrdiff_t)y * rows * inner;
        ptrdiff_t second = (ptrdiff_t)y * columns * inner;
        cblas_sgemm(CblasRowMajor, CblasNoTrans, CblasNoTrans, rows, inner, columns, factor, out,
                    columns, s->second->value + second, inner, 1.0F, s->in->gradient + first,
                    inner);
        cblas_sgemm(CblasRowMajor, CblasTrans, CblasNoTrans, columns, inner, rows, factor, out,
                    columns, s->in->value + first, inner, 1.0F, s->second->gradient + second,
                    inner);
    }
}

/* ---- normalisation ---- */

/* A group's channels of some pixels. */
typedef struct block {
    const nsk_backward_step *step;
    size_t from, pixels;
    int first, channels;
} block;

typedef struct block_moments {
    double mean, deviation;
    double slope, turn; /* the means of the gradient by z, and of that times z */
} block_moments;

static double gradient_at(const block *b, size_t pixel, int c) {
    const nsk_backward_tensor *out = b->step->out;
    return (double)out->gradient[(b->from + pixel) * (size_t)out->step + (size_t)c] *
           (double)b->step->layer->gains[c];
}

/* Of the numbers, of their squares. */
static void add_up(const block *b, double *sums) {
    const nsk_backward_tensor *in = b->step->in;
    sums[0] = sums[1] = 0.0;
    for (size_t p = 0; p < b->pixels; p++) {
        const float *x = in->value + (b->from + p) * (size_t)in->step;
        for (int c = b->first; c < b->first + b->channels; c++) {
            sums[0] += (double)x[c];
            sums[1] += (double)x[c] * (double)x[c];
        }
    }
}

static block_moments moments_of(const block *b) {
    const nsk_lowered_layer *l = b->step->layer;
    const double count = (double)b->pixels * b->channels;
    double sums[2];
    add_up(b, sums);
    block_moments m = {.mean = l->centred ? sums[0] / count : 0.0};
    m.deviation = sqrt(fmax(sums[1] / count - m.mean * m.mean, 0.0) + l->variance);
    for (size_t p = 0; p < b->pixels; p++) {
        const float *x = b->step->in->value + (b->from + p) * (size_t)b->step->in->step;
        for (int c = b->first; c < b->first + b->channels && m.deviation > 0.0; c++) {
            double slope = gradient_at(b, p, c);
            m.slope += slope / count;
            m.turn += slope * ((double)x[c] - m.mean) / m.deviation / count;
        }
    }
    m.slope = l->centred ? m.slope : 0.0;
    return m;
}

static void normalise_block(const block *b) {
    const nsk_backward_tensor *in = b->step->in;
    const block_moments m = moments_of(b);
    for (size_t p = 0; p < b->pixels; p++) {
        size_t at = (b->from + p) * (size_t)in->step;
        for (int c = b->first; c < b->first + b->channels && m.deviation > 0.0; c++) {
            double z = ((double)in->value[at + (size_t)c] - m.mean) / m.deviation;
            double change = (gradient_at(b, p, c) - m.slope - z * m.turn) / m.deviation;
            in->gradient[at + (size_t)c] += (float)change;
        }
    }
}

static void normalise(const nsk_backward_step *s) {
    const size_t pixels = pixels_of(s->in);
    const size_t each = s->layer->kind == NSK_KIND_NORMALISE_WHOLE ? pixels : 1;
    const int channels = s->in->channels / (int)s->layer->window.groups;
    for (size_t from = 0; from < pixels; from += each) {
        for (int first = 0; first < s->in->channels; first += channels) {
            const block b = {s, from, each, first, channels};
            normalise_block(&b);
        }
    }
}

/* The function's slope at each of its 256 arguments. */
static void table(const nsk_backward_step *s) {
    float slope[256];
    double half = 0.5 * (double)s->in_scale.scale;
    for (int q = -128; q < 128; q++) {
        double x = (double)s->in_scale.scale * (q - s->in_scale.zero);
        slope[q + 128] = 1.0F;
        if (s->layer->program != NULL) {
            double rise = nsk_program_at(s->layer->program, x + half) -
                          nsk_program_at(s->layer->program, x - half);
            slope[q + 128] = isfinite(rise) ? (float)(rise / (2.0 * half)) : 0.0F;
        }
    }
    size_t count = pixels_of(s->out) * (size_t)s->out->channels;
    for (size_t i = 0; i < count; i++) {
        s->in->gradient[i] += s->out->gradient[i] * slope[s->in->level[i] + 128];
    }
}

/* ---- elements that move ---- */

static void move(const nsk_backward_step *s) {
    const int32_t *moves = s->layer->moves;
    int64_t copies = 1;
    for (int i = 0; i < s->layer->loops; i++) {
        copies *= moves[NSK_M_LOOPS + 3 * i];
    }
    for (int64_t n = 0; n < copies; n++) {
        int64_t from = moves[NSK_M_IN_ORIGIN];
        int64_t to = moves[NSK_M_OUT_ORIGIN];
        int64_t rest = n;
        for (int i = 0; i < s->layer->loops; i++) {
            const int32_t *loop = moves + NSK_M_LOOPS + 3 * i;
            from += rest % loop[0] * loop[1];
            to += rest % loop[0] * loop[2];
            rest /= loop[0];
        }
        s->in->gradient[from] += s->out->gradient[to];
    }
}

static void resize(const nsk_backward_step *s) {
    for (int y = 0; y < s->out->height; y++) {
        const uint16_t *down = s->layer->blends + 3 * (size_t)y;
        for (int x = 0; x < s->out->width; x++) {
            const uint16_t *across = s->layer->blends + 3 * (size_t)(s->out->height + x);
            size_t to;
            find(s->out, y, x, &to);
            for (int k = 0; k < 4; k++) {
                size_t at;
                float part = (float)(k / 2 == 0 ? 2048 - down[2] : down[2]) *
                             (float)(k % 2 == 0 ? 2048 - across[2] : across[2]) * 0x1p-22F;
                find(s->in, down[k / 2], across[k % 2], &at);
                cblas_saxpy(s->out->channels, part, s->out->gradient + to, 1, s->in->gradient + at,
                            1);
            }
        }
    }
}

typedef struct way {
    void (*run)(const nsk_backward_step *s);
    bool cuts, learns;
} way;

static const way ways[NSK_KINDS] = {
    [NSK_KIND_CONV] = {conv, true, true},
    [NSK_KIND_DEPTHWISE] = {depthwise, true, true},
    [NSK_KIND_CONV_FINE] = {conv, true, true},
    [NSK_KIND_DEPTHWISE_FINE] = {depthwise, true, true},
    [NSK_KIND_ADD_FINE] = {pair, true, false},
    [NSK_KIND_LUT_FINE] = {table, true, false},
    [NSK_KIND_DENSE] = {dense, true, true},
    [NSK_KIND_CONV_TRANSPOSE] = {transposed, true, true},
    [NSK_KIND_MAX_POOL] = {max_pool, false, false},
    [NSK_KIND_AVERAGE_POOL] = {average_pool, true, false},
    [NSK_KIND_ADD] = {pair, true, false},
    [NSK_KIND_MULTIPLY] = {pair, true, false},
    [NSK_KIND_MATMUL] = {matmul, true, false},
    [NSK_KIND_MAX] = {pair, true, false},
    [NSK_KIND_MIN] = {pair, true, false},
    [NSK_KIND_LUT] = {table, true, false},
    [NSK_KIND_NORMALISE] = {normalise, true, false},
    [NSK_KIND_NORMALISE_WHOLE] = {normalise, true, false},
    [NSK_KIND_NORMALISE_FINE] = {normalise, true, false},
    [NSK_KIND_COPY] = {move, false, false},
    [NSK_KIND_RESIZE] = {resize, false, false},
};

void nsk_backward(const nsk_backward_step *s) {
    const way *w = &ways[s->layer->kind];
    if (w->cuts) {
        cut_off(s);
    }
    if (w->learns) {
        add_biases(s);
    }
    if (w->run != NULL) {
        w->run(s);
    }
}
