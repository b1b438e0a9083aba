#include "budget/cost_kind.h"

#include "device/layer.h"

const char *nsk_cost_kind_of(nsk_kind kind, int taps, bool square) {
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
    return kind == NSK_CONV && taps == 1                     ? "pointwise"
           : kind == NSK_DEPTHWISE && !(taps == 9 && square) ? "depthwise-any"
                                                             : names[kind];
}

const char *nsk_cost_kind(const nsk_model *model, unsigned layer) {
    nsk_layer l;
    nsk_layer_decode(model, layer, &l);
    return nsk_cost_kind_of(l.kind, l.kernel_height * l.kernel_width,
                            l.kernel_height == l.kernel_width);
}
