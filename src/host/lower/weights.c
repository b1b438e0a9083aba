/* Lowering layers with weights: convolutions and products of matrices. */
#include "lower/translation.h"

#include <string.h>

#include "float/kernel.h"

static float *bias_of(const nsk_translation *l, const nsk_node *node, int channels) {
    const nsk_value *bias = nsk_translation_input(l, node, 2);
    float *copy = g_new0(float, channels);
    for (int c = 0; bias != NULL && c < channels; c++) {
        copy[c] = bias->data[nsk_value_count(bias) == 1 ? 0 : c];
    }
    return copy;
}

/* The scales of weights that came out of int8, one an output channel; NULL where there are none. */
static float *steps_of(const nsk_translation *l, const nsk_node *node, int axis, size_t channels) {
    const nsk_value *weight = nsk_translation_input(l, node, 1);
    bool one = weight->step_count == 1;
    if (weight->steps == NULL ||
        (!one && (weight->step_axis != axis || (size_t)weight->step_count != channels))) {
        return NULL;
    }
    float *steps = g_new(float, channels);
    for (size_t c = 0; c < channels; c++) {
        steps[c] = weight->steps[one ? 0 : c];
        if (!(steps[c] > 0.0F)) {
            g_free(steps);
            return NULL;
        }
    }
    return steps;
}

static int product_axis(const nsk_node *node) {
    return node->op == NSK_OP_GEMM && node->attributes.transpose_b ? 0 : 1;
}

static bool weights_are_constant(const nsk_translation *l, const nsk_node *node) {
    const nsk_value *bias = nsk_translation_input(l, node, 2);
    return (nsk_translation_input(l, node, 1)->data != NULL &&
            (bias == NULL || bias->data != NULL)) ||
           nsk_no_integer_form(l, node, "its weights are computed; export them as constants");
}

/* From ONNX's [out][in][row][column] to the device's [out][row][column][in], or to
 * [row][column][out] for a depthwise convolution. */
static void turn_weights(nsk_lowered_layer *layer, const float *from, size_t outputs, size_t inputs,
                         size_t area) {
    bool depthwise = layer->kind == NSK_KIND_DEPTHWISE;
    layer->taps = (int)(inputs * area);
    layer->weights = g_new(float, outputs *inputs *area);
    for (size_t o = 0; o < outputs; o++) {
        for (size_t i = 0; i < inputs; i++) {
            for (size_t k = 0; k < area; k++) {
                size_t to = depthwise ? k * outputs + o : (o * area + k) * inputs + i;
                layer->weights[to] = from[(o * inputs + i) * area + k];
            }
        }
    }
}

bool nsk_lower_conv(nsk_translation *l, const nsk_node *node) {
    if (nsk_translation_is_batch(l, node) || !weights_are_constant(l, node) ||
        !nsk_translation_window_fits(l, node)) {
        return false;
    }
    const nsk_value *weight = nsk_translation_input(l, node, 1);
    bool depthwise = node->attributes.window.groups > 1 && weight->dims[1] == 1;
    nsk_lowered_layer *layer =
        nsk_translation_add(l, node, depthwise ? NSK_KIND_DEPTHWISE : NSK_KIND_CONV,
                            nsk_view_plain(l, node, node->input[0]));
    if (layer != NULL) {
        layer->bias = bias_of(l, node, (int)weight->dims[0]);
        layer->steps = steps_of(l, node, 0, (size_t)weight->dims[0]);
        turn_weights(layer, weight->data, (size_t)weight->dims[0], (size_t)weight->dims[1],
                     (size_t)(weight->dims[2] * weight->dims[3]));
    }
    return layer != NULL;
}

