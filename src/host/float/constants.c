/* Nodes whose inputs are all constants: computed once, their outputs become constants too. */
#include <math.h>
#include <string.h>

#include "float/forward.h"
#include "float/kernel.h"
#include "graph/einsum.h"

/* Weights are prepared by constants of constants; more work than this is a mistake or an attack. */
static const double MOST_CONSTANT_WORK = 1 << 26;

/* Lists of integers keep all their digits; what is computed is exact up to 2^53. */
static void evaluate_integers(const nsk_step *s, int64_t *to) {
    const void *inputs[NSK_MOST_INPUTS] = {NULL};
    size_t count = nsk_value_count(s->out);
    for (int i = 0; i < s->node->inputs; i++) {
        const nsk_value *v = nsk_node_input(s->graph, s->node, i);
        inputs[i] = v != NULL ? v->integers : NULL;
    }
    const int64_t *x = inputs[0];
    const int64_t *y = inputs[1];
    const nsk_function_step both = {.fn = nsk_pair_function(s->node->op)};
    if (s->node->op == NSK_OP_CAST && s->node->attributes.truth) {
        for (size_t i = 0; i < count; i++) {
            to[i] = s->y[i] != 0.0F;
        }
    } else if (nsk_only_moves(s->node->op) && x != NULL) {
        int32_t *sources = g_new(int32_t, count);
        nsk_sources_of(s->graph, s->node, sources);
        for (size_t i = 0; i < count; i++) {
            to[i] = sources[i] < 0 ? (int64_t)s->y[i] : x[sources[i]];
        }
        g_free(sources);
    } else if (s->node->op == NSK_OP_CONCAT && x != NULL) {
        nsk_join(s, inputs, to, sizeof *to);
    } else if (both.fn < NSK_FNS && x != NULL && y != NULL) {
        const nsk_value *b = nsk_node_input(s->graph, s->node, 1);
        for (size_t i = 0; i < count; i++) {
            double left = (double)x[nsk_broadcast_at(s->out, s->in, i)];
            double right = (double)y[nsk_broadcast_at(s->out, b, i)];
            to[i] = nsk_whole_of(trunc(nsk_function_at(&both, left, right)));
        }
    } else if (nsk_kernel_of(s->node->op) == nsk_float_copy && x != NULL &&
               s->node->op != NSK_OP_RELU && s->node->op != NSK_OP_CLIP) {
        memcpy(to, x, count * sizeof *to);
    } else {
        for (size_t i = 0; i < count; i++) {
            to[i] = nsk_whole_of(trunc((double)s->y[i]));
        }
    }
}

int64_t nsk_whole_of(double x) {
    return x >= 0x1p63 ? INT64_MAX : x < -0x1p63 ? INT64_MIN : isnan(x) ? 0 : (int64_t)x;
}

/* Multiply-accumulates, comparisons or copies that a constant takes, about. */
static double evaluation_work(const nsk_graph *graph, const nsk_node *node) {
    const nsk_value *in = nsk_node_input(graph, node, 0);
    const nsk_window_attributes *w = &node->attributes.window;
    const nsk_value *out = nsk_graph_value(graph, node->output);
    double outputs = (double)nsk_value_count(out);
    double each = fmax((double)w->kernel[0], 1.0) * fmax((double)w->kernel[1], 1.0);
    each = fmax(each, out->rank); /* where an element stands is found axis by axis */
    bool sums = node->op == NSK_OP_CONV || node->op == NSK_OP_CONV_TRANSPOSE;
    bool product = node->op == NSK_OP_GEMM || node->op == NSK_OP_MATMUL;
    if ((sums && in->rank > 1) || (product && in->rank > 0)) {
        each *= (double)in->dims[product ? in->rank - 1 : 1];
    }
    if (node->op == NSK_OP_EINSUM) {
        each *= nsk_einsum_work(graph, node);
    }
    return outputs * each + (double)nsk_scratch_needed(graph, node);
}

/* Keeps the scales of a constant that the node made out of int8. */
static void keep_steps(nsk_graph *graph, const nsk_node *dequantize) {
    const nsk_value *scale = nsk_node_input(graph, dequantize, 1);
    const nsk_value *zero = nsk_node_input(graph, dequantize, 2);
    const nsk_value *levels = nsk_node_input(graph, dequantize, 0);
    nsk_value *out = nsk_graph_value(graph, dequantize->output);
    for (size_t i = 0; zero != NULL && i < nsk_value_count(zero); i++) {
        if (fabs((double)zero->data[i]) > 0.0) {
            return; /* the device's weights have their zero in the middle */
        }
    }
    if (levels->is_unsigned || dequantize->attributes.size > 0) {
        return;
    }
    out->step_count = (int)nsk_value_count(scale);
    out->step_axis = (int)dequantize->attributes.axis;
    out->steps = g_memdup2(scale->data, (gsize)out->step_count * sizeof *scale->data);
}

bool nsk_evaluate(nsk_graph *graph, nsk_node *node, nsk_error *error) {
    nsk_value *out = nsk_graph_value(graph, node->output);
    size_t count = nsk_value_count(out);
    for (int i = 0; i < node->inputs; i++) {
        const nsk_value *v = nsk_node_input(graph, node, i);
        if (v != NULL && out->whole && node->op == NSK_OP_CONCAT && v->integers == NULL) {
            return nsk_fail(error, "node '%s' (%s): joins integers and other numbers", node->name,
                            nsk_op_name(node->op));
        }
    }
    if (evaluation_work(graph, node) > MOST_CONSTANT_WORK) {
        return nsk_fail(error, "node '%s' (%s): too large a constant", node->name,
                        nsk_op_name(node->op));
    }
    nsk_step s = {.graph = graph, .node = node};
    float *data = g_new0(float, count + 1);
    s.scratch = g_new(float, nsk_scratch_needed(graph, node) + 1);
    s.y = data;
    nsk_step_run(&s, NULL);
    g_free(s.scratch);
    if (out->whole) {
        out->integers = g_new0(int64_t, count + 1);
        evaluate_integers(&s, out->integers);
        for (size_t i = 0; i < count; i++) {
            data[i] = (float)out->integers[i];
        }
    }
    out->data = data;
    if (node->op == NSK_OP_DEQUANTIZE) {
        keep_steps(graph, node);
    }
    node->dead = true;
    return true;
}
