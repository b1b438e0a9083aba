/* Layers with weights: int8 levels as the model has them, a bias in their units. */
#include <math.h>

#include "export/exporter.h"
#include "network/network.h"

static const nsk_lowered_layer *layer_of(const nsk_exporter *e, const nsk_node *node) {
    for (int i = 0; i < (int)e->lowered->layers->len; i++) {
        const nsk_lowered_layer *l = nsk_lowered_layer_at(e->lowered, i);
        if (l->name == node->name && l->taps > 0) {
            return l;
        }
    }
    return NULL;
}

/* The axis of the weights that counts output channels. */
static int channel_axis(const nsk_node *node) {
    bool second = node->op == NSK_OP_MATMUL || node->op == NSK_OP_CONV_TRANSPOSE ||
                  (node->op == NSK_OP_GEMM && !node->attributes.transpose_b);
    return second ? 1 : 0;
}

/* A transposed convolution in groups has more channels than that axis is long: it stays float. */
static void put_float_weights(nsk_exporter *e, const nsk_node *node, const nsk_lowered_layer *l,
                              const char *name, const double *scales) {
    const nsk_value *w = nsk_export_input(e, node, 1);
    size_t area = (size_t)(w->dims[2] * w->dims[3]);
    size_t outputs = (size_t)w->dims[1];
    size_t inputs = (size_t)(w->dims[0] / node->attributes.window.groups);
    float *numbers = g_new(float, nsk_value_count(w));
    for (size_t i = 0; i < nsk_value_count(w); i++) {
        size_t group = i / area / outputs / inputs;
        double scale = scales[group * outputs + i / area % outputs];
        numbers[i] = (float)(scale * nsk_weight_level(l, (double)w->data[i], scale));
    }
    nsk_onnx_put_floats(e->maker, name, w->rank, w->dims, numbers);
    g_free(numbers);
}

/* Where a weight of the file stands among the layer's. Fitted levels are only of layers whose
 * inputs stand in the file's order but for channels, which come last here. */
static size_t place_in_layer(const nsk_lowered_layer *l, const nsk_value *w, int axis, size_t index,
                             size_t channels) {
    if (w->rank != 4) {
        size_t inputs = (size_t)l->taps;
        return axis == 0 ? index : index % channels * inputs + index / channels;
    }
    size_t area = (size_t)(w->dims[2] * w->dims[3]);
    size_t inputs = (size_t)w->dims[1];
    size_t output = index / area / inputs;
    size_t tap = index % area;
    return nsk_lowered_is_depthwise(l) ? tap * channels + output
                                       : (output * area + tap) * inputs + index / area % inputs;
}

static void put_int8_weights(nsk_exporter *e, const nsk_node *node, const nsk_lowered_layer *l,
                             const char *name, int64_t channels, const double *scales) {
    const nsk_value *w = nsk_export_input(e, node, 1);
    int axis = channel_axis(node);
    size_t count = nsk_value_count(w);
    size_t inner = 1;
    int8_t *levels = g_malloc(count);
    float *shown = g_new(float, channels);
    int8_t *zeroes = g_new0(int8_t, channels);
    for (int i = axis + 1; i < w->rank; i++) {
        inner *= (size_t)w->dims[i];
    }
    for (size_t i = 0; i < count; i++) {
        double scale = scales[i / inner % (size_t)channels];
        levels[i] = l->levels != NULL ? l->levels[place_in_layer(l, w, axis, i, (size_t)channels)]
                                      : (int8_t)nsk_weight_level(l, (double)w->data[i], scale);
    }
    for (int64_t c = 0; c < channels; c++) {
        shown[c] = (float)scales[c];
    }
    char *stored = g_strdup_printf("%s:levels", name);
    nsk_onnx_put_constant(e->maker, stored, ONNX__TENSOR_PROTO__DATA_TYPE__INT8, w->rank, w->dims,
                          levels, count);
    Onnx__NodeProto *n = nsk_onnx_put_node(e->maker, "DequantizeLinear", name, name);
    nsk_onnx_add_input(e->maker, n, stored);
    nsk_export_scale(e, n, channels, shown, false);
    nsk_export_zeroes(e, n, channels, zeroes);
    nsk_onnx_add_int(e->maker, n, "axis", axis);
    g_free(stored);
    g_free(levels);
    g_free(shown);
    g_free(zeroes);
}

