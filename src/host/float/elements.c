/* Element by element, and along axes. */
#include <math.h>
#include <string.h>

#include "float/kernel.h"
#include "graph/rearrange.h"

size_t nsk_broadcast_at(const nsk_value *out, const nsk_value *in, size_t index) {
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

nsk_function nsk_pair_function(nsk_op op) {
    static const nsk_function pairs[NSK_OPS] = {
        [NSK_OP_ADD] = NSK_FN_ADD,         [NSK_OP_AND] = NSK_FN_AND,
        [NSK_OP_DIV] = NSK_FN_DIV,         [NSK_OP_EQUAL] = NSK_FN_EQUAL,
        [NSK_OP_GREATER] = NSK_FN_GREATER, [NSK_OP_GREATER_OR_EQUAL] = NSK_FN_GREATER_OR_EQUAL,
        [NSK_OP_LESS] = NSK_FN_LESS,       [NSK_OP_LESS_OR_EQUAL] = NSK_FN_LESS_OR_EQUAL,
        [NSK_OP_MAX] = NSK_FN_MAX,         [NSK_OP_MIN] = NSK_FN_MIN,
        [NSK_OP_MUL] = NSK_FN_MUL,         [NSK_OP_OR] = NSK_FN_OR,
        [NSK_OP_POW] = NSK_FN_POW,         [NSK_OP_SUB] = NSK_FN_SUB,
        [NSK_OP_XOR] = NSK_FN_XOR,
    };
    return pairs[op] >= NSK_FN_UNARY ? pairs[op] : NSK_FNS;
}

/* How far apart an operand's numbers are along the last dimension of the output. */
static size_t apart_in_line(const nsk_value *operand) {
    return operand->rank == 0 || operand->dims[operand->rank - 1] == 1 ? 0 : 1;
}

/* Line by line of the last dimension, as finding an operand's place takes longer than adding. */
void nsk_float_pair(const nsk_step *s) {
    const nsk_function_step both = {.fn = nsk_pair_function(s->node->op)};
    const nsk_value *b = nsk_node_input(s->graph, s->node, 1);
    const size_t count = nsk_value_count(s->out);
    const size_t line = s->out->rank == 0 ? 1 : (size_t)s->out->dims[s->out->rank - 1];
    const size_t left_step = apart_in_line(s->in);
    const size_t right_step = apart_in_line(b);
    for (size_t at = 0; at < count; at += line) {
        const float *left = s->x + nsk_broadcast_at(s->out, s->in, at);
        const float *right = s->inputs[1] + nsk_broadcast_at(s->out, b, at);
        for (size_t i = 0; i < line; i++) {
            s->y[at + i] = (float)nsk_function_at(&both, (double)left[i * left_step],
                                                  (double)right[i * right_step]);
        }
    }
}

void nsk_float_where(const nsk_step *s) {
    const nsk_value *is = s->in;
    const nsk_value *then = nsk_node_input(s->graph, s->node, 1);
    const nsk_value *otherwise = nsk_node_input(s->graph, s->node, 2);
    for (size_t i = 0; i < nsk_value_count(s->out); i++) {
        bool chosen = s->x[nsk_broadcast_at(s->out, is, i)] != 0.0F;
        s->y[i] = chosen ? s->inputs[1][nsk_broadcast_at(s->out, then, i)]
                         : s->inputs[2][nsk_broadcast_at(s->out, otherwise, i)];
    }
}

void nsk_float_function(const nsk_step *s) {
    size_t count = nsk_value_count(s->out);
    for (size_t i = 0; i < count; i++) {
        s->y[i] = (float)nsk_program_at(s->node->program, (double)s->x[i]);
    }
}

/* Scale and zero point of an element: one for all, or one for its place along the axis. */
static void levels_at(const nsk_step *s, size_t element, double *scale, double *zero) {
    size_t count = nsk_value_count(nsk_node_input(s->graph, s->node, 1));
    size_t inner = 1;
    for (int i = s->in->rank - 1; i > (int)s->node->attributes.axis; i--) {
        inner *= (size_t)s->in->dims[i];
    }
    size_t at = count == 1 ? 0 : element / inner % count;
    if (s->node->attributes.size > 0) { /* by blocks: the same place, but for the axis */
        size_t line = (size_t)s->in->dims[s->node->attributes.axis];
        size_t block = (size_t)s->node->attributes.size;
        size_t blocks = (line + block - 1) / block;
        at = (element / inner / line * blocks + element / inner % line / block) * inner +
             element % inner;
    }
    *scale = (double)s->inputs[1][at];
    *zero = s->inputs[2] != NULL ? (double)s->inputs[2][at] : 0.0;
}

/* Halves go to the even level, as ONNX has it. */
void nsk_float_quantize(const nsk_step *s) {
    const nsk_value *zero_point = nsk_node_input(s->graph, s->node, 2);
    bool is_unsigned =
        zero_point != NULL ? zero_point->is_unsigned : !s->node->attributes.is_signed;
    double levels = ldexp(1.0, zero_point != NULL && zero_point->bits == 16 ? 16 : 8);
    double least = is_unsigned ? 0.0 : -levels / 2.0;
    for (size_t i = 0; i < nsk_value_count(s->out); i++) {
        double scale;
        double zero;
        levels_at(s, i, &scale, &zero);
        double level = nearbyint((double)s->x[i] / scale) + zero;
        s->y[i] = (float)fmin(fmax(level, least), least + levels - 1.0);
    }
}

void nsk_float_dequantize(const nsk_step *s) {
    for (size_t i = 0; i < nsk_value_count(s->out); i++) {
        double scale;
        double zero;
        levels_at(s, i, &scale, &zero);
        s->y[i] = (float)(((double)s->x[i] - zero) * scale);
    }
}

void nsk_float_prelu(const nsk_step *s) {
    const nsk_value *slope = nsk_node_input(s->graph, s->node, 1);
    size_t count = nsk_value_count(s->out);
    for (size_t i = 0; i < count; i++) {
        float x = s->x[i];
        s->y[i] = x < 0.0F ? x * s->inputs[1][nsk_broadcast_at(s->out, slope, i)] : x;
    }
}

void nsk_float_batch_norm(const nsk_step *s) {
    const float *const *in = s->inputs;
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

static void softmax_line(const float *x, float *y, size_t count, size_t apart, bool logarithm) {
    float top = x[0];
    for (size_t i = 1; i < count; i++) {
        top = fmaxf(top, x[i * apart]);
    }
    double sum = 0.0;
    for (size_t i = 0; i < count; i++) {
        sum += exp((double)(x[i * apart] - top));
    }
    for (size_t i = 0; i < count; i++) {
        double below = (double)(x[i * apart] - top);
        y[i * apart] = (float)(logarithm ? below - log(sum) : exp(below) / sum);
    }
}

static void softmax(const nsk_step *s, bool logarithm) {
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
            softmax_line(s->x + at, s->y + at, axis, inner, logarithm);
        }
    }
}

