#include "graph/graph.h"

#include <math.h>
#include <stdio.h>
#include <string.h>

const char *nsk_op_name(nsk_op op) {
    static const char *const names[NSK_OPS] = {
#define NSK_OP_ROW(NAME, onnx, least, most, computed, reader, shape, kernel, lower) onnx,
#include "graph/ops.def"
    };
    return names[op];
}

static void free_value(gpointer data) {
    nsk_value *value = data;
    g_free(value->name);
    g_free(value->data);
    g_free(value->integers);
    g_free(value->steps);
    g_free(value);
}

static void free_node(gpointer data) {
    nsk_node *node = data;
    g_free(node->name);
    g_free(node->program);
    g_string_free(node->folded, TRUE);
    g_free(node);
}

nsk_graph *nsk_graph_new(void) {
    nsk_graph *graph = g_new0(nsk_graph, 1);
    graph->values = g_ptr_array_new_with_free_func(free_value);
    graph->nodes = g_ptr_array_new_with_free_func(free_node);
    graph->notes = g_ptr_array_new_with_free_func(g_free);
    graph->input = graph->output = NSK_NONE;
    for (int c = 0; c < 3; c++) {
        graph->input_gain[c] = 1.0;
    }
    return graph;
}

void nsk_graph_free(nsk_graph *graph) {
    if (graph == NULL) {
        return;
    }
    g_ptr_array_free(graph->values, TRUE);
    g_ptr_array_free(graph->nodes, TRUE);
    g_ptr_array_free(graph->notes, TRUE);
    for (int i = 0; i < NSK_FACTS; i++) {
        g_free(graph->facts[i]);
    }
    g_free(graph);
}

static nsk_value *copy_of_value(const nsk_value *v) {
    nsk_value *copy = g_memdup2(v, sizeof *v);
    size_t count = v->data != NULL || v->integers != NULL ? nsk_value_count(v) : 0;
    copy->name = g_strdup(v->name);
    copy->data = g_memdup2(v->data, count * sizeof *v->data);
    copy->integers = g_memdup2(v->integers, count * sizeof *v->integers);
    copy->steps = g_memdup2(v->steps, (size_t)v->step_count * sizeof *v->steps);
    return copy;
}

static nsk_node *copy_of_node(const nsk_node *node) {
    nsk_node *copy = g_memdup2(node, sizeof *node);
    copy->name = g_strdup(node->name);
    copy->program = node->program != NULL ? g_memdup2(node->program, sizeof *node->program) : NULL;
    copy->folded = g_string_new(node->folded->str);
    return copy;
}

nsk_graph *nsk_graph_copy(const nsk_graph *graph) {
    nsk_graph *copy = nsk_graph_new();
    GPtrArray *values = copy->values;
    GPtrArray *nodes = copy->nodes;
    GPtrArray *notes = copy->notes;
    *copy = *graph;
    copy->values = values;
    copy->nodes = nodes;
    copy->notes = notes;
    for (int i = 0; i < (int)graph->values->len; i++) {
        g_ptr_array_add(values, copy_of_value(nsk_graph_value(graph, i)));
    }
    for (int i = 0; i < (int)graph->nodes->len; i++) {
        g_ptr_array_add(nodes, copy_of_node(nsk_graph_node(graph, i)));
    }
    for (guint i = 0; i < graph->notes->len; i++) {
        g_ptr_array_add(notes, g_strdup(graph->notes->pdata[i]));
    }
    for (int i = 0; i < NSK_FACTS; i++) {
        copy->facts[i] = g_strdup(graph->facts[i]);
    }
    return copy;
}

nsk_value *nsk_graph_value(const nsk_graph *graph, int value) {
    return g_ptr_array_index(graph->values, value);
}

nsk_node *nsk_graph_node(const nsk_graph *graph, int node) {
    return g_ptr_array_index(graph->nodes, node);
}

