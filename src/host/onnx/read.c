#include "onnx/read.h"

#include <math.h>
#include <string.h>

#include "onnx/operators.h"

static const int64_t OLDEST_OPSET = 7;
static const int64_t NEWEST_OPSET = 18;
static const size_t MOST_NODES = 20000;

typedef struct reader {
    const Onnx__GraphProto *source;
    nsk_graph *graph;
    GHashTable *by_name; /* value's name to index + 1 */
    int64_t opset;
    const nsk_input *input; /* may be NULL */
    nsk_error *error;
} reader;

static int find(const reader *r, const char *name) {
    return GPOINTER_TO_INT(g_hash_table_lookup(r->by_name, name)) - 1;
}

/* A new value, or NSK_NONE and an error where the name is taken or missing. */
static int define(reader *r, const char *name, const char *what) {
    if (name == NULL || *name == '\0' || !g_utf8_validate(name, -1, NULL)) {
        nsk_fail(r->error, "%s has no proper name; the file is damaged", what);
        return NSK_NONE;
    }
    if (find(r, name) != NSK_NONE) {
        nsk_fail(r->error, "'%s' is defined twice; the file is damaged", name);
        return NSK_NONE;
    }
    int value = nsk_graph_add_value(r->graph, name);
    g_hash_table_insert(r->by_name, nsk_graph_value(r->graph, value)->name,
                        GINT_TO_POINTER(value + 1));
    return value;
}

/* ---- constants ---- */

static bool tensor_shape(const reader *r, const Onnx__TensorProto *t, nsk_value *value) {
    const int64_t MOST = (int64_t)1 << 28;
    int64_t count = 1;
    if (t->n_dims > NSK_MOST_RANK) {
        return nsk_fail(r->error, "constant '%s' has %zu axes; at most %d are read", value->name,
                        t->n_dims, NSK_MOST_RANK);
    }
    value->rank = (int)t->n_dims;
    for (int i = 0; i < value->rank; i++) {
        value->dims[i] = t->dims[i];
        if (t->dims[i] < 0 || t->dims[i] > MOST || (count *= t->dims[i]) > MOST) {
            return nsk_fail(r->error, "constant '%s' claims an absurd size; the file is damaged",
                            value->name);
        }
    }
    value->shaped = true;
    return true;
}

static bool wrong_length(const reader *r, const nsk_value *value, size_t has) {
    char shape[160];
    return nsk_fail(r->error, "constant '%s' is %s but holds %zu elements; the file is damaged",
                    value->name, nsk_value_text(value, shape, sizeof shape), has);
}

static bool load_floats(const reader *r, const Onnx__TensorProto *t, nsk_value *value) {
    size_t count = nsk_value_count(value);
    size_t has = t->has_raw_data ? t->raw_data.len / sizeof(float) : t->n_float_data;
    if (has != count) {
        return wrong_length(r, value, has);
    }
    const void *from = t->has_raw_data ? (const void *)t->raw_data.data : t->float_data;
    value->data = g_new0(float, count + 1); /* never NULL: an empty constant is one too */
    for (size_t i = 0; i < count; i++) {
        memcpy(&value->data[i], (const uint8_t *)from + i * sizeof(float), sizeof(float));
        if (!isfinite(value->data[i])) {
            return nsk_fail(r->error,
                            "constant '%s' holds a number that is not finite; train again "
                            "or export again",
                            value->name);
        }
    }
    return true;
}

static bool load_integers(const reader *r, const Onnx__TensorProto *t, nsk_value *value) {
    size_t count = nsk_value_count(value);
    bool wide = t->data_type == ONNX__TENSOR_PROTO__DATA_TYPE__INT64;
    size_t typed = wide ? t->n_int64_data : t->n_int32_data;
    size_t has = t->has_raw_data ? t->raw_data.len / (wide ? 8 : 4) : typed;
    if (has != count) {
        return wrong_length(r, value, has);
    }
    value->integers = g_new0(int64_t, count + 1);
    for (size_t i = 0; i < count; i++) {
        int32_t narrow = 0;
        if (t->has_raw_data && wide) {
            memcpy(&value->integers[i], t->raw_data.data + 8 * i, 8);
        } else if (t->has_raw_data) {
            memcpy(&narrow, t->raw_data.data + 4 * i, 4);
            value->integers[i] = narrow;
        } else {
            value->integers[i] = wide ? t->int64_data[i] : t->int32_data[i];
        }
    }
    return true;
}

