#include "float/forward.h"

#include <cblas.h>
#include <math.h>
#include <string.h>

struct nsk_pass {
    const nsk_graph *graph;
    float **memory; /* one a value; NULL for constants */
    float *columns; /* scratch of the convolutions */
};

typedef struct pass_step {
    const nsk_pass *pass;
    const nsk_node *node;
    const nsk_value *in, *out; /* first input, output */
    const float *x;
    float *y;
} pass_step;

static const float *data_of(const nsk_pass *pass, int value) {
    const float *constant = nsk_graph_value(pass->graph, value)->data;
    return constant != NULL ? constant : pass->memory[value];
}

static const float *input_data(const pass_step *s, int index) {
    bool given = index < s->node->inputs && s->node->input[index] != NSK_NONE;
    return given ? data_of(s->pass, s->node->input[index]) : NULL;
}

/* ---- convolution: unfold one group's planes, then one matrix product ---- */

static void unfold_plane(const pass_step *s, const float *plane, int64_t ky, int64_t kx,
                         float *row) {
    const nsk_window_attributes *w = &s->node->attributes.window;
    int64_t height = s->in->dims[2];
    int64_t width = s->in->dims[3];
    for (int64_t oy = 0; oy < s->out->dims[2]; oy++) {
        int64_t y = oy * w->stride[0] - w->pad_before[0] + ky * w->dilation[0];
        for (int64_t ox = 0; ox < s->out->dims[3]; ox++) {
            int64_t x = ox * w->stride[1] - w->pad_before[1] + kx * w->dilation[1];
            bool inside = y >= 0 && y < height && x >= 0 && x < width;
            *row++ = inside ? plane[y * width + x] : 0.0F;
        }
    }
}

static bool is_pointwise(const nsk_window_attributes *w) {
    return w->kernel[0] * w->kernel[1] == 1 && w->stride[0] * w->stride[1] == 1 &&
           w->pad_before[0] + w->pad_before[1] + w->pad_after[0] + w->pad_after[1] == 0;
}

static void conv_group(const pass_step *s, const float *x, const float *weight, float *y) {
    const nsk_window_attributes *w = &s->node->attributes.window;
    int64_t inputs = s->in->dims[1] / w->groups;
    int64_t outputs = s->out->dims[1] / w->groups;
    int64_t taps = inputs * w->kernel[0] * w->kernel[1];
    int64_t pixels = s->out->dims[2] * s->out->dims[3];
    const float *columns = x;
    if (!is_pointwise(w)) {
        float *row = s->pass->columns;
        for (int64_t c = 0; c < inputs; c++) {
            for (int64_t k = 0; k < w->kernel[0] * w->kernel[1]; k++, row += pixels) {
                unfold_plane(s, x + c * s->in->dims[2] * s->in->dims[3], k / w->kernel[1],
                             k % w->kernel[1], row);
            }
        }
        columns = s->pass->columns;
    }
    cblas_sgemm(CblasRowMajor, CblasNoTrans, CblasNoTrans, (int)outputs, (int)pixels, (int)taps,
                1.0F, weight, (int)taps, columns, (int)pixels, 0.0F, y, (int)pixels);
}

