/* One node's work: the kernel of its operator, and the clamp that ends it. */
#include <math.h>

#include "float/kernel.h"

/* Relu and Clip only copy: the clamp behind every node does their work. */
#define nsk_float_none NULL
static nsk_float_kernel *const kernels[NSK_OPS] = {
#define NSK_OP_ROW(NAME, onnx, least, most, computed, reader, shape, kernel, lower)                \
    nsk_float_##kernel,
#include "graph/ops.def"
};

nsk_float_kernel *nsk_kernel_of(nsk_op op) {
    return kernels[op];
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

void nsk_step_run(nsk_step *s, float *const *memory) {
    for (int i = 0; i < s->node->inputs; i++) {
        const nsk_value *v = nsk_node_input(s->graph, s->node, i);
        s->inputs[i] = v != NULL ? v->data : NULL;
        if (v != NULL && memory != NULL && memory[s->node->input[i]] != NULL) {
            s->inputs[i] = memory[s->node->input[i]]; /* computed, or lent for a constant */
        }
    }
    s->in = nsk_node_input(s->graph, s->node, 0);
    s->out = nsk_graph_value(s->graph, s->node->output);
    s->x = s->inputs[0];
    kernels[s->node->op](s);
    clamp(s);
}