static void put_bias(nsk_exporter *e, const nsk_lowered_layer *l, const char *name,
                     int64_t channels, const double *scales) {
    double in = (double)e->scales[l->in].scale;
    int32_t *levels = g_new(int32_t, channels);
    float *units = g_new(float, channels);
    for (int64_t c = 0; c < channels; c++) {
        units[c] = (float)(in * scales[c]);
        levels[c] = (int32_t)floor((double)l->bias[c] / (in * scales[c]) + 0.5);
    }
    char *stored = g_strdup_printf("%s:levels", name);
    nsk_onnx_put_constant(e->maker, stored, ONNX__TENSOR_PROTO__DATA_TYPE__INT32, 1, &channels,
                          levels, (size_t)channels * sizeof *levels);
    Onnx__NodeProto *n = nsk_onnx_put_node(e->maker, "DequantizeLinear", name, name);
    nsk_onnx_add_input(e->maker, n, stored);
    nsk_export_scale(e, n, channels, units, false);
    nsk_onnx_add_int(e->maker, n, "axis", 0);
    g_free(stored);
    g_free(levels);
    g_free(units);
}

/* What the product's node says besides. */
static void put_attributes(nsk_exporter *e, const nsk_node *node, Onnx__NodeProto *n) {
    if (node->op == NSK_OP_GEMM) {
        nsk_onnx_add_int(e->maker, n, "transB", node->attributes.transpose_b);
    } else if (node->op != NSK_OP_MATMUL) {
        nsk_export_window(e, n, node);
        nsk_onnx_add_ints(e->maker, n, "dilations", 2, node->attributes.window.dilation);
        nsk_onnx_add_int(e->maker, n, "group", node->attributes.window.groups);
    }
    if (node->op == NSK_OP_CONV_TRANSPOSE) {
        nsk_onnx_add_ints(e->maker, n, "output_padding", 2, node->attributes.extra);
    }
}

/* Levels and their scales, from which readers make weights and biases under these names. */
static bool put_levels(nsk_exporter *e, const nsk_node *node, const char *weights,
                       const char *bias) {
    const nsk_lowered_layer *l = layer_of(e, node);
    if (l == NULL) {
        return nsk_fail(e->error, "layer '%s' (%s) has no weights to write", node->name,
                        nsk_op_name(node->op));
    }
    const int64_t channels = nsk_lowered_tensor_at(e->lowered, l->out)->channels;
    double *scales = g_new(double, channels);
    for (int64_t c = 0; c < channels; c++) {
        scales[c] = nsk_weight_scale(l, (int)c, (int)channels, e->scales[l->in], e->scales[l->out]);
    }
    if (node->op == NSK_OP_CONV_TRANSPOSE && node->attributes.window.groups > 1) {
        put_float_weights(e, node, l, weights, scales);
    } else {
        put_int8_weights(e, node, l, weights, channels, scales);
    }
    put_bias(e, l, bias, channels, scales);
    g_free(scales);
    return true;
}

/* As they are. */
static void put_floats(const nsk_exporter *e, const nsk_value *v, const char *name) {
    nsk_onnx_put_floats(e->maker, name, v->rank, v->dims, v->data);
}

bool nsk_export_weighted(nsk_exporter *e, const nsk_node *node, const char *output) {
    const bool plain = node->op == NSK_OP_MATMUL; /* has no bias of its own */
    const nsk_value *own_bias = nsk_export_input(e, node, 2);
    const bool biased = e->lowered != NULL || own_bias != NULL;
    char *weights = g_strdup_printf("%s:weights", node->name);
    char *bias = g_strdup_printf("%s:bias", node->name);
    char *before = plain && biased ? g_strdup_printf("%s:product", output) : g_strdup(output);
    bool good = true;
    if (e->lowered != NULL) {
        good = put_levels(e, node, weights, bias);
    } else {
        put_floats(e, nsk_export_input(e, node, 1), weights);
        if (biased) {
            put_floats(e, own_bias, bias);
        }
    }
    Onnx__NodeProto *n = good ? nsk_export_start(e, node, nsk_op_name(node->op), before) : NULL;
    if (good) {
        nsk_onnx_add_input(e->maker, n, weights);
        put_attributes(e, node, n);
    }
    if (good && plain && biased) {
        n = nsk_onnx_put_node(e->maker, "Add", bias, output);
        nsk_onnx_add_input(e->maker, n, before);
    }
    if (good && biased) {
        nsk_onnx_add_input(e->maker, n, bias);
    }
    g_free(before);
    g_free(weights);
    g_free(bias);
    return good;
}
