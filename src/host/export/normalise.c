/* A normalisation, written out in operators that every reader has. */
#include "export/exporter.h"
#include "export/function.h"
#include "graph/blocks.h"

/* What the next node reads; g_free. */
typedef struct chain {
    nsk_exporter *e;
    char *at;
} chain;

/* A node of `from`, and the name of what it gives. */
static Onnx__NodeProto *start(const chain *c, const char *op, const char *from, char **output) {
    *output = nsk_export_name(&c->e->fresh, "part");
    Onnx__NodeProto *n = nsk_onnx_put_node(c->e->maker, op, *output, *output);
    nsk_onnx_add_input(c->e->maker, n, from);
    return n;
}

static Onnx__NodeProto *go_on(chain *c, const char *op) {
    char *output;
    Onnx__NodeProto *n = start(c, op, c->at, &output);
    g_free(c->at);
    c->at = output;
    return n;
}

static void with_number(chain *c, const char *op, double number) {
    Onnx__NodeProto *n = go_on(c, op);
    nsk_export_number(c->e->maker, &c->e->fresh, n, number);
}

static void mean(chain *c, int64_t first, int64_t behind) {
    int64_t axes[NSK_MOST_RANK];
    for (int64_t i = first; i < behind; i++) {
        axes[i - first] = i;
    }
    Onnx__NodeProto *n = go_on(c, "ReduceMean");
    nsk_export_integers(c->e, n, behind - first, axes);
    nsk_onnx_add_int(c->e->maker, n, "keepdims", 1);
}

static void reshape(chain *c, int64_t rank, const int64_t *dims) {
    Onnx__NodeProto *n = go_on(c, "Reshape");
    nsk_export_integers(c->e, n, rank, dims);
}

/* The chain less its mean, over its deviation. */
static void standardise(chain *c, const nsk_attributes *a, int64_t first, int64_t behind) {
    char *whole = g_strdup(c->at);
    if (a->centred) {
        char *output;
        mean(c, first, behind);
        Onnx__NodeProto *n = start(c, "Sub", whole, &output);
        nsk_onnx_add_input(c->e->maker, n, c->at);
        g_free(whole);
        g_free(c->at);
        whole = output;
        c->at = g_strdup(whole);
    }
    Onnx__NodeProto *square = go_on(c, "Mul");
    nsk_onnx_add_input(c->e->maker, square, whole);
    mean(c, first, behind);
    with_number(c, "Add", a->epsilon);
    go_on(c, "Sqrt");
    if (a->alpha > 0.0) {
        with_number(c, "Add", a->alpha);
    }
    if (a->beta > 0.0) {
        with_number(c, "Max", a->beta);
    }
    char *output;
    Onnx__NodeProto *n = start(c, "Div", whole, &output);
    nsk_onnx_add_input(c->e->maker, n, c->at);
    g_free(whole);
    g_free(c->at);
    c->at = output;
}

/* Gains or offsets, in the axes that they stand for. */
static void with_constant(chain *c, const nsk_node *node, int input, const char *op) {
    const nsk_value *in = nsk_export_input(c->e, node, 0);
    const nsk_value *gains = nsk_export_input(c->e, node, input);
    if (gains == NULL) {
        return;
    }
    int64_t dims[NSK_MOST_RANK];
    const int64_t *axes = node->attributes.list;
    const bool single = nsk_value_count(gains) == 1;
    for (int i = 0; i < in->rank; i++) {
        bool along = node->attributes.by_channel ? i == 1 : i >= axes[0] && i < axes[1];
        dims[i] = along && !single ? in->dims[i] : 1;
    }
    char *name = nsk_export_name(&c->e->fresh, "numbers");
    nsk_onnx_put_floats(c->e->maker, name, in->rank, dims, gains->data);
    Onnx__NodeProto *n = go_on(c, op);
    nsk_onnx_add_input(c->e->maker, n, name);
    g_free(name);
}

bool nsk_export_normalise(nsk_exporter *e, const nsk_node *node, const char *output) {
    const nsk_attributes *a = &node->attributes;
    const nsk_value *in = nsk_export_input(e, node, 0);
    chain c = {e, g_strdup(nsk_export_name_of(e, node->input[0]))};
    if (a->size > 1) {
        const nsk_blocks b = nsk_blocks_of(e->graph, node);
        const int64_t dims[3] = {(int64_t)b.outer, (int64_t)b.run, (int64_t)b.inner};
        reshape(&c, 3, dims);
        standardise(&c, a, 1, 2);
        reshape(&c, in->rank, in->dims);
    } else {
        standardise(&c, a, a->list[0], a->list[1]);
    }
    with_constant(&c, node, 1, "Mul");
    with_constant(&c, node, 2, "Add");
    Onnx__NodeProto *n = nsk_onnx_put_node(e->maker, "Identity", node->name, output);
    nsk_onnx_add_input(e->maker, n, c.at);
    g_free(c.at);
    return true;
}
