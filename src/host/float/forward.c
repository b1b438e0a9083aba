#include "float/forward.h"

#include <math.h>
#include <string.h>

#include "float/kernel.h"

struct nsk_pass {
    const nsk_graph *graph;
    float **memory; /* one a value; NULL for constants */
    float *scratch;
    bool *changed; /* nsk_pass_run_behind: which values */
};

/* Weights are prepared by constants of constants; more work than this is a mistake or an attack. */
static const double MOST_CONSTANT_WORK = 1 << 26;

/* Relu and Clip only copy: the clamp behind every node does their work. */
static nsk_float_kernel *const kernels[NSK_OPS] = {
    [NSK_OP_ADD] = nsk_float_pair,
    [NSK_OP_AVERAGE_POOL] = nsk_float_average_pool,
    [NSK_OP_BATCH_NORM] = nsk_float_batch_norm,
    [NSK_OP_CAST] = nsk_float_copy,
    [NSK_OP_CLIP] = nsk_float_copy,
    [NSK_OP_CONCAT] = nsk_float_concat,
    [NSK_OP_CONSTANT_OF_SHAPE] = nsk_float_fill,
    [NSK_OP_CONV] = nsk_float_conv,
    [NSK_OP_CONV_TRANSPOSE] = nsk_float_conv_transpose,
    [NSK_OP_DEPTH_TO_SPACE] = nsk_float_gather,
    [NSK_OP_DEQUANTIZE] = nsk_float_dequantize,
    [NSK_OP_DIV] = nsk_float_pair,
    [NSK_OP_DROPOUT] = nsk_float_copy,
    [NSK_OP_EXPAND] = nsk_float_gather,
    [NSK_OP_FLATTEN] = nsk_float_copy,
    [NSK_OP_FUNCTION] = nsk_float_function,
    [NSK_OP_GATHER] = nsk_float_gather,
    [NSK_OP_GEMM] = nsk_float_gemm,
    [NSK_OP_GLOBAL_AVERAGE_POOL] = nsk_float_average_pool,
    [NSK_OP_GLOBAL_MAX_POOL] = nsk_float_max_pool,
    [NSK_OP_IDENTITY] = nsk_float_copy,
    [NSK_OP_LOG_SOFTMAX] = nsk_float_log_softmax,
    [NSK_OP_LRN] = nsk_float_lrn,
    [NSK_OP_MATMUL] = nsk_float_matmul,
    [NSK_OP_MAX] = nsk_float_pair,
    [NSK_OP_MAX_POOL] = nsk_float_max_pool,
    [NSK_OP_MIN] = nsk_float_pair,
    [NSK_OP_MUL] = nsk_float_pair,
    [NSK_OP_PAD] = nsk_float_gather,
    [NSK_OP_POW] = nsk_float_pair,
    [NSK_OP_PRELU] = nsk_float_prelu,
    [NSK_OP_QUANTIZE] = nsk_float_quantize,
    [NSK_OP_RANGE] = nsk_float_range,
    [NSK_OP_REDUCE_MAX] = nsk_float_reduce,
    [NSK_OP_REDUCE_MEAN] = nsk_float_reduce,
    [NSK_OP_REDUCE_MIN] = nsk_float_reduce,
    [NSK_OP_REDUCE_SUM] = nsk_float_reduce,
    [NSK_OP_RELU] = nsk_float_copy,
    [NSK_OP_RESHAPE] = nsk_float_copy,
    [NSK_OP_RESIZE] = nsk_float_resize,
    [NSK_OP_SLICE] = nsk_float_gather,
    [NSK_OP_SOFTMAX] = nsk_float_softmax,
    [NSK_OP_SPACE_TO_DEPTH] = nsk_float_gather,
    [NSK_OP_SPLIT] = nsk_float_gather,
    [NSK_OP_SQUEEZE] = nsk_float_copy,
    [NSK_OP_SUB] = nsk_float_pair,
    [NSK_OP_TILE] = nsk_float_gather,
    [NSK_OP_TRANSPOSE] = nsk_float_gather,
    [NSK_OP_UNSQUEEZE] = nsk_float_copy,
};

static double bound_of(const nsk_graph *graph, const nsk_node *node, int input, double otherwise) {
    const nsk_value *bound = nsk_node_input(graph, node, input);
    return bound != NULL ? (double)bound->data[0] : otherwise;
}

void nsk_clamp_of(const nsk_graph *graph, const nsk_node *node, double *low, double *high) {
    *low = node->low;
    *high = node->high;
    if (node->op == NSK_OP_RELU) {
        *low = fmax(*low, 0.0);
    } else if (node->op == NSK_OP_CLIP) {
        *low = fmax(*low, bound_of(graph, node, 1, -INFINITY));
        *high = fmin(*high, bound_of(graph, node, 2, INFINITY));
    }
}

static void clamp(const nsk_step *s) {
    double low;
    double high;
    nsk_clamp_of(s->graph, s->node, &low, &high);
    if (isinf(low) && isinf(high)) {
        return;
    }
    const float least = (float)low;
    const float most = (float)high;
    size_t count = nsk_value_count(s->out);
    for (size_t i = 0; i < count; i++) {
        float value = s->y[i] < least ? least : s->y[i]; /* keeps what is not a number */
        s->y[i] = value > most ? most : value;
    }
}

