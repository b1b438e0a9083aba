/* Resizes that the device has no layer for are products with constant tables, an axis at a time. */
#include <string.h>

#include "graph/resize.h"
#include "rewrite/rewriting.h"

/* Swaps the axis with the last one. */
static int swapped(nsk_rewriting *r, int value, int axis) {
    nsk_attributes a = {.listed = nsk_graph_value(r->graph, value)->rank};
    for (int i = 0; i < a.listed; i++) {
        a.list[i] = i;
    }
    a.list[axis] = a.listed - 1;
    a.list[a.listed - 1] = axis;
    return axis == a.listed - 1 ? value : nsk_rewriting_append(r, NSK_OP_TRANSPOSE, 1, &value, &a);
}

/* The table as MatMul wants it: [input][output]. Takes over `shares`. */
static int table_of(nsk_rewriting *r, float *shares, int64_t in, int64_t out) {
    const int64_t dims[2] = {in, out};
    float *table = g_new(float, (gsize)(in * out));
    for (int64_t i = 0; i < in * out; i++) {
        table[i] = shares[i % out * in + i / out];
    }
    g_free(shares);
    return nsk_rewriting_constant(r, 2, dims, table);
}

void nsk_write_out_resize(nsk_rewriting *r) {
    const nsk_value out = *nsk_graph_value(r->graph, r->node->output);
    int value = r->node->input[0];
    if (nsk_resize_blends(r->graph, r->node)) {
        return;
    }
    for (int axis = 0; axis < out.rank && r->good; axis++) {
        float *shares = nsk_resize_shares(r->graph, r->node, axis);
        if (shares == NULL) {
            continue;
        }
        const int64_t in = nsk_graph_value(r->graph, value)->dims[axis];
        const int inputs[2] = {swapped(r, value, axis), table_of(r, shares, in, out.dims[axis])};
        value = swapped(r, nsk_rewriting_append(r, NSK_OP_MATMUL, 2, inputs, NULL), axis);
    }
    if (r->good) {
        nsk_rewriting_finish(r, value);
    }
}
