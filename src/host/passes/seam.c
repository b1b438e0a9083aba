#include "passes/seam.h"

#include <math.h>

#include "float/forward.h"

/* ---- the weights of a layer, by channel ---- */

bool nsk_seam_weights_of(const nsk_graph *g, const nsk_node *node, nsk_seam_weights *w) {
    bool conv = node->op == NSK_OP_CONV;
    if ((!conv && node->op != NSK_OP_GEMM) || node->inputs < 2 ||
        !nsk_graph_is_constant(g, node->input[1])) {
        return false;
    }
    w->value = nsk_graph_value(g, node->input[1]);
    const int64_t *dims = w->value->dims;
    w->turned = !conv && !node->attributes.transpose_b;
    w->outputs = (int)dims[w->turned ? 1 : 0];
    w->inputs = (int)dims[w->turned ? 0 : 1];
    w->groups = conv ? (int)node->attributes.window.groups : 1;
    w->taps = (int)(nsk_value_count(w->value) / ((size_t)w->outputs * (size_t)w->inputs));
    return nsk_graph_readers(g, node->input[1]) == 1 && w->value->steps == NULL &&
           w->value->data != NULL && (conv || !node->attributes.transpose_a);
}

float *nsk_seam_weight(const nsk_seam_weights *w, int output, int input, int tap) {
    size_t at = w->turned ? (size_t)input * (size_t)w->outputs + (size_t)output
                          : ((size_t)output * (size_t)w->inputs + (size_t)input) * (size_t)w->taps +
                                (size_t)tap;
    return &w->value->data[at];
}

int nsk_seam_channel(const nsk_seam_weights *w, int output, int input) {
    return output / (w->outputs / w->groups) * w->inputs + input;
}

/* ---- finding seams ---- */

/* Multiplying its input by a positive number multiplies its output, channel by channel. */
static bool passes_channels(const nsk_graph *g, const nsk_node *node) {
    switch (node->op) {
    case NSK_OP_MAX_POOL:
    case NSK_OP_AVERAGE_POOL:
    case NSK_OP_GLOBAL_AVERAGE_POOL:
    case NSK_OP_GLOBAL_MAX_POOL:
    case NSK_OP_RELU:
        return true;
    case NSK_OP_FLATTEN:
    case NSK_OP_RESHAPE: { /* of one pixel */
        const nsk_value *in = nsk_node_input(g, node, 0);
        return in->rank == 4 && in->dims[2] == 1 && in->dims[3] == 1;
    }
    default:
        return false;
    }
}

/* Zeroes around the picture: not what a channel that was shifted would have there. */
static bool is_padded(const nsk_node *node) {
    const nsk_window_attributes *w = &node->attributes.window;
    bool window = node->op == NSK_OP_CONV || node->op == NSK_OP_AVERAGE_POOL;
    return window && w->pad_before[0] + w->pad_before[1] + w->pad_after[0] + w->pad_after[1] > 0;
}

/* Clamps below at nothing but zero; above, the least counts. */
static bool take_clamp(const nsk_graph *g, const nsk_node *node, nsk_seam *s) {
    double low;
    double high;
    nsk_clamp_of(g, node, &low, &high);
    s->clip = fmin(s->clip, high);
    s->floor = fmax(s->floor, low);
    return isinf(low) || fabs(low) <= 0.0;
}

static nsk_node *only_reader(const nsk_graph *g, int value) {
    nsk_node *found = NULL;
    if (nsk_graph_readers(g, value) != 1 || value == g->output) {
        return NULL;
    }
    for (int i = 0; i < (int)g->nodes->len; i++) {
        nsk_node *node = nsk_graph_node(g, i);
        if (!node->dead && node->input[0] == value) {
            found = node;
        }
    }
    return found;
}

static bool bias_is_own(const nsk_graph *g, const nsk_node *node) {
    return node->inputs < 3 || node->input[2] == NSK_NONE ||
           (nsk_graph_is_constant(g, node->input[2]) && nsk_graph_readers(g, node->input[2]) == 1);
}

bool nsk_seam_find(const nsk_graph *g, nsk_node *first, nsk_seam *s) {
    nsk_seam_weights a;
    nsk_seam_weights b;
    *s = (nsk_seam){.first = first, .clip = INFINITY, .floor = -INFINITY};
    if (first->dead || !nsk_seam_weights_of(g, first, &a) || !bias_is_own(g, first) ||
        !take_clamp(g, first, s) || nsk_graph_value(g, first->output)->pinned) {
        return false;
    }
    nsk_node *next = only_reader(g, first->output);
    while (next != NULL && passes_channels(g, next) && take_clamp(g, next, s)) {
        s->padded = s->padded || is_padded(next);
        next = only_reader(g, next->output);
    }
    if (next == NULL || !nsk_seam_weights_of(g, next, &b) || !bias_is_own(g, next) ||
        a.outputs != b.inputs * b.groups) {
        return false;
    }
    s->padded = s->padded || is_padded(next);
    s->second = next;
    s->channels = a.outputs;
    return true;
}

float *nsk_seam_biases(nsk_graph *g, nsk_node *node, int channels) {
    if (node->inputs < 3 || node->input[2] == NSK_NONE) {
        const int64_t dims[] = {channels};
        char *name = g_strdup_printf("%s (bias added)", node->name);
        node->input[2] = nsk_graph_add_constant(g, name, 1, dims, g_new0(float, channels));
        node->inputs = MAX(node->inputs, 3);
        g_free(name);
    }
    nsk_value *bias = nsk_graph_value(g, node->input[2]);
    return nsk_value_count(bias) == (size_t)channels ? bias->data : NULL;
}
