#include "export/export.h"

#include <math.h>
#include <string.h>

#include "export/function.h"
#include "float/forward.h"
#include "graph/rearrange.h"
#include "network/network.h"
#include "onnx/maker.h"

enum { OPSET = 21 }; /* the first with levels of 16 bits */

typedef struct exporter {
    const nsk_graph *graph;
    const nsk_lowered *lowered;
    const nsk_scale *scales;
    nsk_onnx_maker *maker;
    char **names; /* of each value, as its readers see it; NULL: not written yet */
    int fresh;    /* for names that need a number */
    nsk_error *error;
} exporter;

static const nsk_value *value_at(const exporter *e, const nsk_node *node, int input) {
    return nsk_node_input(e->graph, node, input);
}

/* ---- constants ---- */

static void put_scale(exporter *e, Onnx__NodeProto *n, int64_t count, const float *scales,
                      bool one) {
    char *name = nsk_export_name(&e->fresh, "scale");
    nsk_onnx_put_floats(e->maker, name, one ? 0 : 1, &count, scales);
    nsk_onnx_add_input(e->maker, n, name);
    g_free(name);
}

static void put_zero(exporter *e, Onnx__NodeProto *n, int64_t count, const int8_t *zeroes,
                     bool one) {
    char *name = nsk_export_name(&e->fresh, "zero");
    nsk_onnx_put_constant(e->maker, name, ONNX__TENSOR_PROTO__DATA_TYPE__INT8, one ? 0 : 1, &count,
                          zeroes, (size_t)count);
    nsk_onnx_add_input(e->maker, n, name);
    g_free(name);
}

static void add_integers(exporter *e, Onnx__NodeProto *n, int64_t count, const int64_t *numbers) {
    char *name = nsk_export_name(&e->fresh, "numbers");
    nsk_onnx_put_integers(e->maker, name, count, numbers);
    nsk_onnx_add_input(e->maker, n, name);
    g_free(name);
}

/* ---- levels ---- */

/* The tensor whose scale a value has, or NSK_NONE for one that only looks at another. */
static int tensor_of(const exporter *e, int value) {
    for (int i = 0; i < (int)e->lowered->tensors->len; i++) {
        if (nsk_lowered_tensor_at(e->lowered, i)->value == value) {
            return i;
        }
    }
    return NSK_NONE;
}

/* Of int8, or of int16, whose zero is 0. */
static void put_zero_of(exporter *e, Onnx__NodeProto *n, nsk_scale s, bool wide) {
    const int8_t zero = (int8_t)s.zero;
    static const int16_t nothing = 0;
    char *name;
    if (!wide) {
        put_zero(e, n, 1, &zero, true);
        return;
    }
    name = nsk_export_name(&e->fresh, "zero");
    nsk_onnx_put_constant(e->maker, name, ONNX__TENSOR_PROTO__DATA_TYPE__INT16, 0, NULL, &nothing,
                          sizeof nothing);
    nsk_onnx_add_input(e->maker, n, name);
    g_free(name);
}

static Onnx__NodeProto *put_dequantize(exporter *e, const char *from, nsk_scale s, bool wide,
                                       const char *output) {
    Onnx__NodeProto *n = nsk_onnx_put_node(e->maker, "DequantizeLinear", output, output);
    nsk_onnx_add_input(e->maker, n, from);
    put_scale(e, n, 1, &s.scale, true);
    put_zero_of(e, n, s, wide);
    return n;
}

/* Rounds `from` to levels and takes it back; returns the name of what comes out. */
static char *put_pair(exporter *e, const char *from, nsk_scale s, bool wide) {
    char *levels = g_strdup_printf("%s:levels", from);
    char *output = g_strdup_printf("%s:rounded", from);
    Onnx__NodeProto *n = nsk_onnx_put_node(e->maker, "QuantizeLinear", levels, levels);
    nsk_onnx_add_input(e->maker, n, from);
    put_scale(e, n, 1, &s.scale, true);
    put_zero_of(e, n, s, wide);
    put_dequantize(e, levels, s, wide, output);
    g_free(levels);
    return output;
}

