#include "quantise/lower.h"

#include <math.h>
#include <string.h>

typedef struct lowering {
    const nsk_graph *graph;
    nsk_lowered *result;
    int *tensor_of; /* value to tensor, or NSK_NONE */
    nsk_error *error;
} lowering;

nsk_low_tensor *nsk_low_tensor_at(const nsk_lowered *lowered, int tensor) {
    return &g_array_index(lowered->tensors, nsk_low_tensor, tensor);
}

nsk_low_layer *nsk_low_layer_at(const nsk_lowered *lowered, int layer) {
    return &g_array_index(lowered->layers, nsk_low_layer, layer);
}

static bool complain(const lowering *l, const nsk_node *node, const char *text) {
    return nsk_fail(l->error, "layer '%s' (%s) has no integer form: %s", node->name,
                    nsk_op_name(node->op), text);
}

/* The tensor of a picture (1 x C x H x W) or a vector (1 x C), or NSK_NONE. */
static int add_tensor(lowering *l, int value) {
    enum { MOST = 65535 };
    const nsk_value *v = nsk_graph_value(l->graph, value);
    nsk_low_tensor t = {.value = value, .height = 1, .width = 1, .shares = NSK_NONE};
    if (v->dims[0] != 1 || (v->rank != 2 && v->rank != 4) || nsk_value_count(v) > (1U << 26) ||
        v->dims[1] > MOST) {
        return NSK_NONE;
    }
    t.channels = (int)v->dims[1];
    if (v->rank == 4) {
        t.height = (int)v->dims[2];
        t.width = (int)v->dims[3];
    }
    if (t.height > MOST || t.width > MOST) {
        return NSK_NONE;
    }
    g_array_append_val(l->result->tensors, t);
    return l->tensor_of[value] = (int)l->result->tensors->len - 1;
}

static nsk_low_tensor input_tensor(const lowering *l, const nsk_node *node) {
    return *nsk_low_tensor_at(l->result, l->tensor_of[node->input[0]]);
}

/* A layer from the node's first input to a new tensor; NULL and an error where it has none. */
static nsk_low_layer *add_layer(lowering *l, const nsk_node *node, nsk_kind kind) {
    nsk_low_layer layer = {.kind = kind, .name = node->name, .low = node->low, .high = node->high};
    layer.in = l->tensor_of[node->input[0]];
    layer.second = NSK_NONE;
    layer.window = node->attributes.window;
    layer.out = add_tensor(l, node->output);
    if (layer.out == NSK_NONE) {
        complain(l, node, "its output is neither one picture nor one vector");
        return NULL;
    }
    g_array_append_val(l->result->layers, layer);
    return nsk_low_layer_at(l->result, (int)l->result->layers->len - 1);
}

/* ---- layers with weights ---- */

static float *bias_of(const lowering *l, const nsk_node *node, int channels) {
    const nsk_value *bias = nsk_node_input(l->graph, node, 2);
    float *copy = g_new0(float, channels);
    for (int c = 0; bias != NULL && c < channels; c++) {
        copy[c] = bias->data[nsk_value_count(bias) == 1 ? 0 : c];
    }
    return copy;
}

static bool weights_are_constant(const lowering *l, const nsk_node *node) {
    const nsk_value *bias = nsk_node_input(l->graph, node, 2);
    return nsk_node_input(l->graph, node, 1)->data != NULL && (bias == NULL || bias->data != NULL);
}

static bool window_fits(const nsk_window_attributes *w) {
    for (int axis = 0; axis < 2; axis++) {
        if (w->kernel[axis] > 255 || w->stride[axis] > 255 || w->dilation[axis] > 255 ||
            w->pad_before[axis] > 255 ||
            w->pad_before[axis] > (w->kernel[axis] - 1) * w->dilation[axis]) {
            return false;
        }
    }
    return true;
}

static bool lower_conv(lowering *l, const nsk_node *node) {
    const nsk_window_attributes *w = &node->attributes.window;
    if (!weights_are_constant(l, node)) {
        return complain(l, node, "its weights are computed; export them as constants");
    }
    if (!window_fits(w)) {
        return complain(l, node,
                        "a kernel, stride, dilation or pad is over 255, or pads reach "
                        "further than the kernel");
    }
    const nsk_value *weight = nsk_node_input(l->graph, node, 1);
    bool depthwise = w->groups > 1 && weight->dims[1] == 1;
    nsk_low_layer *layer = add_layer(l, node, depthwise ? NSK_DEPTHWISE : NSK_CONV);
    if (layer == NULL) {
        return false;
    }
    size_t outputs = (size_t)weight->dims[0];
    size_t inputs = (size_t)weight->dims[1];
    size_t area = (size_t)(weight->dims[2] * weight->dims[3]);
    layer->taps = (int)(inputs * area);
    layer->bias = bias_of(l, node, (int)outputs);
    layer->weights = g_new(float, outputs *inputs *area);
    for (size_t o = 0; o < outputs; o++) {
        for (size_t i = 0; i < inputs; i++) {
            for (size_t k = 0; k < area; k++) {
                size_t to = depthwise ? k * outputs + o : (o * area + k) * inputs + i;
                layer->weights[to] = weight->data[(o * inputs + i) * area + k];
            }
        }
    }
    return true;
}

