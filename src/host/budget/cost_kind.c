#include "budget/cost_kind.h"

#include "device/layer.h"

const char *nsk_kind_name(nsk_kind kind) {
    static const char *const names[NSK_KINDS] = {[NSK_CONV] = "conv",
                                                 [NSK_DEPTHWISE] = "depthwise",
                                                 [NSK_DENSE] = "dense",
                                                 [NSK_MAX_POOL] = "max-pool",
                                                 [NSK_AVERAGE_POOL] = "average-pool",
                                                 [NSK_ADD] = "add",
                                                 [NSK_MULTIPLY] = "multiply",
                                                 [NSK_TABLE] = "table",
                                                 [NSK_SOFTMAX] = "softmax",
                                                 [NSK_LARGER] = "larger",
                                                 [NSK_SMALLER] = "smaller",
                                                 [NSK_MOVE] = "move",
                                                 [NSK_CONSTANT] = "constant",
                                                 [NSK_RESIZE] = "resize",
                                                 [NSK_TRANSPOSED] = "transposed"};
    return names[kind];
}

/* Kernels of a core's own take the usual windows, and sixteen channels or more. */
static const char *depthwise_kind(const nsk_layer *l) {
    bool usual = l->kernel_height == 3 && l->kernel_width == 3 && l->dilate_down == 1 &&
                 l->dilate_across == 1 && l->stride_down == l->stride_across &&
                 l->stride_across <= 2 && l->in.channels == l->out.channels;
    bool few = l->out.channels < 16 || nsk_kernel_area(l) > 25 || l->in.channels != l->out.channels;
    return usual ? few ? "depthwise-few" : "depthwise"
           : few ? "depthwise-any-few"
                 : "depthwise-any";
}

const char *nsk_cost_kind(const nsk_model *model, unsigned layer) {
    nsk_layer l;
    nsk_layer_decode(model, layer, &l);
    return l.kind == NSK_DEPTHWISE                        ? depthwise_kind(&l)
           : l.kind == NSK_CONV && nsk_conv_is_direct(&l) ? "pointwise"
                                                          : nsk_kind_name(l.kind);
}
