/* The input of a network: pictures, channels first or last, or a line of numbers; and the inputs of
 * a test case. */
#include <string.h>

#include "onnx/reader.h"
#include "onnx/tensor.h"

/* One axis of the input's shape; a size left open is taken from `hint` (0: none). */
static bool input_axis(const nsk_reader *r, const Onnx__TensorShapeProto__Dimension *d,
                       int64_t hint, const char *what, int64_t *to) {
    bool given =
        d->value_case == ONNX__TENSOR_SHAPE_PROTO__DIMENSION__VALUE_DIM_VALUE && d->dim_value > 0;
    *to = given ? d->dim_value : hint;
    if (*to <= 0) {
        return nsk_fail(r->error,
                        "the input leaves its %s open; give 'size' under [input] in the "
                        "brief",
                        what);
    }
    if (*to > 4096) {
        return nsk_fail(r->error, "the input's %s is %" G_GINT64_FORMAT "; at most 4096 is read",
                        what, *to);
    }
    if (given && hint > 0 && *to != hint) {
        return nsk_fail(r->error,
                        "the input's %s is %" G_GINT64_FORMAT " in the file and %" G_GINT64_FORMAT
                        " in the brief; make [input] agree with the model",
                        what, *to, hint);
    }
    return true;
}

static int64_t fixed_size(const Onnx__TensorShapeProto__Dimension *d) {
    return d->value_case == ONNX__TENSOR_SHAPE_PROTO__DIMENSION__VALUE_DIM_VALUE ? d->dim_value : 0;
}

/* Exporters that keep the channels last say so by the shape alone. */
static bool channels_stand_last(Onnx__TensorShapeProto__Dimension *const *d, int64_t channels) {
    int64_t second = fixed_size(d[1]);
    int64_t last = fixed_size(d[3]);
    if (channels > 0) {
        return last == channels && second != channels;
    }
    return (last == 1 || last == 3) && second != 1 && second != 3;
}

/* The file's own input becomes the transpose of one with the channels first. */
static void turn_input(const nsk_reader *r, int value, const int64_t *dims) {
    static const int64_t order[4] = {0, 2, 3, 1};
    r->graph->input = nsk_graph_add_value(r->graph, "netsuke:input");
    nsk_value *in = nsk_graph_value(r->graph, r->graph->input);
    in->rank = 4;
    memcpy(in->dims, dims, 4 * sizeof *dims);
    in->shaped = true;
    int at = nsk_graph_add_node(r->graph, NSK_OP_TRANSPOSE, "netsuke:channels-last", value);
    nsk_node *node = nsk_graph_node(r->graph, at);
    node->input[0] = r->graph->input;
    node->inputs = 1;
    memcpy(node->attributes.list, order, sizeof order);
    node->attributes.listed = 4;
}

static bool read_picture_input(const nsk_reader *r, Onnx__TensorShapeProto__Dimension *const *d,
                               int index) {
    nsk_value *value = nsk_graph_value(r->graph, index);
    if (fixed_size(d[0]) > 1) {
        return nsk_unsupported(r->error,
                               "input '%s' is fixed at %" G_GINT64_FORMAT " pictures a batch; "
                               "export with one, or leave it open",
                               value->name, fixed_size(d[0]));
    }
    const nsk_input *hint = r->options->input;
    int channels = hint == NULL ? 0 : hint->colour == NSK_COLOUR_GREY ? 1 : 3;
    bool last = channels_stand_last(d, channels);
    const int at[3] = {last ? 3 : 1, last ? 1 : 2, last ? 2 : 3}; /* channels, height, width */
    int64_t dims[4] = {1};
    if (!input_axis(r, d[at[0]], channels, "count of channels", &dims[1]) ||
        !input_axis(r, d[at[1]], hint != NULL ? hint->height : 0, "height", &dims[2]) ||
        !input_axis(r, d[at[2]], hint != NULL ? hint->width : 0, "width", &dims[3])) {
        return false;
    }
    if (last) {
        turn_input(r, index, dims);
        return true;
    }
    value->rank = 4;
    memcpy(value->dims, dims, sizeof dims);
    value->shaped = true;
    r->graph->input = index;
    return true;
}

