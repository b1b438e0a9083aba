/* One node's work: the kernel of its operator, and the clamp that ends it. */
#include <math.h>

#include "float/kernel.h"

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