/* `memory`: where each computed value stands; NULL where all inputs are constants. */
static void run_step(nsk_step *s, float *const *memory) {
    for (int i = 0; i < s->node->inputs; i++) {
        const nsk_value *v = nsk_node_input(s->graph, s->node, i);
        s->inputs[i] = v != NULL ? v->data : NULL;
        if (v != NULL && v->data == NULL && memory != NULL) {
            s->inputs[i] = memory[s->node->input[i]];
        }
    }
    s->in = nsk_node_input(s->graph, s->node, 0);
    s->out = nsk_graph_value(s->graph, s->node->output);
    s->x = s->inputs[0];
    kernels[s->node->op](s);
    clamp(s);
}

/* ---- constants ---- */

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
    if (nsk_only_moves(s->node->op) && x != NULL) {
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
    } else if (kernels[s->node->op] == nsk_float_copy && x != NULL && s->node->op != NSK_OP_RELU &&
               s->node->op != NSK_OP_CLIP) {
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
    return outputs * each + (double)nsk_scratch_needed(graph, node);
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
    run_step(&s, NULL);
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
        nsk_keep_steps(graph, node);
    }
    node->dead = true;
    return true;
}

/* ---- a pass ---- */

/* Floats that one pass needs: every value is kept, so that any can be looked at afterwards. */
static bool fits_memory(const nsk_graph *graph, nsk_error *error) {
    const size_t MOST = (size_t)1 << 29;
    size_t total = 0;
    for (int i = 0; i < (int)graph->nodes->len; i++) {
        const nsk_node *node = nsk_graph_node(graph, i);
        size_t scratch = node->dead ? 0 : nsk_scratch_needed(graph, node);
        total += node->dead ? 0 : nsk_value_count(nsk_graph_value(graph, node->output));
        if (total > MOST || scratch > MOST) {
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
    size_t scratch = 1;
    pass->graph = graph;
    pass->changed = g_new0(bool, graph->values->len);
    pass->memory = g_new0(float *, graph->values->len);
    pass->memory[graph->input] =
        g_new0(float, nsk_value_count(nsk_graph_value(graph, graph->input)));
    for (int i = 0; i < (int)graph->nodes->len; i++) {
        const nsk_node *node = nsk_graph_node(graph, i);
        if (node->dead) {
            continue;
        }
        if (kernels[node->op] == NULL) {
            nsk_fail(error, "node '%s' (%s): no float form", node->name, nsk_op_name(node->op));
            nsk_pass_free(pass);
            return NULL;
        }
        scratch = MAX(scratch, nsk_scratch_needed(graph, node));
        pass->memory[node->output] =
            g_new0(float, nsk_value_count(nsk_graph_value(graph, node->output)));
    }
    pass->scratch = g_new(float, scratch);
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
    g_free(pass->scratch);
    g_free(pass->changed);
    g_free(pass);
}

float *nsk_pass_input(nsk_pass *pass) {
    return pass->memory[pass->graph->input];
}

static void run_node(nsk_pass *pass, const nsk_node *node) {
    nsk_step s = {.graph = pass->graph,
                  .node = node,
                  .y = pass->memory[node->output],
                  .scratch = pass->scratch};
    run_step(&s, pass->memory);
}

void nsk_pass_run(nsk_pass *pass) {
    for (int i = 0; i < (int)pass->graph->nodes->len; i++) {
        const nsk_node *node = nsk_graph_node(pass->graph, i);
        if (!node->dead) {
            run_node(pass, node);
        }
    }
}

void nsk_pass_run_changed(nsk_pass *pass, nsk_pass_change *change, const void *context) {
    const nsk_graph *g = pass->graph;
    change(context, g->input, pass->memory[g->input],
           nsk_value_count(nsk_graph_value(g, g->input)));
    for (int i = 0; i < (int)g->nodes->len; i++) {
        const nsk_node *node = nsk_graph_node(g, i);
        if (!node->dead) {
            run_node(pass, node);
            change(context, node->output, pass->memory[node->output],
                   nsk_value_count(nsk_graph_value(g, node->output)));
        }
    }
}

float *nsk_pass_memory(nsk_pass *pass, int value) {
    return pass->memory[value];
}

void nsk_pass_run_behind(nsk_pass *pass, int value) {
    bool *changed = pass->changed;
    memset(changed, 0, pass->graph->values->len * sizeof *changed);
    changed[value] = true;
    for (int i = 0; i < (int)pass->graph->nodes->len; i++) {
        const nsk_node *node = nsk_graph_node(pass->graph, i);
        bool depends = false;
        for (int k = 0; k < node->inputs && !node->dead; k++) {
            depends = depends || (node->input[k] != NSK_NONE && changed[node->input[k]]);
        }
        if (depends) {
            run_node(pass, node);
            changed[node->output] = true;
        }
    }
}

const float *nsk_pass_value(const nsk_pass *pass, int value) {
    const float *constant = nsk_graph_value(pass->graph, value)->data;
    return constant != NULL ? constant : pass->memory[value];
}

double nsk_prepared(const nsk_graph *graph, const nsk_input *input, size_t channel, double byte) {
    double value = (byte / 255.0 * input->top - input->mean[channel]) / input->deviation[channel];
    return value * graph->input_gain[channel] + graph->input_offset[channel];
}

void nsk_float_prepare(const nsk_graph *graph, const nsk_input *input, const uint8_t *frame,
                       float *planes) {
    size_t pixels = (size_t)input->width * (size_t)input->height;
    size_t channels = input->colour == NSK_GREY ? 1 : 3;
    for (size_t c = 0; c < channels; c++) {
        for (size_t i = 0; i < pixels; i++) {
            planes[c * pixels + i] =
                (float)nsk_prepared(graph, input, c, (double)frame[i * channels + c]);
        }
    }
}