/* Grey pictures that the network takes as one line of numbers. */
static bool read_line_input(const nsk_reader *r, Onnx__TensorShapeProto__Dimension *const *d,
                            int index) {
    const nsk_input *hint = r->options->input;
    int64_t pixels = hint != NULL ? (int64_t)hint->width * hint->height : 0;
    if (pixels == 0 || hint->colour != NSK_COLOUR_GREY || fixed_size(d[0]) > 1 ||
        fixed_size(d[1]) != pixels) {
        return nsk_fail(r->error,
                        "input '%s' is a line of %" G_GINT64_FORMAT " numbers; give a 'size' of so "
                        "many pixels and 'colour = grey' under [input] in the brief",
                        nsk_graph_value(r->graph, index)->name, fixed_size(d[1]));
    }
    static const int64_t two = 2;
    int64_t *shape = g_new(int64_t, 2);
    shape[0] = 1;
    shape[1] = pixels;
    int list = nsk_graph_add_integers(r->graph, "netsuke:line", 1, &two, shape);
    r->graph->input = nsk_graph_add_value(r->graph, "netsuke:input");
    nsk_value *in = nsk_graph_value(r->graph, r->graph->input);
    in->rank = 4;
    in->dims[0] = in->dims[1] = 1;
    in->dims[2] = hint->height;
    in->dims[3] = hint->width;
    in->shaped = true;
    int at = nsk_graph_add_node(r->graph, NSK_OP_RESHAPE, "netsuke:in-line", index);
    nsk_node *node = nsk_graph_node(r->graph, at);
    node->input[0] = r->graph->input;
    node->input[1] = list;
    node->inputs = 2;
    return true;
}

static bool read_input_shape(const nsk_reader *r, const Onnx__ValueInfoProto *info, int index) {
    const char *name = nsk_graph_value(r->graph, index)->name;
    const Onnx__TypeProto__Tensor *tensor =
        info->type != NULL && info->type->value_case == ONNX__TYPE_PROTO__VALUE_TENSOR_TYPE
            ? info->type->tensor_type
            : NULL;
    size_t rank = tensor != NULL && tensor->shape != NULL ? tensor->shape->n_dim : 0;
    if (rank != 4 && rank != 2) {
        return nsk_unsupported(r->error,
                               "input '%s' is not a batch of pictures (batch x channels x height "
                               "x width)",
                               name);
    }
    bool whole;
    r->graph->raw_input = tensor->elem_type == ONNX__TENSOR_PROTO__DATA_TYPE__UINT8;
    if (!nsk_onnx_type_is_read(tensor->elem_type, &whole) || (whole && !r->graph->raw_input)) {
        return nsk_unsupported(r->error,
                               "input '%s' is neither floating point nor bytes; export with one "
                               "of them",
                               name);
    }
    return rank == 4 ? read_picture_input(r, tensor->shape->dim, index)
                     : read_line_input(r, tensor->shape->dim, index);
}

/* ---- the inputs of a test case: parts of one line of numbers ---- */

static int add_list(const nsk_reader *r, const char *owner, const char *what, int count,
                    const int64_t *numbers) {
    char *name = g_strdup_printf("%s:%s", owner, what);
    int index = nsk_graph_add_list(r->graph, name, count, numbers);
    g_free(name);
    return index;
}