static bool load_tensor(reader *r, const Onnx__TensorProto *t, int index) {
    nsk_value *value = nsk_graph_value(r->graph, index);
    if (t->has_data_location && t->data_location == ONNX__TENSOR_PROTO__DATA_LOCATION__EXTERNAL) {
        return nsk_fail(r->error,
                        "constant '%s' stands in a file of its own; export the model as "
                        "one file",
                        value->name);
    }
    if (!tensor_shape(r, t, value)) {
        return false;
    }
    switch (t->data_type) {
    case ONNX__TENSOR_PROTO__DATA_TYPE__FLOAT:
        return load_floats(r, t, value);
    case ONNX__TENSOR_PROTO__DATA_TYPE__INT32:
    case ONNX__TENSOR_PROTO__DATA_TYPE__INT64:
        return load_integers(r, t, value);
    default:
        return nsk_fail(r->error,
                        "constant '%s' has ONNX data type %d; float, int32 and int64 are "
                        "read: export in 32-bit float",
                        value->name, t->data_type);
    }
}

static bool read_initializers(reader *r) {
    for (size_t i = 0; i < r->source->n_initializer; i++) {
        const Onnx__TensorProto *t = r->source->initializer[i];
        int value = define(r, t->name, "a constant");
        if (value == NSK_NONE || !load_tensor(r, t, value)) {
            return false;
        }
    }
    return r->source->n_sparse_initializer == 0 ||
           nsk_fail(r->error, "sparse constants are not read; export them dense");
}

/* ---- the input ---- */