void nsk_float_softmax(const nsk_step *s) {
    softmax(s, false);
}

void nsk_float_log_softmax(const nsk_step *s) {
    softmax(s, true);
}

/* ---- reductions ---- */

static double reduced(nsk_op op, double so_far, double x) {
    return op == NSK_OP_REDUCE_MAX    ? fmax(so_far, x)
           : op == NSK_OP_REDUCE_MIN  ? fmin(so_far, x)
           : op == NSK_OP_REDUCE_PROD ? so_far * x
                                      : so_far + x;
}

/* Every element is added to the output that it belongs to. */
void nsk_float_reduce(const nsk_step *s) {
    bool marked[NSK_MOST_RANK];
    nsk_error error;
    nsk_axes_of(s->graph, s->node, s->node->attributes.none_means_all, marked, &error);
    nsk_op op = s->node->op;
    size_t count = nsk_value_count(s->in);
    size_t outputs = nsk_value_count(s->out);
    double start = op == NSK_OP_REDUCE_MAX    ? -INFINITY
                   : op == NSK_OP_REDUCE_MIN  ? INFINITY
                   : op == NSK_OP_REDUCE_PROD ? 1.0
                                              : 0.0;
    double *sums = g_new(double, outputs);
    for (size_t i = 0; i < outputs; i++) {
        sums[i] = start;
    }
    for (size_t i = 0; i < count; i++) {
        size_t rest = i;
        size_t at = 0;
        size_t step = 1;
        for (int axis = s->in->rank - 1; axis >= 0; axis--) {
            at += marked[axis] ? 0 : rest % (size_t)s->in->dims[axis] * step;
            step *= marked[axis] ? 1 : (size_t)s->in->dims[axis];
            rest /= (size_t)s->in->dims[axis];
        }
        sums[at] = reduced(op, sums[at], (double)s->x[i]);
    }
    double each = op == NSK_OP_REDUCE_MEAN ? (double)outputs / (double)count : 1.0;
    for (size_t i = 0; i < outputs; i++) {
        s->y[i] = (float)(sums[i] * each);
    }
    g_free(sums);
}

/* ---- numbers from nothing ---- */

void nsk_float_fill(const nsk_step *s) {
    size_t count = nsk_value_count(s->out);
    for (size_t i = 0; i < count; i++) {
        s->y[i] = (float)s->node->attributes.alpha;
    }
}

void nsk_float_range(const nsk_step *s) {
    size_t count = nsk_value_count(s->out);
    for (size_t i = 0; i < count; i++) {
        s->y[i] = (float)((double)s->x[0] + (double)i * (double)s->inputs[2][0]);
    }
}