/* `value`, which is to hold `count` numbers of the packed input from `first` on. */
static void unpack_input(const nsk_reader *r, int value, const nsk_value *shape, int64_t first) {
    const int64_t count = (int64_t)nsk_value_count(shape);
    const int64_t end = first + count;
    const int64_t axis = 3;
    char *owner = g_strdup(nsk_graph_value(r->graph, value)->name);
    char *part = g_strdup_printf("%s:part", owner);
    const int cut[4] = {r->graph->input, add_list(r, owner, "start", 1, &first),
                        add_list(r, owner, "end", 1, &end), add_list(r, owner, "axis", 1, &axis)};
    int piece = nsk_graph_append(r->graph, NSK_OP_SLICE, part, 4, cut);
    int list = add_list(r, owner, "shape", shape->rank, shape->dims);
    int at = nsk_graph_add_node(r->graph, NSK_OP_RESHAPE, owner, value);
    nsk_node *node = nsk_graph_node(r->graph, at);
    node->input[0] = piece;
    node->input[1] = list;
    node->inputs = 2;
    g_free(part);
    g_free(owner);
}

static bool read_bound_input(nsk_reader *r, const Onnx__ValueInfoProto *info, int which,
                             int64_t *packed) {
    if (which >= r->options->bound) {
        return nsk_fail(r->error, "more inputs than tensors are given for");
    }
    const nsk_onnx_binding *binding = &r->options->bindings[which];
    bool tensor =
        info->type != NULL && info->type->value_case == ONNX__TYPE_PROTO__VALUE_TENSOR_TYPE;
    bool whole;
    if (!tensor || !nsk_onnx_type_is_read(info->type->tensor_type->elem_type, &whole)) {
        return nsk_unsupported(r->error, "an input is neither of floating point nor of integers");
    }
    int value = nsk_reader_define(r, info->name, "an input");
    if (value == NSK_NONE) {
        return false;
    }
    if (!binding->computed) {
        return nsk_reader_load(r, binding->tensor, value);
    }
    nsk_value shape = {.name = (char *)info->name};
    bool good = nsk_onnx_tensor_load(binding->tensor, NULL, &shape, r->error);
    if (good && nsk_value_count(&shape) > 0) {
        unpack_input(r, value, &shape, *packed);
        *packed += (int64_t)nsk_value_count(&shape);
    } else if (good) {
        good = nsk_unsupported(r->error, "input '%s' is empty", info->name);
    }
    g_free(shape.data);
    g_free(shape.integers);
    return good;
}

static bool read_bound_inputs(nsk_reader *r) {
    int64_t packed = 0;
    int which = 0;
    r->graph->input = nsk_graph_add_value(r->graph, "netsuke:packed");
    for (size_t i = 0; i < r->source->n_input; i++) {
        const Onnx__ValueInfoProto *info = r->source->input[i];
        bool constant = info->name != NULL && nsk_reader_find(r, info->name) != NSK_NONE;
        if (!constant && !read_bound_input(r, info, which++, &packed)) {
            return false;
        }
    }
    nsk_value *in = nsk_graph_value(r->graph, r->graph->input);
    in->rank = 4;
    in->dims[0] = in->dims[1] = in->dims[2] = 1;
    in->dims[3] = MAX(packed, 1);
    in->shaped = true;
    return true;
}

bool nsk_reader_inputs(nsk_reader *r) {
    if (r->options->bindings != NULL) {
        return read_bound_inputs(r);
    }
    for (size_t i = 0; i < r->source->n_input; i++) {
        const Onnx__ValueInfoProto *info = r->source->input[i];
        if (info->name != NULL && nsk_reader_find(r, info->name) != NSK_NONE) {
            continue; /* a constant that is listed as an input too */
        }
        if (r->graph->input != NSK_NONE) {
            return nsk_unsupported(r->error, "two inputs, '%s' and '%s'; a classifier has one",
                                   nsk_graph_value(r->graph, r->graph->input)->name, info->name);
        }
        int value = nsk_reader_define(r, info->name, "the input");
        if (value == NSK_NONE || !read_input_shape(r, info, value)) {
            return false;
        }
    }
    return r->graph->input != NSK_NONE || nsk_fail(r->error, "the graph has no input");
}
