#include "export/export.h"

#include <math.h>
#include <string.h>

#include "base/base.h"
#include "export/exporter.h"
#include "export/function.h"
#include "float/forward.h"
#include "graph/rearrange.h"
#include "graph/resize.h"
#include "network/network.h"

enum { OPSET = 21 }; /* the first with levels of 16 bits */

/* ---- the others ---- */

static bool put_pair_of_inputs(nsk_exporter *e, const nsk_node *node, const char *output) {
    const char *names[NSK_MOST_INPUTS];
    for (int i = 0; i < node->inputs; i++) {
        names[i] = nsk_export_name_of(e, node->input[i]);
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

static bool put_matmul(nsk_exporter *e, const nsk_node *node, const char *output) {
    const double factor = nsk_matmul_factor(node);
    const nsk_value *right = nsk_export_input(e, node, 1);
    if (right->data != NULL && right->rank == 2) {
        return nsk_export_weighted(e, node, output);
    }
    if (!(fabs(factor - 1.0) > 0.0)) {
        return put_pair_of_inputs(e, node, output);
    }
    char *product = g_strdup_printf("%s:product", output);
    put_pair_of_inputs(e, node, product);
    Onnx__NodeProto *n = nsk_onnx_put_node(e->maker, "Mul", product, output);
    nsk_onnx_add_input(e->maker, n, product);
    nsk_export_number(e->maker, &e->fresh, n, factor);
    g_free(product);
    return true;
}

static bool put_pool(nsk_exporter *e, const nsk_node *node, const char *output) {
    const nsk_window_attributes *w = &node->attributes.window;
    bool dilated = w->dilation[0] * w->dilation[1] != 1;
    bool average = node->op == NSK_OP_AVERAGE_POOL;
    if (average && dilated) {
        return nsk_unsupported(e->error,
                               "layer '%s': dilated average pools came with operator set "
                               "19",
                               node->name);
    }
    Onnx__NodeProto *n = nsk_export_start(e, node, nsk_op_name(node->op), output);
    if (node->op == NSK_OP_GLOBAL_AVERAGE_POOL || node->op == NSK_OP_GLOBAL_MAX_POOL) {
        return true;
    }
    nsk_export_window(e, n, node);
    nsk_onnx_add_int(e->maker, n, "ceil_mode", w->ceil_mode);
    if (average) {
        nsk_onnx_add_int(e->maker, n, "count_include_pad", w->count_include_pad);
    } else if (dilated) {
        nsk_onnx_add_ints(e->maker, n, "dilations", 2, w->dilation);
    }
    return true;
}

static bool put_reduce(nsk_exporter *e, const nsk_node *node, const char *output) {
    bool marked[NSK_MOST_RANK] = {false};
    int64_t axes[NSK_MOST_RANK];
    size_t count = 0;
    if (!nsk_axes_of(e->graph, node, node->attributes.none_means_all, marked, e->error)) {
        return false;
    }
    for (int i = 0; i < nsk_export_input(e, node, 0)->rank; i++) {
        if (marked[i]) {
            axes[count++] = i;
        }
    }
    Onnx__NodeProto *n = nsk_export_start(e, node, nsk_op_name(node->op), output);
    nsk_export_integers(e, n, (int64_t)count, axes);
    nsk_onnx_add_int(e->maker, n, "keepdims", node->attributes.keep_axes);
    return true;
}

static bool put_reshape(nsk_exporter *e, const nsk_node *node, const char *output) {
    const nsk_value *out = nsk_graph_value(e->graph, node->output);
    Onnx__NodeProto *n = nsk_export_start(e, node, "Reshape", output);
    nsk_export_integers(e, n, out->rank, out->dims);
    return true;
}

static bool put_transpose(nsk_exporter *e, const nsk_node *node, const char *output) {
    int order[NSK_MOST_RANK] = {0};
    int64_t wide[NSK_MOST_RANK];
    int rank = nsk_export_input(e, node, 0)->rank;
    nsk_order_of(e->graph, node, order);
    for (int i = 0; i < rank; i++) {
        wide[i] = order[i];
    }
    Onnx__NodeProto *n = nsk_export_start(e, node, "Transpose", output);
    nsk_onnx_add_ints(e->maker, n, "perm", (size_t)rank, wide);
    return true;
}

static bool put_pad(nsk_exporter *e, const nsk_node *node, const char *output) {
    static const char *const modes[] = {
        [NSK_MODE_CONSTANT] = "constant", [NSK_MODE_REFLECT] = "reflect", [NSK_MODE_EDGE] = "edge"};
    nsk_margins margins;
    int64_t pads[2 * NSK_MOST_RANK];
    int rank = nsk_export_input(e, node, 0)->rank;
    const nsk_value *filler = nsk_export_input(e, node, 2);
    if (!nsk_margins_of(e->graph, node, &margins, e->error)) {
        return false;
    }
    memcpy(pads, margins.before, (size_t)rank * sizeof *pads);
    memcpy(pads + rank, margins.after, (size_t)rank * sizeof *pads);
    Onnx__NodeProto *n = nsk_export_start(e, node, "Pad", output);
    nsk_export_integers(e, n, 2L * rank, pads);
    if (node->attributes.mode == NSK_MODE_CONSTANT && filler != NULL) {
        nsk_export_number(e->maker, &e->fresh, n, (double)filler->data[0]);
    }
    nsk_onnx_add_text(e->maker, n, "mode", modes[node->attributes.mode]);
    return true;
}

static bool put_resize(nsk_exporter *e, const nsk_node *node, const char *output) {
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
    static const int64_t four = 4;
    const nsk_value *out = nsk_graph_value(e->graph, node->output);
    float scales[4];
    bool scaled = nsk_resize_scales(e->graph, node, scales);
    Onnx__NodeProto *n = nsk_export_start(e, node, "Resize", output);
    nsk_onnx_add_input(e->maker, n, NULL);
    if (scaled) {
        char *name = nsk_export_name(&e->fresh, "scales");
        nsk_onnx_put_floats(e->maker, name, 1, &four, scales);
        nsk_onnx_add_input(e->maker, n, name);
        g_free(name);
    } else {
        nsk_onnx_add_input(e->maker, n, NULL);
        nsk_export_integers(e, n, out->rank, out->dims);
    }
    nsk_onnx_add_text(e->maker, n, "mode",
                      node->attributes.mode == NSK_MODE_LINEAR ? "linear" : "nearest");
    nsk_onnx_add_text(e->maker, n, "coordinate_transformation_mode",
                      ways[node->attributes.coordinates]);
    nsk_onnx_add_text(e->maker, n, "nearest_mode", roundings[node->attributes.nearest]);
    return true;
}

static bool put_softmax(nsk_exporter *e, const nsk_node *node, const char *output) {
    Onnx__NodeProto *n = nsk_export_start(e, node, "Softmax", output);
    nsk_onnx_add_int(e->maker, n, "axis", node->attributes.axis);
    return true;
}

static bool put_cut(nsk_exporter *e, const nsk_node *node, const char *output) {
    nsk_cut cut;
    int64_t end[NSK_MOST_RANK];
    int64_t axes[NSK_MOST_RANK];
    int rank = nsk_export_input(e, node, 0)->rank;
    if (!nsk_cut_of(e->graph, node, &cut, e->error)) {
        return false;
    }
    for (int i = 0; i < rank; i++) {
        axes[i] = i;
        end[i] = cut.start[i] + cut.count[i] * cut.step[i];
        end[i] = end[i] < 0 ? INT64_MIN : end[i]; /* backwards past the first */
    }
    Onnx__NodeProto *n = nsk_export_start(e, node, "Slice", output);
    nsk_export_integers(e, n, rank, cut.start);
    nsk_export_integers(e, n, rank, end);
    nsk_export_integers(e, n, rank, axes);
    nsk_export_integers(e, n, rank, cut.step);
    return true;
}

static bool put_expand(nsk_exporter *e, const nsk_node *node, const char *output) {
    const nsk_value *out = nsk_graph_value(e->graph, node->output);
    Onnx__NodeProto *n = nsk_export_start(e, node, "Expand", output);
    nsk_export_integers(e, n, out->rank, out->dims);
    return true;
}

static bool put_shuffle(nsk_exporter *e, const nsk_node *node, const char *output) {
    Onnx__NodeProto *n = nsk_export_start(e, node, nsk_op_name(node->op), output);
    nsk_onnx_add_int(e->maker, n, "blocksize", node->attributes.size);
    if (node->op == NSK_OP_DEPTH_TO_SPACE) {
        nsk_onnx_add_text(e->maker, n, "mode",
                          node->attributes.mode == NSK_MODE_COLUMN_FIRST ? "CRD" : "DCR");
    }
    return true;
}

static bool put_function(nsk_exporter *e, const nsk_node *node, const char *output) {
    nsk_export_function(e->maker, &e->fresh, node->program, nsk_export_name_of(e, node->input[0]),
                        node->name, output);
    return true;
}

/* Relu and Clip are what stands behind every node anyhow. */
static bool put_nothing(nsk_exporter *e, const nsk_node *node, const char *output) {
    nsk_export_start(e, node, "Identity", output);
    return true;
}

/* ---- the whole ---- */

typedef bool put(nsk_exporter *e, const nsk_node *node, const char *output);

static put *const puts_of[NSK_OPS] = {
    [NSK_OP_ADD] = put_pair_of_inputs,
    [NSK_OP_AVERAGE_POOL] = put_pool,
    [NSK_OP_CLIP] = put_nothing,
    [NSK_OP_CONCAT] = put_pair_of_inputs,
    [NSK_OP_CONV] = nsk_export_weighted,
    [NSK_OP_CONV_TRANSPOSE] = nsk_export_weighted,
    [NSK_OP_DEPTH_TO_SPACE] = put_shuffle,
    [NSK_OP_EXPAND] = put_expand,
    [NSK_OP_FLATTEN] = put_reshape,
    [NSK_OP_FUNCTION] = put_function,
    [NSK_OP_GEMM] = nsk_export_weighted,
    [NSK_OP_GLOBAL_AVERAGE_POOL] = put_pool,
    [NSK_OP_GLOBAL_MAX_POOL] = put_pool,
    [NSK_OP_MATMUL] = put_matmul,
    [NSK_OP_MAX] = put_pair_of_inputs,
    [NSK_OP_MAX_POOL] = put_pool,
    [NSK_OP_MIN] = put_pair_of_inputs,
    [NSK_OP_MUL] = put_pair_of_inputs,
    [NSK_OP_NORMALISE] = nsk_export_normalise,
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
static char *put_clamp(nsk_exporter *e, const nsk_node *node, const char *from) {
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

static bool put_layer(nsk_exporter *e, const nsk_node *node) {
    const nsk_value *out = nsk_graph_value(e->graph, node->output);
    put *way = puts_of[node->op];
    if (way == NULL) {
        return nsk_unsupported(e->error, "layer '%s' (%s) cannot be written as ONNX", node->name,
                               nsk_op_name(node->op));
    }
    if (!way(e, node, out->name)) {
        return false;
    }
    int tensor = nsk_export_tensor(e, node->output);
    char *clamped = put_clamp(e, node, out->name);
    nsk_element element =
        tensor != NSK_NONE ? nsk_lowered_tensor_at(e->lowered, tensor)->element : NSK_ELEMENT_32;
    const bool fine = tensor != NSK_NONE && nsk_lowered_tensor_at(e->lowered, tensor)->fine;
    e->names[node->output] =
        element == NSK_ELEMENT_32 /* a score, or a look at another */
            ? g_strdup(clamped)
            : nsk_export_pair(e, clamped,
                              fine ? nsk_fine_scale(e->scales[tensor]) : e->scales[tensor],
                              element == NSK_ELEMENT_16);
    g_free(clamped);
    return true;
}

/* The input, what preparation took over from the graph, its levels. */
static void put_input(nsk_exporter *e) {
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
    e->names[g->input] =
        e->lowered != NULL ? nsk_export_pair(e, name, e->scales[0], false) : g_strdup(name);
    g_free(name);
}

static bool put_all(nsk_exporter *e) {
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
    nsk_exporter e = {
        .graph = network->graph, .lowered = lowered, .scales = scales, .error = error};
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

bool nsk_network_write(const nsk_network *network, const char *path, nsk_error *error) {
    size_t size = 0;
    uint8_t *bytes = nsk_onnx_export(network, NULL, NULL, &size, error);
    const bool good = bytes != NULL && nsk_file_write(path, bytes, size, error);
    g_free(bytes);
    return good;
}
