#include "rewrite/rewriting.h"

#include <math.h>

#include "float/forward.h"

char *nsk_rewriting_name(nsk_rewriting *r) {
    return g_strdup_printf("%s:%d", r->node->name, ++r->made);
}

/* A new node, its shape inferred; returns its output. */
int nsk_rewriting_append(nsk_rewriting *r, nsk_op op, int count, const int *inputs,
                         const nsk_attributes *attributes) {
    char *name = nsk_rewriting_name(r);
    int output = nsk_graph_append(r->graph, op, name, count, inputs);
    nsk_node *node = nsk_graph_producer(r->graph, output);
    if (attributes != NULL) {
        node->attributes = *attributes;
    }
    r->good = r->good && nsk_infer_node(r->graph, node, nsk_evaluate, r->error);
    g_free(name);
    return output;
}

int nsk_rewriting_function(nsk_rewriting *r, int input, nsk_function_step step) {
    char *name = nsk_rewriting_name(r);
    int output = nsk_graph_append(r->graph, NSK_OP_FUNCTION, name, 1, &input);
    nsk_node *node = nsk_graph_producer(r->graph, output);
    node->program = g_new0(nsk_program, 1);
    node->program->count = 1;
    node->program->steps[0] = step;
    r->good = r->good && nsk_infer_node(r->graph, node, nsk_evaluate, r->error);
    g_free(name);
    return output;
}

int nsk_rewriting_pair(nsk_rewriting *r, nsk_op op, int left, int right) {
    const int inputs[2] = {left, right};
    return nsk_rewriting_append(r, op, 2, inputs, NULL);
}

int nsk_rewriting_constant(nsk_rewriting *r, int rank, const int64_t *dims, float *data) {
    char *name = nsk_rewriting_name(r);
    int index = nsk_graph_add_constant(r->graph, name, rank, dims, data);
    g_free(name);
    return index;
}

int nsk_rewriting_list(nsk_rewriting *r, int count, const int64_t *numbers) {
    char *name = nsk_rewriting_name(r);
    int index = nsk_graph_add_list(r->graph, name, count, numbers);
    g_free(name);
    return index;
}

/* The last node of those that replace r->node: it takes over its output, name and clamp. */
void nsk_rewriting_finish(nsk_rewriting *r, int value) {
    nsk_node *last = nsk_graph_producer(r->graph, value);
    if (last != NULL && value != r->node->input[0]) {
        g_free(last->name);
        last->name = g_strdup(r->node->name);
        last->low = r->node->low;
        last->high = r->node->high;
    }
    nsk_graph_bypass(r->graph, r->node, value);
}

int nsk_rewriting_reshape(nsk_rewriting *r, int value, int rank, const int64_t *dims) {
    const int inputs[2] = {value, nsk_rewriting_list(r, rank, dims)};
    return nsk_rewriting_append(r, NSK_OP_RESHAPE, 2, inputs, NULL);
}

/* The constant, each element run through a function. */
int nsk_rewriting_mapped(nsk_rewriting *r, int value, nsk_function_step step) {
    const nsk_value *v = nsk_graph_value(r->graph, value);
    size_t count = nsk_value_count(v);
    float *data = g_new(float, count + 1);
    for (size_t i = 0; i < count; i++) {
        data[i] = (float)nsk_function_at(&step, (double)v->data[i], 0.0);
    }
    return nsk_rewriting_constant(r, v->rank, v->dims, data);
}

const nsk_node *nsk_maker_of(const nsk_graph *graph, int value, nsk_op op) {
    const nsk_node *node = nsk_graph_producer(graph, value);
    bool is =
        node != NULL && !node->dead && node->op == op && isinf(node->low) && isinf(node->high);
    return is ? node : NULL;
}

bool nsk_single_number(const nsk_graph *graph, int value, double *number) {
    const nsk_value *v = value != NSK_NONE ? nsk_graph_value(graph, value) : NULL;
    bool is = v != NULL && v->data != NULL && nsk_value_count(v) == 1;
    *number = is ? (double)v->data[0] : 0.0;
    return is;
}

bool nsk_rewriting_apply(nsk_graph *graph, nsk_rewriter *const *rewrites, nsk_error *error) {
    for (int i = 0; i < (int)graph->nodes->len; i++) {
        nsk_rewriting r = {graph, nsk_graph_node(graph, i), 0, error, true};
        if (!r.node->dead && rewrites[r.node->op] != NULL) {
            rewrites[r.node->op](&r);
        }
        if (!r.good) {
            return false;
        }
    }
    nsk_graph_sort(graph);
    return true;
}