/* A constant that the device keeps as int8 levels, or as it is. */
static void put_constant(exporter *e, int value) {
    const nsk_value *v = nsk_graph_value(e->graph, value);
    int tensor = tensor_of(e, value);
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

static const char *name_of(exporter *e, int value) {
    if (e->names[value] == NULL) {
        put_constant(e, value); /* everything computed has been written before its readers */
    }
    return e->names[value];
}

static Onnx__NodeProto *start_node(exporter *e, const nsk_node *node, const char *op,
                                   const char *output) {
    const char *from = name_of(e, node->input[0]); /* before the node itself */
    Onnx__NodeProto *n = nsk_onnx_put_node(e->maker, op, node->name, output);
    nsk_onnx_add_input(e->maker, n, from);
    return n;
}

/* ---- layers with weights ---- */

static const nsk_lowered_layer *layer_of(const exporter *e, const nsk_node *node) {
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
static void put_float_weights(exporter *e, const nsk_node *node, const char *name,
                              const double *scales) {
    const nsk_value *w = value_at(e, node, 1);
    size_t area = (size_t)(w->dims[2] * w->dims[3]);
    size_t outputs = (size_t)w->dims[1];
    size_t inputs = (size_t)(w->dims[0] / node->attributes.window.groups);
    float *numbers = g_new(float, nsk_value_count(w));
    for (size_t i = 0; i < nsk_value_count(w); i++) {
        size_t group = i / area / outputs / inputs;
        double scale = scales[group * outputs + i / area % outputs];
        numbers[i] = (float)(scale * nsk_weight_level((double)w->data[i], scale));
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
    return l->kind == NSK_KIND_DEPTHWISE ? tap * channels + output
                                         : (output * area + tap) * inputs + index / area % inputs;
}

static void put_int8_weights(exporter *e, const nsk_node *node, const nsk_lowered_layer *l,
                             const char *name, int64_t channels, const double *scales) {
    const nsk_value *w = value_at(e, node, 1);
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
                                      : (int8_t)nsk_weight_level((double)w->data[i], scale);
    }
    for (int64_t c = 0; c < channels; c++) {
        shown[c] = (float)scales[c];
    }
    char *stored = g_strdup_printf("%s:levels", name);
    nsk_onnx_put_constant(e->maker, stored, ONNX__TENSOR_PROTO__DATA_TYPE__INT8, w->rank, w->dims,
                          levels, count);
    Onnx__NodeProto *n = nsk_onnx_put_node(e->maker, "DequantizeLinear", name, name);
    nsk_onnx_add_input(e->maker, n, stored);
    put_scale(e, n, channels, shown, false);
    put_zero(e, n, channels, zeroes, false);
    nsk_onnx_add_int(e->maker, n, "axis", axis);
    g_free(stored);
    g_free(levels);
    g_free(shown);
    g_free(zeroes);
}

static void put_bias(exporter *e, const nsk_lowered_layer *l, const char *name, int64_t channels,
                     const double *scales) {
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
    put_scale(e, n, channels, units, false);
    nsk_onnx_add_int(e->maker, n, "axis", 0);
    g_free(stored);
    g_free(levels);
    g_free(units);
}

static void add_window(exporter *e, Onnx__NodeProto *n, const nsk_node *node) {
    const nsk_window_attributes *w = &node->attributes.window;
    const int64_t pads[4] = {w->pad_before[0], w->pad_before[1], w->pad_after[0], w->pad_after[1]};
    nsk_onnx_add_ints(e->maker, n, "kernel_shape", 2, w->kernel);
    nsk_onnx_add_ints(e->maker, n, "strides", 2, w->stride);
    nsk_onnx_add_ints(e->maker, n, "pads", 4, pads);
}

static bool put_weighted(exporter *e, const nsk_node *node, const char *output) {
    const nsk_lowered_layer *l = layer_of(e, node);
    if (l == NULL) {
        return nsk_fail(e->error, "layer '%s' (%s) has no weights to write", node->name,
                        nsk_op_name(node->op));
    }
    int64_t channels = nsk_lowered_tensor_at(e->lowered, l->out)->channels;
    double *scales = g_new0(double, channels);
    for (int64_t c = 0; c < channels; c++) {
        scales[c] = nsk_weight_scale(l, (int)c, (int)channels, e->scales[l->in], e->scales[l->out]);
    }
    bool grouped = node->op == NSK_OP_CONV_TRANSPOSE && node->attributes.window.groups > 1;
    bool plain = node->op == NSK_OP_MATMUL; /* has no bias of its own */
    char *weights = g_strdup_printf("%s:weights", node->name);
    char *bias = g_strdup_printf("%s:bias", node->name);
    char *before = plain ? g_strdup_printf("%s:product", output) : g_strdup(output);
    if (grouped) {
        put_float_weights(e, node, weights, scales);
    } else {
        put_int8_weights(e, node, l, weights, channels, scales);
    }
    put_bias(e, l, bias, channels, scales);
    Onnx__NodeProto *n = start_node(e, node, nsk_op_name(node->op), before);
    nsk_onnx_add_input(e->maker, n, weights);
    if (plain) {
        n = nsk_onnx_put_node(e->maker, "Add", bias, output);
        nsk_onnx_add_input(e->maker, n, before);
    }
    nsk_onnx_add_input(e->maker, n, bias);
    if (node->op == NSK_OP_GEMM) {
        nsk_onnx_add_int(e->maker, n, "transB", node->attributes.transpose_b);
    } else if (!plain) {
        add_window(e, n, node);
        nsk_onnx_add_ints(e->maker, n, "dilations", 2, node->attributes.window.dilation);
        nsk_onnx_add_int(e->maker, n, "group", node->attributes.window.groups);
    }
    if (node->op == NSK_OP_CONV_TRANSPOSE) {
        nsk_onnx_add_ints(e->maker, n, "output_padding", 2, node->attributes.extra);
    }
    g_free(before);
    g_free(weights);
    g_free(bias);
    g_free(scales);
    return true;
}

/* ---- the others ---- */

static bool put_pair_of_inputs(exporter *e, const nsk_node *node, const char *output) {
    const char *names[NSK_MOST_INPUTS];
    for (int i = 0; i < node->inputs; i++) {
        names[i] = name_of(e, node->input[i]);
    }
    Onnx__NodeProto *n = nsk_onnx_put_node(e->maker, nsk_op_name(node->op), node->name, output);
    for (int i = 0; i < node->inputs; i++) {
        nsk_onnx_add_input(e->maker, n, names[i]);
    }
    if (node->op == NSK_OP_CONCAT) {
        nsk_onnx_add_int(e->maker, n, "axis", node->attributes.axis);
    }
    return true;
}

static bool put_matmul(exporter *e, const nsk_node *node, const char *output) {
    return value_at(e, node, 1)->data == NULL ? put_pair_of_inputs(e, node, output)
                                              : put_weighted(e, node, output);
}

static bool put_pool(exporter *e, const nsk_node *node, const char *output) {
    const nsk_window_attributes *w = &node->attributes.window;
    bool dilated = w->dilation[0] * w->dilation[1] != 1;
    bool average = node->op == NSK_OP_AVERAGE_POOL;
    if (average && dilated) {
        return nsk_unsupported(e->error,
                               "layer '%s': dilated average pools came with operator set "
                               "19",
                               node->name);
    }
    Onnx__NodeProto *n = start_node(e, node, nsk_op_name(node->op), output);
    if (node->op == NSK_OP_GLOBAL_AVERAGE_POOL || node->op == NSK_OP_GLOBAL_MAX_POOL) {
        return true;
    }
    add_window(e, n, node);
    nsk_onnx_add_int(e->maker, n, "ceil_mode", w->ceil_mode);
    if (average) {
        nsk_onnx_add_int(e->maker, n, "count_include_pad", w->count_include_pad);
    } else if (dilated) {
        nsk_onnx_add_ints(e->maker, n, "dilations", 2, w->dilation);
    }
    return true;
}

static bool put_reduce(exporter *e, const nsk_node *node, const char *output) {
    bool marked[NSK_MOST_RANK] = {false};
    int64_t axes[NSK_MOST_RANK];
    size_t count = 0;
    if (!nsk_axes_of(e->graph, node, node->attributes.none_means_all, marked, e->error)) {
        return false;
    }
    for (int i = 0; i < value_at(e, node, 0)->rank; i++) {
        if (marked[i]) {
            axes[count++] = i;
        }
    }
    Onnx__NodeProto *n = start_node(e, node, nsk_op_name(node->op), output);
    add_integers(e, n, (int64_t)count, axes);
    nsk_onnx_add_int(e->maker, n, "keepdims", node->attributes.keep_axes);
    return true;
}

static bool put_reshape(exporter *e, const nsk_node *node, const char *output) {
    const nsk_value *out = nsk_graph_value(e->graph, node->output);
    Onnx__NodeProto *n = start_node(e, node, "Reshape", output);
    add_integers(e, n, out->rank, out->dims);
    return true;
}

static bool put_transpose(exporter *e, const nsk_node *node, const char *output) {
    int order[NSK_MOST_RANK] = {0};
    int64_t wide[NSK_MOST_RANK];
    int rank = value_at(e, node, 0)->rank;
    nsk_order_of(e->graph, node, order);
    for (int i = 0; i < rank; i++) {
        wide[i] = order[i];
    }
    Onnx__NodeProto *n = start_node(e, node, "Transpose", output);
    nsk_onnx_add_ints(e->maker, n, "perm", (size_t)rank, wide);
    return true;
}

static bool put_pad(exporter *e, const nsk_node *node, const char *output) {
    static const char *const modes[] = {
        [NSK_MODE_CONSTANT] = "constant", [NSK_MODE_REFLECT] = "reflect", [NSK_MODE_EDGE] = "edge"};
    nsk_margins margins;
    int64_t pads[2 * NSK_MOST_RANK];
    int rank = value_at(e, node, 0)->rank;
    const nsk_value *filler = value_at(e, node, 2);
    if (!nsk_margins_of(e->graph, node, &margins, e->error)) {
        return false;
    }
    memcpy(pads, margins.before, (size_t)rank * sizeof *pads);
    memcpy(pads + rank, margins.after, (size_t)rank * sizeof *pads);
    Onnx__NodeProto *n = start_node(e, node, "Pad", output);
    add_integers(e, n, 2L * rank, pads);
    if (node->attributes.mode == NSK_MODE_CONSTANT && filler != NULL) {
        nsk_export_number(e->maker, &e->fresh, n, (double)filler->data[0]);
    }
    nsk_onnx_add_text(e->maker, n, "mode", modes[node->attributes.mode]);
    return true;
}

static bool put_resize(exporter *e, const nsk_node *node, const char *output) {
    static const char *const ways[] = {[NSK_COORDINATES_HALF_PIXEL] = "half_pixel",
                                       [NSK_COORDINATES_PYTORCH_HALF_PIXEL] = "pytorch_half_pixel",
                                       [NSK_COORDINATES_ALIGN_CORNERS] = "align_corners",
                                       [NSK_COORDINATES_ASYMMETRIC] = "asymmetric",
                                       [NSK_COORDINATES_HALF_PIXEL_FOR_NEAREST] =
                                           "tf_half_pixel_for_nn"};
    static const char *const roundings[] = {[NSK_NEAREST_MODE_PREFER_FLOOR] = "round_prefer_floor",
                                            [NSK_NEAREST_MODE_PREFER_CEIL] = "round_prefer_ceil",
                                            [NSK_NEAREST_MODE_FLOOR] = "floor",
                                            [NSK_NEAREST_MODE_CEIL] = "ceil"};
    const nsk_value *scales = value_at(e, node, 2);
    const nsk_value *out = nsk_graph_value(e->graph, node->output);
    bool scaled = scales != NULL && scales->data != NULL && nsk_value_count(scales) == 4;
    Onnx__NodeProto *n = start_node(e, node, "Resize", output);
    nsk_onnx_add_input(e->maker, n, NULL);
    if (scaled) {
        char *name = nsk_export_name(&e->fresh, "scales");
        nsk_onnx_put_floats(e->maker, name, 1, scales->dims, scales->data);
        nsk_onnx_add_input(e->maker, n, name);
        g_free(name);
    } else {
        nsk_onnx_add_input(e->maker, n, NULL);
        add_integers(e, n, out->rank, out->dims);
    }
    nsk_onnx_add_text(e->maker, n, "mode",
                      node->attributes.mode == NSK_MODE_LINEAR ? "linear" : "nearest");
    nsk_onnx_add_text(e->maker, n, "coordinate_transformation_mode",
                      ways[node->attributes.coordinates]);
    nsk_onnx_add_text(e->maker, n, "nearest_mode", roundings[node->attributes.nearest]);
    return true;
}

static bool put_softmax(exporter *e, const nsk_node *node, const char *output) {
    Onnx__NodeProto *n = start_node(e, node, "Softmax", output);
    nsk_onnx_add_int(e->maker, n, "axis", node->attributes.axis);
    return true;
}

static bool put_cut(exporter *e, const nsk_node *node, const char *output) {
    nsk_cut cut;
    int64_t end[NSK_MOST_RANK];
    int64_t axes[NSK_MOST_RANK];
    int rank = value_at(e, node, 0)->rank;
    if (!nsk_cut_of(e->graph, node, &cut, e->error)) {
        return false;
    }
    for (int i = 0; i < rank; i++) {
        axes[i] = i;
        end[i] = cut.start[i] + cut.count[i] * cut.step[i];
        end[i] = end[i] < 0 ? INT64_MIN : end[i]; /* backwards past the first */
    }
    Onnx__NodeProto *n = start_node(e, node, "Slice", output);
    add_integers(e, n, rank, cut.start);
    add_integers(e, n, rank, end);
    add_integers(e, n, rank, axes);
    add_integers(e, n, rank, cut.step);
    return true;
}

static bool put_expand(exporter *e, const nsk_node *node, const char *output) {
    const nsk_value *out = nsk_graph_value(e->graph, node->output);
    Onnx__NodeProto *n = start_node(e, node, "Expand", output);
    add_integers(e, n, out->rank, out->dims);
    return true;
}

static bool put_shuffle(exporter *e, const nsk_node *node, const char *output) {
    Onnx__NodeProto *n = start_node(e, node, nsk_op_name(node->op), output);
    nsk_onnx_add_int(e->maker, n, "blocksize", node->attributes.size);
    if (node->op == NSK_OP_DEPTH_TO_SPACE) {
        nsk_onnx_add_text(e->maker, n, "mode",
                          node->attributes.mode == NSK_MODE_COLUMN_FIRST ? "CRD" : "DCR");
    }
    return true;
}

static bool put_function(exporter *e, const nsk_node *node, const char *output) {
    nsk_export_function(e->maker, &e->fresh, node->program, name_of(e, node->input[0]), node->name,
                        output);
    return true;
}

/* Relu and Clip are what stands behind every node anyhow. */
static bool put_nothing(exporter *e, const nsk_node *node, const char *output) {
    start_node(e, node, "Identity", output);
    return true;
}

/* ---- the whole ---- */

typedef bool put(exporter *e, const nsk_node *node, const char *output);

static put *const puts_of[NSK_OPS] = {
    [NSK_OP_ADD] = put_pair_of_inputs,
    [NSK_OP_AVERAGE_POOL] = put_pool,
    [NSK_OP_CLIP] = put_nothing,
    [NSK_OP_CONCAT] = put_pair_of_inputs,
    [NSK_OP_CONV] = put_weighted,
    [NSK_OP_CONV_TRANSPOSE] = put_weighted,
    [NSK_OP_DEPTH_TO_SPACE] = put_shuffle,
    [NSK_OP_EXPAND] = put_expand,
    [NSK_OP_FLATTEN] = put_reshape,
    [NSK_OP_FUNCTION] = put_function,
    [NSK_OP_GEMM] = put_weighted,
    [NSK_OP_GLOBAL_AVERAGE_POOL] = put_pool,
    [NSK_OP_GLOBAL_MAX_POOL] = put_pool,
    [NSK_OP_MATMUL] = put_matmul,
    [NSK_OP_MAX] = put_pair_of_inputs,
    [NSK_OP_MAX_POOL] = put_pool,
    [NSK_OP_MIN] = put_pair_of_inputs,
    [NSK_OP_MUL] = put_pair_of_inputs,
    [NSK_OP_PAD] = put_pad,
    [NSK_OP_REDUCE_MAX] = put_reduce,
    [NSK_OP_REDUCE_MEAN] = put_reduce,
    [NSK_OP_REDUCE_MIN] = put_reduce,
    [NSK_OP_REDUCE_SUM] = put_reduce,
    [NSK_OP_RELU] = put_nothing,
    [NSK_OP_RESHAPE] = put_reshape,
    [NSK_OP_RESIZE] = put_resize,
    [NSK_OP_SLICE] = put_cut,
    [NSK_OP_SOFTMAX] = put_softmax,
    [NSK_OP_SPACE_TO_DEPTH] = put_shuffle,
    [NSK_OP_SPLIT] = put_cut,
    [NSK_OP_SQUEEZE] = put_reshape,
    [NSK_OP_SUB] = put_pair_of_inputs,
    [NSK_OP_TRANSPOSE] = put_transpose,
    [NSK_OP_UNSQUEEZE] = put_reshape,
};

/* The clamp behind a node; returns the name of what comes out. */
static char *put_clamp(exporter *e, const nsk_node *node, const char *from) {
    double low;
    double high;
    nsk_clamp_of(e->graph, node, &low, &high);
    if (isinf(low) && isinf(high)) {
        return g_strdup(from);
    }
    char *output = g_strdup_printf("%s:clamped", from);
    bool relu = isinf(high) && fabs(low) < 1e-30;
    char *name = g_strdup_printf("%s_%s", node->name, relu ? "relu" : "clip");
    Onnx__NodeProto *n = nsk_onnx_put_node(e->maker, relu ? "Relu" : "Clip", name, output);
    g_free(name);
    nsk_onnx_add_input(e->maker, n, from);
    if (!relu && !isinf(low)) {
        nsk_export_number(e->maker, &e->fresh, n, low);
    } else if (!relu) {
        nsk_onnx_add_input(e->maker, n, NULL);
    }
    if (!relu && !isinf(high)) {
        nsk_export_number(e->maker, &e->fresh, n, high);
    }
    return output;
}

static bool put_layer(exporter *e, const nsk_node *node) {
    const nsk_value *out = nsk_graph_value(e->graph, node->output);
    put *way = puts_of[node->op];
    if (way == NULL) {
        return nsk_unsupported(e->error, "layer '%s' (%s) cannot be written as ONNX", node->name,
                               nsk_op_name(node->op));
    }
    if (!way(e, node, out->name)) {
        return false;
    }
    int tensor = tensor_of(e, node->output);
    char *clamped = put_clamp(e, node, out->name);
    nsk_element element =
        tensor != NSK_NONE ? nsk_lowered_tensor_at(e->lowered, tensor)->element : NSK_ELEMENT_32;
    e->names[node->output] =
        element == NSK_ELEMENT_32 /* a score, or a look at another */
            ? g_strdup(clamped)
            : put_pair(e, clamped, e->scales[tensor], element == NSK_ELEMENT_16);
    g_free(clamped);
    return true;
}

/* The input, what preparation took over from the graph, its levels. */
static void put_input(exporter *e) {
    const nsk_graph *g = e->graph;
    const nsk_value *in = nsk_graph_value(g, g->input);
    const int64_t dims[4] = {1, in->dims[1], 1, 1};
    char *name = g_strdup(in->name);
    nsk_onnx_put_input(e->maker, in->name, in->rank, in->dims);
    for (int part = 0; part < 2; part++) {
        float numbers[3];
        bool plain = true;
        for (int c = 0; c < 3; c++) {
            numbers[c] = (float)(part == 0 ? g->input_gain[c] : g->input_offset[c]);
            plain = plain && fabs((double)numbers[c] - (part == 0 ? 1.0 : 0.0)) < 1e-12;
        }
        if (!plain) {
            char *constant = nsk_export_name(&e->fresh, "preparation");
            char *output = nsk_export_name(&e->fresh, "prepared");
            nsk_onnx_put_floats(e->maker, constant, 4, dims, numbers);
            Onnx__NodeProto *n =
                nsk_onnx_put_node(e->maker, part == 0 ? "Mul" : "Add", output, output);
            nsk_onnx_add_input(e->maker, n, name);
            nsk_onnx_add_input(e->maker, n, constant);
            g_free(constant);
            g_free(name);
            name = output;
        }
    }
    e->names[g->input] = put_pair(e, name, e->scales[0], false);
    g_free(name);
}

static bool put_all(exporter *e) {
    put_input(e);
    for (int i = 0; i < (int)e->graph->nodes->len; i++) {
        const nsk_node *node = nsk_graph_node(e->graph, i);
        if (!node->dead && !put_layer(e, node)) {
            return false;
        }
    }
    const nsk_value *out = nsk_graph_value(e->graph, e->graph->output);
    Onnx__NodeProto *n = nsk_onnx_put_node(e->maker, "Identity", "scores", "scores");
    nsk_onnx_add_input(e->maker, n, e->names[e->graph->output]);
    nsk_onnx_put_output(e->maker, "scores", out->rank, out->dims);
    return true;
}

uint8_t *nsk_onnx_export(const nsk_network *network, const nsk_lowered *lowered,
                         const nsk_scale *scales, size_t *size, nsk_error *error) {
    static const char *const keys[NSK_FACTS] = {"name", "version", "author", "licence",
                                                "description"};
    int values = (int)network->graph->values->len;
    exporter e = {.graph = network->graph, .lowered = lowered, .scales = scales, .error = error};
    e.names = g_new0(char *, values);
    e.maker = nsk_onnx_maker_new(nsk_network_fact(network, NSK_FACT_NAME), "netsuke", OPSET);
    for (int i = 0; i < NSK_FACTS; i++) {
        const char *fact = nsk_network_fact(network, (nsk_fact)i);
        if (fact[0] != '\0') {
            nsk_onnx_put_fact(e.maker, keys[i], fact);
        }
    }
    uint8_t *bytes = put_all(&e) ? nsk_onnx_maker_bytes(e.maker, size) : NULL;
    nsk_onnx_maker_free(e.maker);
    for (int i = 0; i < values; i++) {
        g_free(e.names[i]);
    }
    g_free(e.names);
    return bytes;
}