int nsk_graph_add_value(nsk_graph *graph, const char *name) {
    nsk_value *value = g_new0(nsk_value, 1);
    value->name = g_strdup(name);
    value->producer = NSK_NONE;
    g_ptr_array_add(graph->values, value);
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
    nsk_node *node = g_new0(nsk_node, 1);
    node->op = op;
    node->name = g_strdup(name);
    node->output = output;
    node->low = -INFINITY;
    node->high = INFINITY;
    node->folded = g_string_new("");
    g_ptr_array_add(graph->nodes, node);
    return nsk_graph_value(graph, output)->producer = (int)graph->nodes->len - 1;
}

int nsk_graph_append(nsk_graph *graph, nsk_op op, const char *name, int count, const int *inputs) {
    int output = nsk_graph_add_value(graph, name);
    nsk_node *node = nsk_graph_node(graph, nsk_graph_add_node(graph, op, name, output));
    memcpy(node->input, inputs, (size_t)count * sizeof *inputs);
    node->inputs = count;
    return output;
}

static int add_shaped(nsk_graph *graph, const char *name, int rank, const int64_t *dims) {
    int index = nsk_graph_add_value(graph, name);
    nsk_value *value = nsk_graph_value(graph, index);
    value->rank = rank;
    for (int i = 0; i < rank; i++) {
        value->dims[i] = dims[i];
    }
    value->shaped = true;
    return index;
}

int nsk_graph_add_constant(nsk_graph *graph, const char *name, int rank, const int64_t *dims,
                           float *data) {
    int index = add_shaped(graph, name, rank, dims);
    nsk_graph_value(graph, index)->data = data;
    return index;
}

int nsk_graph_add_integers(nsk_graph *graph, const char *name, int rank, const int64_t *dims,
                           int64_t *integers) {
    int index = add_shaped(graph, name, rank, dims);
    nsk_value *value = nsk_graph_value(graph, index);
    size_t count = nsk_value_count(value);
    value->integers = integers;
    value->whole = true;
    value->data = g_new0(float, count + 1);
    for (size_t i = 0; i < count; i++) {
        value->data[i] = (float)integers[i];
    }
    return index;
}

int nsk_graph_add_list(nsk_graph *graph, const char *name, int count, const int64_t *numbers) {
    const int64_t size = count;
    int64_t *copy = g_new(int64_t, (gsize)count + 1);
    memcpy(copy, numbers, (size_t)count * sizeof *copy);
    return nsk_graph_add_integers(graph, name, 1, &size, copy);
}

bool nsk_graph_is_constant(const nsk_graph *graph, int value) {
    if (value == NSK_NONE) {
        return false;
    }
    const nsk_value *v = nsk_graph_value(graph, value);
    return v->data != NULL || v->integers != NULL;
}

nsk_node *nsk_graph_producer(const nsk_graph *graph, int value) {
    int producer = nsk_graph_value(graph, value)->producer;
    return producer == NSK_NONE ? NULL : nsk_graph_node(graph, producer);
}

void nsk_graph_bypass(nsk_graph *graph, nsk_node *node, int value) {
    for (int i = 0; i < (int)graph->nodes->len; i++) {
        nsk_node *reader = nsk_graph_node(graph, i);
        for (int k = 0; k < reader->inputs; k++) {
            reader->input[k] = reader->input[k] == node->output ? value : reader->input[k];
        }
    }
    graph->output = graph->output == node->output ? value : graph->output;
    node->dead = true;
    const nsk_value *gone = nsk_graph_value(graph, node->output);
    nsk_value *stays = nsk_graph_value(graph, value);
    if (gone->pinned || gone->pinned_wide) { /* the levels were those of what is read now */
        stays->pinned = gone->pinned;
        stays->pinned_wide = gone->pinned_wide;
        stays->fine = gone->fine;
        stays->pinned_scale = gone->pinned_scale;
        stays->pinned_zero = gone->pinned_zero;
    }
}