/* One axis of the input's shape; a size left open is taken from `hint` (0: none). */
static bool input_axis(const reader *r, const Onnx__TensorShapeProto__Dimension *d, int64_t hint,
                       const char *what, int64_t *to) {
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

static bool read_input_shape(const reader *r, const Onnx__ValueInfoProto *info, nsk_value *value) {
    const Onnx__TypeProto__Tensor *tensor =
        info->type != NULL && info->type->value_case == ONNX__TYPE_PROTO__VALUE_TENSOR_TYPE
            ? info->type->tensor_type
            : NULL;
    if (tensor == NULL || tensor->shape == NULL || tensor->shape->n_dim != 4) {
        return nsk_fail(r->error,
                        "input '%s' is not a batch of pictures (batch x channels x height "
                        "x width)",
                        value->name);
    }
    if (tensor->elem_type != ONNX__TENSOR_PROTO__DATA_TYPE__FLOAT) {
        return nsk_fail(r->error, "input '%s' is not 32-bit float; export in 32-bit float",
                        value->name);
    }
    Onnx__TensorShapeProto__Dimension *const *d = tensor->shape->dim;
    bool fixed = d[0]->value_case == ONNX__TENSOR_SHAPE_PROTO__DIMENSION__VALUE_DIM_VALUE;
    if (fixed && d[0]->dim_value > 1) {
        return nsk_fail(r->error,
                        "input '%s' is fixed at %" G_GINT64_FORMAT " pictures a batch; "
                        "export with one, or leave it open",
                        value->name, d[0]->dim_value);
    }
    value->rank = 4;
    value->dims[0] = 1;
    value->shaped = true;
    const nsk_input *hint = r->input;
    int channels = hint == NULL ? 0 : hint->colour == NSK_GREY ? 1 : 3;
    return input_axis(r, d[1], channels, "count of channels", &value->dims[1]) &&
           input_axis(r, d[2], hint != NULL ? hint->height : 0, "height", &value->dims[2]) &&
           input_axis(r, d[3], hint != NULL ? hint->width : 0, "width", &value->dims[3]);
}

static bool read_input(reader *r) {
    for (size_t i = 0; i < r->source->n_input; i++) {
        const Onnx__ValueInfoProto *info = r->source->input[i];
        if (info->name != NULL && find(r, info->name) != NSK_NONE) {
            continue; /* a constant that is listed as an input too */
        }
        if (r->graph->input != NSK_NONE) {
            return nsk_fail(r->error, "two inputs, '%s' and '%s'; a classifier has one",
                            nsk_graph_value(r->graph, r->graph->input)->name, info->name);
        }
        int value = define(r, info->name, "the input");
        if (value == NSK_NONE || !read_input_shape(r, info, nsk_graph_value(r->graph, value))) {
            return false;
        }
        r->graph->input = value;
    }
    return r->graph->input != NSK_NONE || nsk_fail(r->error, "the graph has no input");
}

/* ---- nodes ---- */

static bool read_constant_node(reader *r, const Onnx__NodeProto *node) {
    const Onnx__AttributeProto *a =
        nsk_onnx_attribute(node, "value", ONNX__ATTRIBUTE_PROTO__ATTRIBUTE_TYPE__TENSOR);
    if (a == NULL || a->t == NULL) {
        return nsk_fail(r->error, "node '%s' (Constant): only the attribute 'value' is read",
                        node->name);
    }
    int value = define(r, node->output[0], "a Constant node's output");
    return value != NSK_NONE && load_tensor(r, a->t, value);
}

static bool unsupported(const reader *r, const Onnx__NodeProto *node) {
    char *list = nsk_onnx_operator_list();
    bool other = node->domain != NULL && *node->domain != '\0';
    nsk_fail(r->error, "node '%s': operator '%s%s%s' is not supported; supported are: %s",
             node->name, other ? node->domain : "", other ? "." : "", node->op_type, list);
    g_free(list);
    return false;
}

static bool read_inputs(const reader *r, const Onnx__NodeProto *source,
                        const nsk_onnx_operator *rule, nsk_node *node) {
    if (source->n_input < (size_t)rule->least || source->n_input > (size_t)rule->most) {
        return nsk_fail(r->error, "node '%s' (%s): %zu inputs; it takes %d to %d", node->name,
                        source->op_type, source->n_input, rule->least, rule->most);
    }
    for (int i = 0; i < (int)source->n_input; i++) {
        const char *name = source->input[i];
        node->input[i] = *name == '\0' ? NSK_NONE : find(r, name);
        if (node->input[i] == NSK_NONE && (*name != '\0' || i < rule->least)) {
            return nsk_fail(r->error, "node '%s' (%s): input '%s' comes from nowhere before it",
                            node->name, source->op_type, name);
        }
    }
    node->inputs = (int)source->n_input;
    return true;
}

/* Integers are read where they are shapes or pads, and nowhere else. */
static bool check_integers(const reader *r, const nsk_node *node) {
    for (int i = 0; i < node->inputs; i++) {
        const nsk_value *in = nsk_node_input(r->graph, node, i);
        bool meant = i == 1 && (node->op == NSK_OP_RESHAPE || node->op == NSK_OP_PAD);
        if (in != NULL && in->integers != NULL && !meant) {
            return nsk_fail(r->error,
                            "node '%s' (%s): computing with integers is not supported; "
                            "simplify the model when exporting",
                            node->name, nsk_op_name(node->op));
        }
    }
    return true;
}

static bool read_computing_node(reader *r, const Onnx__NodeProto *source,
                                const nsk_onnx_operator *rule) {
    nsk_onnx_source from = {source, r->opset, r->error};
    int output = define(r, source->output[0], "a node's output");
    if (output == NSK_NONE) {
        return false;
    }
    int at = nsk_graph_add_node(r->graph, rule->op, source->name, output);
    nsk_node *node = nsk_graph_node(r->graph, at);
    node->attributes.low = -INFINITY;
    node->attributes.high = INFINITY;
    return read_inputs(r, source, rule, node) && check_integers(r, node) &&
           (rule->read == NULL || rule->read(&from, &node->attributes));
}

static bool is_standard_domain(const char *domain) {
    return domain == NULL || *domain == '\0' || strcmp(domain, "ai.onnx") == 0;
}

static bool read_named_node(reader *r, const Onnx__NodeProto *source) {
    const nsk_onnx_operator *rule =
        is_standard_domain(source->domain) ? nsk_onnx_operator_find(source->op_type) : NULL;
    if (rule == NULL) {
        return unsupported(r, source);
    }
    return rule->op == NSK_OP_CONSTANT ? read_constant_node(r, source)
                                       : read_computing_node(r, source, rule);
}

/* A node without a name is called by its operator and place. */
static bool read_node(reader *r, Onnx__NodeProto *source, size_t index) {
    if (source->op_type == NULL || source->n_output < 1) {
        return nsk_fail(r->error, "node %zu has no operator or no output; the file is damaged",
                        index + 1);
    }
    bool named = source->name != NULL && *source->name != '\0';
    if (named && !g_utf8_validate(source->name, -1, NULL)) {
        return nsk_fail(r->error, "node %zu has a name that is not UTF-8", index + 1);
    }
    if (named) {
        return read_named_node(r, source);
    }
    char *kept = source->name;
    source->name = g_strdup_printf("%s-%zu", source->op_type, index + 1);
    bool good = read_named_node(r, source);
    g_free(source->name);
    source->name = kept;
    return good;
}

static bool read_nodes(reader *r) {
    if (r->source->n_node == 0 || r->source->n_node > MOST_NODES) {
        return nsk_fail(r->error, "%zu nodes; between 1 and %zu are read", r->source->n_node,
                        MOST_NODES);
    }
    for (size_t i = 0; i < r->source->n_node; i++) {
        if (!read_node(r, r->source->node[i], i)) {
            return false;
        }
    }
    return true;
}

static bool read_output(reader *r) {
    if (r->source->n_output != 1) {
        return nsk_fail(r->error, "%zu outputs; a classifier has one", r->source->n_output);
    }
    const char *name = r->source->output[0]->name;
    r->graph->output = name != NULL ? find(r, name) : NSK_NONE;
    if (r->graph->output == NSK_NONE ||
        nsk_graph_value(r->graph, r->graph->output)->producer == NSK_NONE) {
        return nsk_fail(r->error, "no node makes the output '%s'", name != NULL ? name : "");
    }
    return true;
}

static bool read_opset(const Onnx__ModelProto *model, reader *r) {
    for (size_t i = 0; i < model->n_opset_import; i++) {
        const Onnx__OperatorSetIdProto *set = model->opset_import[i];
        if (is_standard_domain(set->domain)) {
            r->opset = set->version;
        }
    }
    if (r->opset < OLDEST_OPSET || r->opset > NEWEST_OPSET) {
        return nsk_fail(r->error,
                        "ONNX operator set %" G_GINT64_FORMAT "; %" G_GINT64_FORMAT
                        " to %" G_GINT64_FORMAT " are read: export with one of them",
                        r->opset, OLDEST_OPSET, NEWEST_OPSET);
    }
    return true;
}

nsk_graph *nsk_onnx_read(const uint8_t *bytes, size_t size, const nsk_input *input,
                         nsk_error *error) {
    Onnx__ModelProto *model = onnx__model_proto__unpack(NULL, size, bytes);
    if (model == NULL || model->graph == NULL) {
        nsk_fail(error, "not an ONNX model, or cut short");
        if (model != NULL) {
            onnx__model_proto__free_unpacked(model, NULL);
        }
        return NULL;
    }
    reader r = {.source = model->graph, .input = input, .error = error};
    r.graph = nsk_graph_new();
    r.by_name = g_hash_table_new(g_str_hash, g_str_equal);
    bool good = read_opset(model, &r) && read_initializers(&r) && read_input(&r) &&
                read_nodes(&r) && read_output(&r);
    g_hash_table_destroy(r.by_name);
    onnx__model_proto__free_unpacked(model, NULL);
    if (!good) {
        nsk_graph_free(r.graph);
        return NULL;
    }
    return r.graph;
}