static void conv(const pass_step *s) {
    const nsk_window_attributes *w = &s->node->attributes.window;
    const float *weight = input_data(s, 1);
    const float *bias = input_data(s, 2);
    int64_t in_plane = s->in->dims[2] * s->in->dims[3];
    int64_t pixels = s->out->dims[2] * s->out->dims[3];
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

/* ---- pools ---- */

typedef float pool_window(const pass_step *s, const float *plane, int64_t oy, int64_t ox);

static float window_max(const pass_step *s, const float *plane, int64_t oy, int64_t ox) {
    const nsk_window_attributes *w = &s->node->attributes.window;
    float most = -INFINITY;
    for (int64_t ky = 0; ky < w->kernel[0]; ky++) {
        int64_t y = oy * w->stride[0] - w->pad_before[0] + ky * w->dilation[0];
        for (int64_t kx = 0; kx < w->kernel[1]; kx++) {
            int64_t x = ox * w->stride[1] - w->pad_before[1] + kx * w->dilation[1];
            if (y >= 0 && y < s->in->dims[2] && x >= 0 && x < s->in->dims[3]) {
                most = fmaxf(most, plane[y * s->in->dims[3] + x]);
            }
        }
    }
    return most;
}

/* Pixels of the padding count as zeroes with count_include_pad, and never beyond it. */
static float window_average(const pass_step *s, const float *plane, int64_t oy, int64_t ox) {
    const nsk_window_attributes *w = &s->node->attributes.window;
    double sum = 0.0;
    int64_t count = 0;
    for (int64_t ky = 0; ky < w->kernel[0]; ky++) {
        int64_t y = oy * w->stride[0] - w->pad_before[0] + ky * w->dilation[0];
        for (int64_t kx = 0; kx < w->kernel[1]; kx++) {
            int64_t x = ox * w->stride[1] - w->pad_before[1] + kx * w->dilation[1];
            bool inside = y >= 0 && y < s->in->dims[2] && x >= 0 && x < s->in->dims[3];
            bool padded =
                y < s->in->dims[2] + w->pad_after[0] && x < s->in->dims[3] + w->pad_after[1];
            sum += inside ? (double)plane[y * s->in->dims[3] + x] : 0.0;
            count += inside || (w->count_include_pad && padded);
        }
    }
    return count > 0 ? (float)(sum / (double)count) : 0.0F;
}

static void pool(const pass_step *s, pool_window *window) {
    int64_t plane = s->in->dims[2] * s->in->dims[3];
    float *to = s->y;
    for (int64_t p = 0; p < s->in->dims[0] * s->in->dims[1]; p++) {
        for (int64_t oy = 0; oy < s->out->dims[2]; oy++) {
            for (int64_t ox = 0; ox < s->out->dims[3]; ox++) {
                *to++ = window(s, s->x + p * plane, oy, ox);
            }
        }
    }
}

static void max_pool(const pass_step *s) {
    pool(s, window_max);
}

static void average_pool(const pass_step *s) {
    pool(s, window_average);
}

/* ---- the rest ---- */

static void gemm(const pass_step *s) {
    const nsk_attributes *a = &s->node->attributes;
    const float *bias = input_data(s, 2);
    const nsk_value *b = nsk_node_input(s->pass->graph, s->node, 1);
    const nsk_value *c = nsk_node_input(s->pass->graph, s->node, 2);
    int rows = (int)s->out->dims[0];
    int columns = (int)s->out->dims[1];
    int inner = (int)s->in->dims[a->transpose_a ? 0 : 1];
    for (int i = 0; i < rows * columns; i++) {
        bool by_row = c != NULL && c->rank == 2 && c->dims[0] > 1;
        bool by_column = c != NULL && c->rank > 0 && c->dims[c->rank - 1] > 1;
        int at =
            (by_row ? i / columns * (by_column ? columns : 1) : 0) + (by_column ? i % columns : 0);
        s->y[i] = bias != NULL ? (float)a->beta * bias[at] : 0.0F;
    }
    cblas_sgemm(CblasRowMajor, a->transpose_a ? CblasTrans : CblasNoTrans,
                a->transpose_b ? CblasTrans : CblasNoTrans, rows, columns, inner, (float)a->alpha,
                s->x, (int)s->in->dims[1], input_data(s, 1), (int)b->dims[1], 1.0F, s->y, columns);
}

static void matmul(const pass_step *s) {
    int rows = (int)s->out->dims[0];
    int columns = (int)s->out->dims[1];
    int inner = (int)s->in->dims[1];
    cblas_sgemm(CblasRowMajor, CblasNoTrans, CblasNoTrans, rows, columns, inner, 1.0F, s->x, inner,
                input_data(s, 1), columns, 0.0F, s->y, columns);
}

/* Where an output's element stands in an input that may be smaller along some axes. */
static size_t broadcast_at(const nsk_value *out, const nsk_value *in, size_t index) {
    size_t at = 0;
    size_t step = 1;
    for (int i = in->rank - 1, o = out->rank - 1; i >= 0; i--, o--) {
        size_t along = index % (size_t)out->dims[o];
        index /= (size_t)out->dims[o];
        at += in->dims[i] == 1 ? 0 : along * step;
        step *= (size_t)in->dims[i];
    }
    return at;
}

static void arithmetic(const pass_step *s) {
    const nsk_value *b = nsk_node_input(s->pass->graph, s->node, 1);
    const float *y = input_data(s, 1);
    size_t count = nsk_value_count(s->out);
    for (size_t i = 0; i < count; i++) {
        float left = s->x[broadcast_at(s->out, s->in, i)];
        float right = y[broadcast_at(s->out, b, i)];
        s->y[i] = s->node->op == NSK_OP_ADD ? left + right : left * right;
    }
}

static void batch_norm(const pass_step *s) {
    const float *in[5];
    for (int i = 1; i < 5; i++) {
        in[i] = input_data(s, i);
    }
    size_t channels = (size_t)s->in->dims[1];
    size_t count = nsk_value_count(s->in);
    size_t plane = count / channels / (size_t)s->in->dims[0];
    for (size_t i = 0; i < count; i++) {
        size_t c = i / plane % channels;
        double deviation = sqrt((double)in[4][c] + s->node->attributes.epsilon);
        s->y[i] =
            (float)((double)(s->x[i] - in[3][c]) / deviation * (double)in[1][c] + (double)in[2][c]);
    }
}

static void copy(const pass_step *s) {
    memcpy(s->y, s->x, nsk_value_count(s->out) * sizeof *s->y);
}

static void pad(const pass_step *s) {
    const float *filler = input_data(s, 2);
    int64_t height = s->in->dims[2];
    int64_t width = s->in->dims[3];
    const nsk_window_attributes *w = &s->node->attributes.window;
    float *to = s->y;
    for (int64_t p = 0; p < s->in->dims[0] * s->in->dims[1]; p++) {
        for (int64_t y = -w->pad_before[0]; y < height + w->pad_after[0]; y++) {
            for (int64_t x = -w->pad_before[1]; x < width + w->pad_after[1]; x++) {
                bool inside = y >= 0 && y < height && x >= 0 && x < width;
                float outside = filler != NULL ? filler[0] : 0.0F;
                *to++ = inside ? s->x[(p * height + y) * width + x] : outside;
            }
        }
    }
}

static void softmax_line(const float *x, float *y, size_t count, size_t apart) {
    float top = x[0];
    for (size_t i = 1; i < count; i++) {
        top = fmaxf(top, x[i * apart]);
    }
    double sum = 0.0;
    for (size_t i = 0; i < count; i++) {
        sum += exp((double)(x[i * apart] - top));
    }
    for (size_t i = 0; i < count; i++) {
        y[i * apart] = (float)(exp((double)(x[i * apart] - top)) / sum);
    }
}

static void softmax(const pass_step *s) {
    size_t outer = 1;
    size_t axis = 1;
    for (int i = 0; i < s->in->rank; i++) {
        bool before = i < s->node->attributes.axis;
        bool along =
            s->node->attributes.flatten_from_axis ? !before : i == s->node->attributes.axis;
        outer *= before ? (size_t)s->in->dims[i] : 1;
        axis *= along ? (size_t)s->in->dims[i] : 1;
    }
    size_t inner = nsk_value_count(s->in) / outer / axis;
    for (size_t o = 0; o < outer; o++) {
        for (size_t i = 0; i < inner; i++) {
            size_t at = o * axis * inner + i;
            softmax_line(s->x + at, s->y + at, axis, inner);
        }
    }
}

/* Relu and Clip that were not folded: nsk_graph_fold has put their bounds into the node, and the
 * clamp behind every node does the work. */
static void (*const forwards[NSK_OPS])(const pass_step *) = {
    [NSK_OP_ADD] = arithmetic,
    [NSK_OP_AVERAGE_POOL] = average_pool,
    [NSK_OP_BATCH_NORM] = batch_norm,
    [NSK_OP_CLIP] = copy,
    [NSK_OP_CONV] = conv,
    [NSK_OP_DROPOUT] = copy,
    [NSK_OP_FLATTEN] = copy,
    [NSK_OP_GEMM] = gemm,
    [NSK_OP_GLOBAL_AVERAGE_POOL] = average_pool,
    [NSK_OP_GLOBAL_MAX_POOL] = max_pool,
    [NSK_OP_IDENTITY] = copy,
    [NSK_OP_MATMUL] = matmul,
    [NSK_OP_MAX_POOL] = max_pool,
    [NSK_OP_MUL] = arithmetic,
    [NSK_OP_PAD] = pad,
    [NSK_OP_RELU] = copy,
    [NSK_OP_RESHAPE] = copy,
    [NSK_OP_SOFTMAX] = softmax,
};

static size_t columns_needed(const nsk_graph *graph, const nsk_node *node) {
    if (node->op != NSK_OP_CONV) {
        return 0;
    }
    const nsk_value *weight = nsk_node_input(graph, node, 1);
    const nsk_value *out = nsk_graph_value(graph, node->output);
    return nsk_value_count(weight) / (size_t)weight->dims[0] *
           (size_t)(out->dims[2] * out->dims[3]);
}

/* Floats that one pass needs: every value is kept, so that any can be looked at afterwards. */
static bool fits_memory(const nsk_graph *graph, nsk_error *error) {
    const size_t MOST = (size_t)1 << 29;
    size_t total = 0;
    for (int i = 0; i < (int)graph->nodes->len; i++) {
        const nsk_node *node = nsk_graph_node(graph, i);
        size_t columns = node->dead ? 0 : columns_needed(graph, node);
        total += node->dead ? 0 : nsk_value_count(nsk_graph_value(graph, node->output));
        if (total > MOST || columns > MOST) {
            return nsk_fail(error,
                            "node '%s' (%s): one picture would need more than 2 GiB; give a "
                            "smaller input size",
                            node->name, nsk_op_name(node->op));
        }
    }
    return true;
}

nsk_pass *nsk_pass_new(const nsk_graph *graph, nsk_error *error) {
    if (!fits_memory(graph, error)) {
        return NULL;
    }
    nsk_pass *pass = g_new0(nsk_pass, 1);
    size_t columns = 1;
    pass->graph = graph;
    pass->memory = g_new0(float *, graph->values->len);
    pass->memory[graph->input] =
        g_new0(float, nsk_value_count(nsk_graph_value(graph, graph->input)));
    for (int i = 0; i < (int)graph->nodes->len; i++) {
        const nsk_node *node = nsk_graph_node(graph, i);
        if (node->dead) {
            continue;
        }
        if (forwards[node->op] == NULL) {
            nsk_fail(error, "node '%s' (%s): no float form", node->name, nsk_op_name(node->op));
            nsk_pass_free(pass);
            return NULL;
        }
        columns = MAX(columns, columns_needed(graph, node));
        pass->memory[node->output] =
            g_new0(float, nsk_value_count(nsk_graph_value(graph, node->output)));
    }
    pass->columns = g_new(float, columns);
    return pass;
}

void nsk_pass_free(nsk_pass *pass) {
    if (pass == NULL) {
        return;
    }
    for (int i = 0; i < (int)pass->graph->values->len; i++) {
        g_free(pass->memory[i]);
    }
    g_free(pass->memory);
    g_free(pass->columns);
    g_free(pass);
}

float *nsk_pass_input(nsk_pass *pass) {
    return pass->memory[pass->graph->input];
}

static void clamp(const pass_step *s) {
    if (isinf(s->node->low) && isinf(s->node->high)) {
        return;
    }
    float low = (float)s->node->low;
    float high = (float)s->node->high;
    size_t count = nsk_value_count(s->out);
    for (size_t i = 0; i < count; i++) {
        s->y[i] = fminf(fmaxf(s->y[i], low), high);
    }
}

void nsk_pass_run(nsk_pass *pass) {
    for (int i = 0; i < (int)pass->graph->nodes->len; i++) {
        const nsk_node *node = nsk_graph_node(pass->graph, i);
        if (node->dead) {
            continue;
        }
        pass_step s = {pass,
                       node,
                       nsk_node_input(pass->graph, node, 0),
                       nsk_graph_value(pass->graph, node->output),
                       data_of(pass, node->input[0]),
                       pass->memory[node->output]};
        forwards[node->op](&s);
        clamp(&s);
    }
}

const float *nsk_pass_value(const nsk_pass *pass, int value) {
    return data_of(pass, value);
}

void nsk_float_prepare(const nsk_input *input, const uint8_t *frame, float *planes) {
    size_t pixels = (size_t)input->width * (size_t)input->height;
    size_t channels = input->colour == NSK_GREY ? 1 : 3;
    for (size_t c = 0; c < channels; c++) {
        for (size_t i = 0; i < pixels; i++) {
            double value = (double)frame[i * channels + c] / 255.0 * input->top;
            planes[c * pixels + i] = (float)((value - input->mean[c]) / input->deviation[c]);
        }
    }
}