/* Puts the node behind all that it reads from, and them before it. */
static void place(nsk_graph *graph, int index, GPtrArray *order, bool *seen) {
    nsk_node *node = nsk_graph_node(graph, index);
    seen[index] = true;
    for (int k = 0; k < node->inputs; k++) {
        int producer = node->input[k] == NSK_NONE
                           ? NSK_NONE
                           : nsk_graph_value(graph, node->input[k])->producer;
        if (producer != NSK_NONE && !seen[producer] && !nsk_graph_node(graph, producer)->dead) {
            place(graph, producer, order, seen);
        }
    }
    g_ptr_array_add(order, node);
}

void nsk_graph_sort(nsk_graph *graph) {
    bool *seen = g_new0(bool, graph->nodes->len + 1);
    GPtrArray *order = g_ptr_array_new_with_free_func(free_node);
    int last = nsk_graph_value(graph, graph->output)->producer;
    if (last != NSK_NONE && !nsk_graph_node(graph, last)->dead) {
        place(graph, last, order, seen);
    }
    for (int i = 0; i < (int)graph->nodes->len; i++) {
        if (!seen[i]) {
            nsk_graph_value(graph, nsk_graph_node(graph, i)->output)->producer = NSK_NONE;
            free_node(nsk_graph_node(graph, i));
        }
    }
    for (int i = 0; i < (int)order->len; i++) {
        const nsk_node *node = g_ptr_array_index(order, i);
        nsk_graph_value(graph, node->output)->producer = i;
    }
    g_ptr_array_set_free_func(graph->nodes, NULL);
    g_ptr_array_free(graph->nodes, TRUE);
    graph->nodes = order;
    g_free(seen);
}

void nsk_node_note(nsk_node *into, const nsk_node *gone) {
    g_string_append_printf(into->folded, "%s%s", into->folded->len > 0 ? ", " : "", gone->name);
    if (gone->folded->len > 0) {
        g_string_append_printf(into->folded, ", %s", gone->folded->str);
    }
}

void nsk_graph_note(const nsk_graph *graph, const char *format, ...) {
    va_list arguments;
    va_start(arguments, format);
    g_ptr_array_add(graph->notes, g_strdup_vprintf(format, arguments));
    va_end(arguments);
}

const char *nsk_node_kind(const nsk_node *node) {
    bool single = node->op == NSK_OP_FUNCTION && node->program->count == 1;
    return single ? nsk_function_name(node->program->steps[0].fn) : nsk_op_name(node->op);
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
    return axis_taps(w, 0, nsk_value_rows(in), nsk_value_rows(out)) *
           axis_taps(w, 1, nsk_value_columns(in), nsk_value_columns(out));
}

uint64_t nsk_node_macs(const nsk_graph *graph, const nsk_node *node) {
    const nsk_value *in = nsk_node_input(graph, node, 0);
    const nsk_value *out = nsk_graph_value(graph, node->output);
    switch (node->op) {
    case NSK_OP_CONV:
        return window_taps(graph, node) *
               (uint64_t)(out->dims[1] * (in->dims[1] / node->attributes.window.groups));
    case NSK_OP_CONV_TRANSPOSE: /* every input meets every tap of its group */
        return nsk_value_count(in) * nsk_value_count(nsk_node_input(graph, node, 1)) /
               (uint64_t)in->dims[1];
    case NSK_OP_GEMM:
        return nsk_value_count(out) *
               (uint64_t)in->dims[node->attributes.transpose_a ? 0 : in->rank - 1];
    case NSK_OP_MATMUL:
        return nsk_value_count(out) * (uint64_t)in->dims[in->rank - 1];
    default:
        return 0;
    }
}

uint64_t nsk_node_parameters(const nsk_graph *graph, const nsk_node *node) {
    uint64_t parameters = 0;
    for (int i = 0; i < node->inputs; i++) {
        const nsk_value *in = nsk_node_input(graph, node, i);
        parameters += in != NULL && in->data != NULL && !in->whole ? nsk_value_count(in) : 0;
    }
    return parameters;
}