/* The inputs of a Gemm come flattened in ONNX's order; the device's are channels last. */
static bool lower_gemm(lowering *l, const nsk_node *node) {
    const nsk_attributes *a = &node->attributes;
    const nsk_value *bias = nsk_node_input(l->graph, node, 2);
    nsk_low_tensor in = input_tensor(l, node);
    if (!weights_are_constant(l, node) || a->transpose_a || a->alpha != 1.0 ||
        (bias != NULL && a->beta != 1.0)) {
        return complain(l, node, "constant weights, alpha and beta of 1 and no transA are needed");
    }
    nsk_low_layer *layer = add_layer(l, node, NSK_DENSE);
    if (layer == NULL) {
        return false;
    }
    const nsk_value *weight = nsk_node_input(l->graph, node, 1);
    size_t outputs = (size_t)nsk_graph_value(l->graph, node->output)->dims[1];
    size_t inputs = nsk_value_count(weight) / outputs;
    size_t pixels = (size_t)in.height * (size_t)in.width;
    layer->taps = (int)inputs;
    layer->bias = bias_of(l, node, (int)outputs);
    layer->weights = g_new(float, outputs *inputs);
    for (size_t o = 0; o < outputs; o++) {
        for (size_t i = 0; i < inputs; i++) {
            size_t channel = i % (size_t)in.channels;
            size_t from = channel * pixels + i / (size_t)in.channels;
            layer->weights[o * inputs + i] =
                weight->data[a->transpose_b ? o * inputs + from : from * outputs + o];
        }
    }
    return true;
}

/* ---- layers without ---- */

static bool lower_average_pool(lowering *l, const nsk_node *node) {
    if (!window_fits(&node->attributes.window)) {
        return complain(l, node, "a kernel, stride or pad is over 255");
    }
    if (node->attributes.window.ceil_mode && node->attributes.window.count_include_pad) {
        return complain(l, node, "ceil_mode together with count_include_pad; use one of them");
    }
    return add_layer(l, node, NSK_AVERAGE_POOL) != NULL;
}

static bool lower_max_pool(lowering *l, const nsk_node *node) {
    if (!window_fits(&node->attributes.window)) {
        return complain(l, node, "a kernel, stride or pad is over 255");
    }
    nsk_low_layer *layer = add_layer(l, node, NSK_MAX_POOL);
    if (layer != NULL) {
        nsk_low_tensor_at(l->result, layer->out)->shares = layer->in;
    }
    return layer != NULL;
}

static bool same_size(const nsk_low_tensor *a, const nsk_low_tensor *b) {
    return a->height == b->height && a->width == b->width && a->channels == b->channels;
}

/* Add and Mul of two tensors; the smaller may be one pixel. */
static bool lower_pair(lowering *l, const nsk_node *node) {
    if (nsk_graph_is_constant(l->graph, node->input[0]) ||
        nsk_graph_is_constant(l->graph, node->input[1])) {
        return complain(l, node, "a constant that is not one number a channel");
    }
    int a = l->tensor_of[node->input[0]];
    int b = l->tensor_of[node->input[1]];
    nsk_low_layer *layer = add_layer(l, node, node->op == NSK_OP_ADD ? NSK_ADD : NSK_MULTIPLY);
    if (layer == NULL) {
        return false;
    }
    const nsk_low_tensor *out = nsk_low_tensor_at(l->result, layer->out);
    bool swap = !same_size(nsk_low_tensor_at(l->result, a), out);
    layer->in = swap ? b : a;
    layer->second = swap ? a : b;
    const nsk_low_tensor *in = nsk_low_tensor_at(l->result, layer->in);
    const nsk_low_tensor *second = nsk_low_tensor_at(l->result, layer->second);
    bool one_pixel = second->height * second->width == 1 && second->channels == in->channels;
    if (!same_size(in, out) || (!same_size(second, out) && !one_pixel)) {
        return complain(l, node, "its inputs must be of one size, or one of them a single pixel");
    }
    return true;
}

static bool lower_clamp(lowering *l, const nsk_node *node) {
    return add_layer(l, node, NSK_TABLE) != NULL;
}

static bool lower_softmax(lowering *l, const nsk_node *node) {
    nsk_low_tensor in = input_tensor(l, node);
    bool flat = in.height * in.width == 1;
    if (node->attributes.axis != 1 || (node->attributes.flatten_from_axis && !flat) ||
        nsk_graph_value(l->graph, node->output)->dims[1] != in.channels) {
        return complain(l, node, "it must run over the channels");
    }
    return add_layer(l, node, NSK_SOFTMAX) != NULL;
}

