#include "estimate/cost_kind.h"

#include <stdio.h>
#include <string.h>

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

const char *nsk_cost_kind_of(const nsk_layer *l) {
    return l->kind == NSK_DEPTHWISE                       ? depthwise_kind(l)
           : l->kind == NSK_CONV && nsk_conv_is_direct(l) ? "pointwise"
                                                          : nsk_kind_name(l->kind);
}

const char *nsk_cost_kind(const nsk_model *model, unsigned layer) {
    nsk_layer l;
    nsk_layer_decode(model, layer, &l);
    return nsk_cost_kind_of(&l);
}

const char *nsk_depth_group(const nsk_model *model, unsigned layer) {
    nsk_layer l;
    nsk_layer_decode(model, layer, &l);
    return layer < model->streamed     ? "stack-streamed"
           : nsk_writes_over_input(&l) ? "stack-over"
                                       : "stack";
}

const char *nsk_depth_kind(const nsk_model *model, unsigned layer, char *text) {
    nsk_layer l;
    nsk_layer_decode(model, layer, &l);
    bool weighs = l.kind == NSK_CONV || l.kind == NSK_DENSE || l.kind == NSK_DEPTHWISE;
    bool whole = strcmp(nsk_depth_group(model, layer), "stack") == 0;
    int pixels = l.out.width * (whole ? l.out.height : 1);
    bool odd = weighs && (l.out.channels % 4 != 0 || (l.kind == NSK_CONV && pixels % 4 != 0));
    snprintf(text, NSK_DEPTH_KIND, "%s%s", nsk_cost_kind(model, layer), odd ? "-odd" : "");
    return text;
}

static const char *const all[] = {"conv",          "pointwise",     "depthwise",
                                  "depthwise-few", "depthwise-any", "depthwise-any-few",
                                  "dense",         "max-pool",      "average-pool",
                                  "add",           "multiply",      "table",
                                  "softmax",       "larger",        "smaller",
                                  "move",          "constant",      "resize",
                                  "transposed",    "prepare",       "stream",
                                  "scale",         "sight",         "check"};

int nsk_cost_kind_count(void) {
    return (int)(sizeof all / sizeof *all);
}

const char *nsk_cost_kind_at(int index) {
    return all[index];
}
