#include "export/exporter.h"

#include <string.h>

#include "export/function.h"

const nsk_value *nsk_export_input(const nsk_exporter *e, const nsk_node *node, int input) {
    return nsk_node_input(e->graph, node, input);
}

/* ---- constants ---- */

void nsk_export_scale(nsk_exporter *e, Onnx__NodeProto *n, int64_t count, const float *scales,
                      bool one) {
    char *name = nsk_export_name(&e->fresh, "scale");
    nsk_onnx_put_floats(e->maker, name, one ? 0 : 1, &count, scales);
    nsk_onnx_add_input(e->maker, n, name);
    g_free(name);
}

void nsk_export_zeroes(nsk_exporter *e, Onnx__NodeProto *n, int64_t count, const int8_t *zeroes) {
    char *name = nsk_export_name(&e->fresh, "zero");
    nsk_onnx_put_constant(e->maker, name, ONNX__TENSOR_PROTO__DATA_TYPE__INT8, 1, &count, zeroes,
                          (size_t)count);
    nsk_onnx_add_input(e->maker, n, name);
    g_free(name);
}

void nsk_export_integers(nsk_exporter *e, Onnx__NodeProto *n, int64_t count,
                         const int64_t *numbers) {
    char *name = nsk_export_name(&e->fresh, "numbers");
    nsk_onnx_put_integers(e->maker, name, count, numbers);
    nsk_onnx_add_input(e->maker, n, name);
    g_free(name);
}

/* ---- levels ---- */

int nsk_export_tensor(const nsk_exporter *e, int value) {
    for (int i = 0; e->lowered != NULL && i < (int)e->lowered->tensors->len; i++) {
        if (nsk_lowered_tensor_at(e->lowered, i)->value == value) {
            return i;
        }
    }
    return NSK_NONE;
}

/* Of int8, or of int16. */
static void put_zero_of(nsk_exporter *e, Onnx__NodeProto *n, nsk_scale s, bool wide) {
    const int16_t zero_of_16 = (int16_t)s.zero;
    const int8_t zero = (int8_t)s.zero;
    char *name = nsk_export_name(&e->fresh, "zero");
    nsk_onnx_put_constant(
        e->maker, name,
        wide ? ONNX__TENSOR_PROTO__DATA_TYPE__INT16 : ONNX__TENSOR_PROTO__DATA_TYPE__INT8, 0, NULL,
        wide ? (const void *)&zero_of_16 : &zero, wide ? sizeof zero_of_16 : sizeof zero);
    nsk_onnx_add_input(e->maker, n, name);
    g_free(name);
}

static Onnx__NodeProto *put_dequantize(nsk_exporter *e, const char *from, nsk_scale s, bool wide,
                                       const char *output) {
    Onnx__NodeProto *n = nsk_onnx_put_node(e->maker, "DequantizeLinear", output, output);
    nsk_onnx_add_input(e->maker, n, from);
    nsk_export_scale(e, n, 1, &s.scale, true);
    put_zero_of(e, n, s, wide);
    return n;
}

char *nsk_export_pair(nsk_exporter *e, const char *from, nsk_scale s, bool wide) {
    char *levels = g_strdup_printf("%s:levels", from);
    char *output = g_strdup_printf("%s:rounded", from);
    Onnx__NodeProto *n = nsk_onnx_put_node(e->maker, "QuantizeLinear", levels, levels);
    nsk_onnx_add_input(e->maker, n, from);
    nsk_export_scale(e, n, 1, &s.scale, true);
    put_zero_of(e, n, s, wide);
    put_dequantize(e, levels, s, wide, output);
    g_free(levels);
    return output;
}

/* A constant that the device keeps as int8 levels, or as it is. */
static void put_constant(nsk_exporter *e, int value) {
    const nsk_value *v = nsk_graph_value(e->graph, value);
    int tensor = nsk_export_tensor(e, value);
    size_t count = nsk_value_count(v);
    if (tensor == NSK_NONE) {
        nsk_onnx_put_floats(e->maker, v->name, v->rank, v->dims, v->data);
        e->names[value] = g_strdup(v->name);
        return;
    }
    int8_t *levels = g_malloc(count + 1);
    for (size_t i = 0; i < count; i++) {
        levels[i] = (int8_t)nsk_level_of((double)v->data[i], e->scales[tensor]);
    }
    char *name = g_strdup_printf("%s:levels", v->name);
    nsk_onnx_put_constant(e->maker, name, ONNX__TENSOR_PROTO__DATA_TYPE__INT8, v->rank, v->dims,
                          levels, count);
    put_dequantize(e, name, e->scales[tensor], false, v->name);
    e->names[value] = g_strdup(v->name);
    g_free(name);
    g_free(levels);
}

const char *nsk_export_name_of(nsk_exporter *e, int value) {
    if (e->names[value] == NULL) {
        put_constant(e, value); /* everything computed has been written before its readers */
    }
    return e->names[value];
}

Onnx__NodeProto *nsk_export_start(nsk_exporter *e, const nsk_node *node, const char *op,
                                  const char *output) {
    const char *from = nsk_export_name_of(e, node->input[0]); /* before the node itself */
    Onnx__NodeProto *n = nsk_onnx_put_node(e->maker, op, node->name, output);
    nsk_onnx_add_input(e->maker, n, from);
    return n;
}

void nsk_export_window(nsk_exporter *e, Onnx__NodeProto *n, const nsk_node *node) {
    const nsk_window_attributes *w = &node->attributes.window;
    const int64_t pads[4] = {w->pad_before[0], w->pad_before[1], w->pad_after[0], w->pad_after[1]};
    nsk_onnx_add_ints(e->maker, n, "kernel_shape", 2, w->kernel);
    nsk_onnx_add_ints(e->maker, n, "strides", 2, w->stride);
    nsk_onnx_add_ints(e->maker, n, "pads", 4, pads);
}
