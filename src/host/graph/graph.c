#include "graph/graph.h"

#include <math.h>
#include <stdio.h>
#include <string.h>

const char *nsk_op_name(nsk_op op) {
    static const char *const names[NSK_OPS] = {
        [NSK_OP_ADD] = "Add",
        [NSK_OP_AVERAGE_POOL] = "AveragePool",
        [NSK_OP_BATCH_NORM] = "BatchNormalization",
        [NSK_OP_CLIP] = "Clip",
        [NSK_OP_CONSTANT] = "Constant",
        [NSK_OP_CONV] = "Conv",
        [NSK_OP_DROPOUT] = "Dropout",
        [NSK_OP_FLATTEN] = "Flatten",
        [NSK_OP_GEMM] = "Gemm",
        [NSK_OP_GLOBAL_AVERAGE_POOL] = "GlobalAveragePool",
        [NSK_OP_GLOBAL_MAX_POOL] = "GlobalMaxPool",
        [NSK_OP_IDENTITY] = "Identity",
        [NSK_OP_MATMUL] = "MatMul",
        [NSK_OP_MAX_POOL] = "MaxPool",
        [NSK_OP_MUL] = "Mul",
        [NSK_OP_PAD] = "Pad",
        [NSK_OP_RELU] = "Relu",
        [NSK_OP_RESHAPE] = "Reshape",
        [NSK_OP_SOFTMAX] = "Softmax",
    };
    return names[op];
}

nsk_graph *nsk_graph_new(void) {
    nsk_graph *graph = g_new0(nsk_graph, 1);
    graph->values = g_array_new(FALSE, TRUE, sizeof(nsk_value));
    graph->nodes = g_array_new(FALSE, TRUE, sizeof(nsk_node));
    graph->input = graph->output = NSK_NONE;
    return graph;
}

void nsk_graph_free(nsk_graph *graph) {
    if (graph == NULL) {
        return;
    }
    for (int i = 0; i < (int)graph->values->len; i++) {
        nsk_value *value = nsk_graph_value(graph, i);
        g_free(value->name);
        g_free(value->data);
        g_free(value->integers);
    }
    for (int i = 0; i < (int)graph->nodes->len; i++) {
        nsk_node *node = nsk_graph_node(graph, i);
        g_free(node->name);
        g_string_free(node->folded, TRUE);
    }
    g_array_free(graph->values, TRUE);
    g_array_free(graph->nodes, TRUE);
    g_free(graph);
}

nsk_value *nsk_graph_value(const nsk_graph *graph, int value) {
    return &g_array_index(graph->values, nsk_value, value);
}

nsk_node *nsk_graph_node(const nsk_graph *graph, int node) {
    return &g_array_index(graph->nodes, nsk_node, node);
}

int nsk_graph_add_value(nsk_graph *graph, const char *name) {
    nsk_value value = {.name = g_strdup(name), .producer = NSK_NONE};
    g_array_append_val(graph->values, value);
    return (int)graph->values->len - 1;
}

int nsk_graph_find_value(const nsk_graph *graph, const char *name) {
    for (int i = 0; i < (int)graph->values->len; i++) {
        if (strcmp(nsk_graph_value(graph, i)->name, name) == 0) {
            return i;
        }
    }
    return NSK_NONE;
}

int nsk_graph_add_node(nsk_graph *graph, nsk_op op, const char *name, int output) {
    nsk_node node = {.op = op, .name = g_strdup(name), .output = output};
    node.low = -INFINITY;
    node.high = INFINITY;
    node.attributes.constant = NSK_NONE;
    node.folded = g_string_new("");
    g_array_append_val(graph->nodes, node);
    int index = (int)graph->nodes->len - 1;
    nsk_graph_value(graph, output)->producer = index;
    return index; /* cppcheck-suppress memleak; the array holds what the node points to */
}

bool nsk_graph_is_constant(const nsk_graph *graph, int value) {
    if (value == NSK_NONE) {
        return false;
    }
    const nsk_value *v = nsk_graph_value(graph, value);
    return v->data != NULL || v->integers != NULL;
}

int nsk_graph_readers(const nsk_graph *graph, int value) {
    int readers = graph->output == value;
    for (int i = 0; i < (int)graph->nodes->len; i++) {
        const nsk_node *node = nsk_graph_node(graph, i);
        for (int k = 0; k < node->inputs && !node->dead; k++) {
            readers += node->input[k] == value;
        }
    }
    return readers;
}

const nsk_value *nsk_node_input(const nsk_graph *graph, const nsk_node *node, int index) {
    return index < node->inputs && node->input[index] != NSK_NONE
               ? nsk_graph_value(graph, node->input[index])
               : NULL;
}

size_t nsk_value_count(const nsk_value *value) {
    size_t count = 1;
    for (int i = 0; i < value->rank; i++) {
        count *= (size_t)value->dims[i];
    }
    return count;
}

const char *nsk_value_text(const nsk_value *value, char *buffer, size_t size) {
    size_t used = 0;
    g_strlcpy(buffer, value->rank == 0 ? "a single number" : "", size);
    for (int i = 0; i < value->rank && used < size; i++) {
        int more = snprintf(buffer + used, size - used, "%s%" G_GINT64_FORMAT, i > 0 ? " x " : "",
                            value->dims[i]);
        used += more > 0 ? (size_t)more : 0;
    }
    return buffer;
}

/* Taps of one axis that meet the picture, over all outputs. */
static uint64_t axis_taps(const nsk_window_attributes *w, int axis, int64_t in, int64_t out) {
    uint64_t taps = 0;
    for (int64_t i = 0; i < out; i++) {
        for (int64_t k = 0; k < w->kernel[axis]; k++) {
            int64_t at = i * w->stride[axis] - w->pad_before[axis] + k * w->dilation[axis];
            taps += at >= 0 && at < in;
        }
    }
    return taps;
}

static uint64_t window_taps(const nsk_graph *graph, const nsk_node *node) {
    const nsk_value *in = nsk_node_input(graph, node, 0);
    const nsk_value *out = nsk_graph_value(graph, node->output);
    const nsk_window_attributes *w = &node->attributes.window;
    return axis_taps(w, 0, in->dims[2], out->dims[2]) * axis_taps(w, 1, in->dims[3], out->dims[3]);
}

uint64_t nsk_node_macs(const nsk_graph *graph, const nsk_node *node) {
    const nsk_value *in = nsk_node_input(graph, node, 0);
    const nsk_value *out = nsk_graph_value(graph, node->output);
    switch (node->op) {
    case NSK_OP_CONV:
        return window_taps(graph, node) *
               (uint64_t)(out->dims[1] * (in->dims[1] / node->attributes.window.groups));
    case NSK_OP_GEMM:
    case NSK_OP_MATMUL:
        return nsk_value_count(nsk_node_input(graph, node, 1));
    default:
        return 0;
    }
}

uint64_t nsk_node_parameters(const nsk_graph *graph, const nsk_node *node) {
    uint64_t parameters = 0;
    for (int i = 0; i < node->inputs; i++) {
        const nsk_value *in = nsk_node_input(graph, node, i);
        parameters += in != NULL && in->data != NULL ? nsk_value_count(in) : 0;
    }
    return parameters;
}