/* ONNX keeps these weights as [in][out of the group][row][column]. */
bool nsk_lower_conv_transpose(nsk_translation *l, const nsk_node *node) {
    if (nsk_translation_is_batch(l, node) || !weights_are_constant(l, node) ||
        !nsk_translation_window_fits(l, node)) {
        return false;
    }
    const nsk_value *weight = nsk_translation_input(l, node, 1);
    nsk_lowered_layer *layer = nsk_translation_add(l, node, NSK_KIND_CONV_TRANSPOSE,
                                                   nsk_view_plain(l, node, node->input[0]));
    if (layer == NULL) {
        return false;
    }
    size_t groups = (size_t)node->attributes.window.groups;
    size_t inputs = (size_t)weight->dims[0] / groups;
    size_t outputs = (size_t)weight->dims[1];
    size_t area = (size_t)(weight->dims[2] * weight->dims[3]);
    float *turned = g_new0(float, groups *outputs *inputs *area);
    for (size_t i = 0; i < groups * inputs; i++) {
        for (size_t o = 0; o < outputs; o++) {
            size_t to = ((i / inputs * outputs + o) * inputs + i % inputs) * area;
            memcpy(turned + to, weight->data + (i * outputs + o) * area, area * sizeof *turned);
        }
    }
    layer->bias = bias_of(l, node, (int)(groups * outputs));
    layer->steps = groups == 1 ? steps_of(l, node, 1, outputs) : NULL;
    turn_weights(layer, turned, groups * outputs, inputs, area);
    g_free(turned);
    return true;
}

/* The weight of output `o` for input `i` of a product of matrices. */
static float product_weight(const nsk_node *node, const nsk_value *weight, size_t o, size_t i,
                            size_t outputs, size_t inputs) {
    bool turned = node->op == NSK_OP_GEMM && node->attributes.transpose_b;
    return weight->data[turned ? o * inputs + i : i * outputs + o];
}

/* One line of inputs. */
static bool lower_dense(nsk_translation *l, const nsk_node *node, size_t outputs, size_t inputs) {
    int32_t *places;
    int in = nsk_view_whole(l, node, node->input[0], &places);
    nsk_lowered_layer *layer = nsk_translation_add_pixel(l, node, NSK_KIND_DENSE, in);
    if (layer != NULL && places != NULL) {
        layer->taps = (int)inputs;
        layer->bias = bias_of(l, node, (int)outputs);
        layer->steps = steps_of(l, node, product_axis(node), outputs);
        layer->weights = g_new(float, outputs *inputs);
        for (size_t k = 0; k < outputs * inputs; k++) {
            size_t i = k % inputs;
            layer->weights[k / inputs * inputs + (size_t)places[i]] = product_weight(
                node, nsk_translation_input(l, node, 1), k / inputs, i, outputs, inputs);
        }
    }
    g_free(places);
    return layer != NULL;
}

/* Many lines: a convolution of one pixel, the lines being its pixels, in ONNX's order whatever the
 * plain layout is. */
static bool lower_lines(nsk_translation *l, const nsk_node *node, size_t outputs, size_t inputs) {
    const nsk_value *in = nsk_translation_input(l, node, 0);
    size_t lines = nsk_value_count(in) / inputs;
    size_t width = (size_t)in->dims[in->rank - 2];
    nsk_lowered_tensor layout = {
        .height = (int)(lines / width), .width = (int)width, .channels = (int)inputs};
    if (nsk_view_any(l, node, node->input[0]) == NSK_NONE) {
        return false;
    }
    int32_t *places = nsk_view_places(l, node->input[0]);
    int from =
        nsk_view_gather(l, node, node->input[0], l->views[node->input[0]].tensor, places, &layout);
    g_free(places);
    int to = from != NSK_NONE ? nsk_translation_add_tensor(l, node, node->output, layout.height,
                                                           layout.width, (int64_t)outputs)
                              : NSK_NONE;
    if (to == NSK_NONE) {
        return false;
    }
    nsk_view_set(l, node->output, to, nsk_own_order(lines * outputs));
    nsk_lowered_layer *layer = nsk_translation_add_layer(l, node, NSK_KIND_CONV, from, to);
    layer->low = node->low;
    layer->high = node->high;
    layer->window = (nsk_window_attributes){
        .kernel = {1, 1}, .stride = {1, 1}, .dilation = {1, 1}, .groups = 1};
    layer->taps = (int)inputs;
    layer->bias = bias_of(l, node, (int)outputs);
    layer->steps = steps_of(l, node, product_axis(node), outputs);
    layer->weights = g_new(float, outputs *inputs);
    for (size_t k = 0; k < outputs * inputs; k++) {
        layer->weights[k] = product_weight(node, nsk_translation_input(l, node, 1), k / inputs,
                                           k % inputs, outputs, inputs);
    }
    return true;
}

/* ---- products of two computed tensors ---- */