/* Only the way of looking at the bytes changes, and a dense layer behind it knows the order. */
static bool lower_reshape(lowering *l, const nsk_node *node) {
    const nsk_value *out = nsk_graph_value(l->graph, node->output);
    nsk_low_tensor in = input_tensor(l, node);
    bool vector = out->rank == 2 || (out->rank == 4 && out->dims[2] * out->dims[3] == 1);
    bool same = out->rank == 4 && out->dims[1] == in.channels && out->dims[2] == in.height &&
                out->dims[3] == in.width;
    if (out->dims[0] != 1 || (!vector && !same) ||
        (out->rank == 4 && !same && in.height * in.width != 1)) {
        return complain(l, node, "only flattening a picture to one vector is done");
    }
    l->tensor_of[node->output] = l->tensor_of[node->input[0]];
    return true;
}

static bool lower_pad(lowering *l, const nsk_node *node) {
    return complain(l, node,
                    "only zeroes around the input of a convolution can be folded away; "
                    "use the pads of the layer behind");
}

static bool lower_norm(lowering *l, const nsk_node *node) {
    return complain(l, node, "it stands on a vector that no Gemm makes; fold it when exporting");
}

static bool lower_matmul(lowering *l, const nsk_node *node) {
    return complain(l, node, "both of its inputs are computed");
}

static bool lower_node(lowering *l, const nsk_node *node) {
    static bool (*const lowers[NSK_OPS])(lowering *, const nsk_node *) = {
        [NSK_OP_ADD] = lower_pair,
        [NSK_OP_AVERAGE_POOL] = lower_average_pool,
        [NSK_OP_BATCH_NORM] = lower_norm,
        [NSK_OP_CLIP] = lower_clamp,
        [NSK_OP_CONV] = lower_conv,
        [NSK_OP_FLATTEN] = lower_reshape,
        [NSK_OP_GEMM] = lower_gemm,
        [NSK_OP_GLOBAL_AVERAGE_POOL] = lower_average_pool,
        [NSK_OP_GLOBAL_MAX_POOL] = lower_max_pool,
        [NSK_OP_MATMUL] = lower_matmul,
        [NSK_OP_MAX_POOL] = lower_max_pool,
        [NSK_OP_MUL] = lower_pair,
        [NSK_OP_PAD] = lower_pad,
        [NSK_OP_RELU] = lower_clamp,
        [NSK_OP_RESHAPE] = lower_reshape,
        [NSK_OP_SOFTMAX] = lower_softmax,
    };
    if (lowers[node->op] == NULL) {
        return complain(l, node, "the operator is not known to the device");
    }
    if (l->tensor_of[node->input[0]] == NSK_NONE &&
        !nsk_graph_is_constant(l->graph, node->input[0])) {
        return complain(l, node, "its input has none either");
    }
    if (nsk_graph_is_constant(l->graph, node->input[0]) && node->op != NSK_OP_ADD &&
        node->op != NSK_OP_MUL) {
        return complain(l, node, "its input is a constant; fold it when exporting");
    }
    return lowers[node->op](l, node);
}

static bool check_ends(lowering *l) {
    int output = l->tensor_of[l->graph->output];
    const nsk_low_tensor *out = nsk_low_tensor_at(l->result, output);
    l->result->output = output;
    return out->height * out->width == 1 ||
           nsk_fail(l->error, "the output is a picture, not one number a class");
}

nsk_lowered *nsk_lower(const nsk_graph *graph, nsk_error *error) {
    nsk_lowered *lowered = g_new0(nsk_lowered, 1);
    lowered->tensors = g_array_new(FALSE, TRUE, sizeof(nsk_low_tensor));
    lowered->layers = g_array_new(FALSE, TRUE, sizeof(nsk_low_layer));
    lowering l = {graph, lowered, g_new(int, graph->values->len), error};
    for (guint i = 0; i < graph->values->len; i++) {
        l.tensor_of[i] = NSK_NONE;
    }
    bool good =
        add_tensor(&l, graph->input) != NSK_NONE || nsk_fail(error, "the input is not one picture");
    for (int i = 0; i < (int)graph->nodes->len && good; i++) {
        const nsk_node *node = nsk_graph_node(graph, i);
        good = node->dead || lower_node(&l, node);
    }
    good = good && check_ends(&l);
    g_free(l.tensor_of);
    if (!good) {
        nsk_lowered_free(lowered);
        return NULL;
    }
    return lowered;
}

void nsk_lowered_free(nsk_lowered *lowered) {
    if (lowered == NULL) {
        return;
    }
    for (int i = 0; i < (int)lowered->layers->len; i++) {
        g_free(nsk_low_layer_at(lowered, i)->weights);
        g_free(nsk_low_layer_at(lowered, i)->bias);
    }
    g_array_free(lowered->tensors, TRUE);
    g_array_free(lowered->layers, TRUE);
    g_free(lowered);
}
