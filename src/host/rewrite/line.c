/* Windows along a line, written out in windows over rows and columns. */
#include <string.h>

#include "rewrite/rewriting.h"

/* A line (batch, channels, length) is a picture of one row, and so is a kernel. */
static int as_picture(nsk_rewriting *r, int value) {
    const nsk_value *v = nsk_graph_value(r->graph, value);
    const int64_t dims[4] = {v->dims[0], v->dims[1], 1, v->dims[2]};
    return nsk_rewriting_reshape(r, value, 4, dims);
}

void nsk_write_out_line(nsk_rewriting *r) {
    nsk_value out = *nsk_graph_value(r->graph, r->node->output);
    nsk_attributes attributes = r->node->attributes;
    int inputs[NSK_MOST_INPUTS];
    if (out.rank != 3) {
        return;
    }
    memcpy(inputs, r->node->input, sizeof inputs);
    inputs[0] = as_picture(r, inputs[0]);
    if (r->node->op == NSK_OP_CONV) {
        inputs[1] = as_picture(r, inputs[1]);
    }
    attributes.window.axes = 0;
    int done = nsk_rewriting_append(r, r->node->op, r->node->inputs, inputs, &attributes);
    nsk_rewriting_finish(r, nsk_rewriting_reshape(r, done, 3, out.dims));
}