/* The tensor of one side: a row for each matrix, a pixel for each of its lines, or, of the right
 * side, of its columns. */
static int side_of_product(nsk_translation *l, const nsk_node *node, int side) {
    const nsk_value *v = nsk_translation_input(l, node, side);
    const nsk_value *out = nsk_graph_value(l->graph, node->output);
    size_t rows = (size_t)v->dims[v->rank - 2];
    size_t columns = (size_t)v->dims[v->rank - 1];
    size_t pixels = side == 0 ? rows : columns;
    size_t inner = side == 0 ? columns : rows;
    size_t matrices =
        nsk_value_count(out) / (size_t)(out->dims[out->rank - 2] * out->dims[out->rank - 1]);
    const nsk_lowered_tensor layout = {
        .height = (int)matrices, .width = (int)pixels, .channels = (int)inner};
    if (matrices > UINT16_MAX || nsk_view_any(l, node, node->input[side]) == NSK_NONE) {
        return matrices > UINT16_MAX
                   ? (nsk_no_integer_form(l, node, "more than 65535 products at once"), NSK_NONE)
                   : NSK_NONE;
    }
    int32_t *from = nsk_view_places(l, node->input[side]);
    int32_t *places = g_new(int32_t, matrices * pixels * inner);
    for (size_t i = 0; i < matrices * pixels * inner; i++) {
        size_t k = i % inner;
        size_t pixel = i / inner % pixels;
        size_t matrix = nsk_matrix_at(out, v, i / inner / pixels) * rows * columns;
        places[i] = from[matrix + (side == 0 ? pixel * columns + k : k * columns + pixel)];
    }
    int made = nsk_view_gather(l, node, node->input[side], l->views[node->input[side]].tensor,
                               places, &layout);
    g_free(places);
    g_free(from);
    return made;
}

/* As many products of two levels less their zero points as 32 bits hold. */
enum { MOST_PRODUCTS = INT32_MAX / (255 * 255) };

static bool lower_two(nsk_translation *l, const nsk_node *node) {
    const nsk_value *in = nsk_translation_input(l, node, 0);
    const nsk_value *out = nsk_graph_value(l->graph, node->output);
    int side[2];
    if (in->dims[in->rank - 1] > MOST_PRODUCTS) {
        return nsk_no_integer_form(l, node,
                                   "each of its sums is of more than 33025 products; split it, and "
                                   "add the parts");
    }
    for (int i = 0; i < 2; i++) {
        side[i] = side_of_product(l, node, i);
        if (side[i] == NSK_NONE) {
            return false;
        }
    }
    const nsk_lowered_tensor left = *nsk_lowered_tensor_at(l->result, side[0]);
    int to = nsk_translation_add_tensor(l, node, node->output, left.height, left.width,
                                        out->dims[out->rank - 1]);
    if (to == NSK_NONE) {
        return false;
    }
    nsk_view_set(l, node->output, to, nsk_own_order(nsk_value_count(out)));
    nsk_lowered_layer *layer = nsk_translation_add_layer(l, node, NSK_KIND_MATMUL, side[0], to);
    layer->second = side[1];
    layer->factor = nsk_matmul_factor(node);
    layer->low = node->low;
    layer->high = node->high;
    return true;
}

bool nsk_lower_product(nsk_translation *l, const nsk_node *node) {
    const nsk_value *in = nsk_translation_input(l, node, 0);
    const nsk_value *weight = nsk_translation_input(l, node, 1);
    if (node->op == NSK_OP_MATMUL && (weight->data == NULL || weight->rank != 2)) {
        return lower_two(l, node);
    }
    if (in->data != NULL || weight->data == NULL || weight->rank != 2) {
        return nsk_no_integer_form(l, node,
                                   "the right side must be a constant matrix; write a product of "
                                   "two computed ones as MatMul");
    }
    if (node->op == NSK_OP_GEMM && !weights_are_constant(l, node)) {
        return false;
    }
    size_t outputs = nsk_value_count(nsk_graph_value(l->graph, node->output));
    size_t inputs = (size_t)in->dims[in->rank - 1];
    size_t lines = nsk_value_count(in) / inputs;
    outputs /= lines;
    return lines == 1 ? lower_dense(l, node, outputs, inputs)
                      : lower_lines(l, node, outputs, inputs);
}
