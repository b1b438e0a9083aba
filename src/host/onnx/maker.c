#include "onnx/maker.h"

#include <string.h>

enum { MOST_INPUTS = 72, MOST_ATTRIBUTES = 12 };

/* Messages are built in memory that is freed all at once. */
struct nsk_onnx_maker {
    GPtrArray *memory;
    GPtrArray *nodes, *constants, *facts;
    Onnx__ModelProto model;
    Onnx__GraphProto graph;
    Onnx__OperatorSetIdProto opset;
    Onnx__OperatorSetIdProto *opsets[1];
    Onnx__ValueInfoProto *inputs[1], *outputs[1];
};

static void *keep(nsk_onnx_maker *m, void *memory) {
    g_ptr_array_add(m->memory, memory);
    return memory;
}

static char *keep_text(nsk_onnx_maker *m, const char *text) {
    return keep(m, g_strdup(text));
}

nsk_onnx_maker *nsk_onnx_maker_new(const char *graph_name, const char *producer, int64_t opset) {
    nsk_onnx_maker *m = g_new0(nsk_onnx_maker, 1);
    m->memory = g_ptr_array_new_with_free_func(g_free);
    m->nodes = g_ptr_array_new();
    m->constants = g_ptr_array_new();
    m->facts = g_ptr_array_new();
    onnx__model_proto__init(&m->model);
    onnx__graph_proto__init(&m->graph);
    onnx__operator_set_id_proto__init(&m->opset);
    m->opset.has_version = 1;
    m->opset.version = opset;
    m->opsets[0] = &m->opset;
    m->graph.name = keep_text(m, graph_name);
    m->graph.input = m->inputs;
    m->graph.output = m->outputs;
    m->model.has_ir_version = 1;
    m->model.ir_version = opset < 21 ? 7 : 10;
    m->model.producer_name = keep_text(m, producer);
    m->model.n_opset_import = 1;
    m->model.opset_import = m->opsets;
    m->model.graph = &m->graph;
    return m;
}

void nsk_onnx_maker_free(nsk_onnx_maker *m) {
    g_ptr_array_free(m->nodes, TRUE);
    g_ptr_array_free(m->constants, TRUE);
    g_ptr_array_free(m->facts, TRUE);
    g_ptr_array_free(m->memory, TRUE);
    g_free(m);
}

static Onnx__TensorShapeProto *make_shape(nsk_onnx_maker *m, int rank, const int64_t *dims) {
    Onnx__TensorShapeProto *shape = keep(m, g_new(Onnx__TensorShapeProto, 1));
    onnx__tensor_shape_proto__init(shape);
    shape->n_dim = (size_t)rank;
    shape->dim = keep(m, g_new0(Onnx__TensorShapeProto__Dimension *, rank));
    for (int i = 0; i < rank; i++) {
        Onnx__TensorShapeProto__Dimension *d = keep(m, g_new(Onnx__TensorShapeProto__Dimension, 1));
        onnx__tensor_shape_proto__dimension__init(d);
        bool open = dims[i] == 0;
        d->value_case = open ? ONNX__TENSOR_SHAPE_PROTO__DIMENSION__VALUE_DIM_PARAM
                             : ONNX__TENSOR_SHAPE_PROTO__DIMENSION__VALUE_DIM_VALUE;
        if (open) {
            d->dim_param = keep_text(m, "batch");
        } else {
            d->dim_value = dims[i];
        }
        shape->dim[i] = d;
    }
    return shape;
}

static Onnx__ValueInfoProto *make_value(nsk_onnx_maker *m, const char *name, int rank,
                                        const int64_t *dims) {
    Onnx__ValueInfoProto *info = keep(m, g_new(Onnx__ValueInfoProto, 1));
    Onnx__TypeProto *type = keep(m, g_new(Onnx__TypeProto, 1));
    Onnx__TypeProto__Tensor *tensor = keep(m, g_new(Onnx__TypeProto__Tensor, 1));
    onnx__value_info_proto__init(info);
    onnx__type_proto__init(type);
    onnx__type_proto__tensor__init(tensor);
    tensor->has_elem_type = 1;
    tensor->elem_type = ONNX__TENSOR_PROTO__DATA_TYPE__FLOAT;
    tensor->shape = make_shape(m, rank, dims);
    type->value_case = ONNX__TYPE_PROTO__VALUE_TENSOR_TYPE;
    type->tensor_type = tensor;
    info->name = keep_text(m, name);
    info->type = type;
    return info;
}

void nsk_onnx_put_input(nsk_onnx_maker *m, const char *name, int rank, const int64_t *dims) {
    m->inputs[0] = make_value(m, name, rank, dims);
    m->graph.n_input = 1;
}

void nsk_onnx_put_output(nsk_onnx_maker *m, const char *name, int rank, const int64_t *dims) {
    m->outputs[0] = make_value(m, name, rank, dims);
    m->graph.n_output = 1;
}

void nsk_onnx_put_constant(nsk_onnx_maker *m, const char *name, int type, int rank,
                           const int64_t *dims, const void *elements, size_t size) {
    Onnx__TensorProto *t = keep(m, g_new(Onnx__TensorProto, 1));
    onnx__tensor_proto__init(t);
    t->name = keep_text(m, name);
    t->n_dims = (size_t)rank;
    t->dims = keep(m, g_memdup2(dims, (gsize)rank * sizeof *dims));
    t->has_data_type = 1;
    t->data_type = type;
    t->has_raw_data = 1;
    t->raw_data.len = size;
    t->raw_data.data = keep(m, g_memdup2(elements, size));
    g_ptr_array_add(m->constants, t);
}

void nsk_onnx_put_floats(nsk_onnx_maker *m, const char *name, int rank, const int64_t *dims,
                         const float *numbers) {
    size_t count = 1;
    for (int i = 0; i < rank; i++) {
        count *= (size_t)dims[i];
    }
    nsk_onnx_put_constant(m, name, ONNX__TENSOR_PROTO__DATA_TYPE__FLOAT, rank, dims, numbers,
                          count * sizeof *numbers);
}

void nsk_onnx_put_integers(nsk_onnx_maker *m, const char *name, int64_t count,
                           const int64_t *numbers) {
    nsk_onnx_put_constant(m, name, ONNX__TENSOR_PROTO__DATA_TYPE__INT64, 1, &count, numbers,
                          (size_t)count * sizeof *numbers);
}

Onnx__NodeProto *nsk_onnx_put_node(nsk_onnx_maker *m, const char *op, const char *name,
                                   const char *output) {
    Onnx__NodeProto *n = keep(m, g_new(Onnx__NodeProto, 1));
    onnx__node_proto__init(n);
    n->op_type = keep_text(m, op);
    n->name = keep_text(m, name);
    n->input = keep(m, g_new0(char *, MOST_INPUTS));
    n->output = keep(m, g_new0(char *, 1));
    n->output[n->n_output++] = keep_text(m, output);
    n->attribute = keep(m, g_new0(Onnx__AttributeProto *, MOST_ATTRIBUTES));
    g_ptr_array_add(m->nodes, n);
    return n;
}

void nsk_onnx_add_input(nsk_onnx_maker *m, Onnx__NodeProto *node, const char *name) {
    g_assert(node->n_input < MOST_INPUTS);
    node->input[node->n_input++] = keep_text(m, name != NULL ? name : "");
}

static Onnx__AttributeProto *add_attribute(nsk_onnx_maker *m, Onnx__NodeProto *node,
                                           const char *name,
                                           Onnx__AttributeProto__AttributeType type) {
    Onnx__AttributeProto *a = keep(m, g_new(Onnx__AttributeProto, 1));
    onnx__attribute_proto__init(a);
    a->name = keep_text(m, name);
    a->has_type = 1;
    a->type = type;
    g_assert(node->n_attribute < MOST_ATTRIBUTES);
    node->attribute[node->n_attribute++] = a;
    return a;
}

void nsk_onnx_add_int(nsk_onnx_maker *m, Onnx__NodeProto *node, const char *name, int64_t value) {
    Onnx__AttributeProto *a =
        add_attribute(m, node, name, ONNX__ATTRIBUTE_PROTO__ATTRIBUTE_TYPE__INT);
    a->has_i = 1;
    a->i = value;
}

void nsk_onnx_add_float(nsk_onnx_maker *m, Onnx__NodeProto *node, const char *name, double value) {
    Onnx__AttributeProto *a =
        add_attribute(m, node, name, ONNX__ATTRIBUTE_PROTO__ATTRIBUTE_TYPE__FLOAT);
    a->has_f = 1;
    a->f = (float)value;
}

void nsk_onnx_add_text(nsk_onnx_maker *m, Onnx__NodeProto *node, const char *name,
                       const char *value) {
    Onnx__AttributeProto *a =
        add_attribute(m, node, name, ONNX__ATTRIBUTE_PROTO__ATTRIBUTE_TYPE__STRING);
    a->has_s = 1;
    a->s.len = strlen(value);
    a->s.data = keep(m, g_strdup(value));
}

void nsk_onnx_add_ints(nsk_onnx_maker *m, Onnx__NodeProto *node, const char *name, size_t count,
                       const int64_t *values) {
    Onnx__AttributeProto *a =
        add_attribute(m, node, name, ONNX__ATTRIBUTE_PROTO__ATTRIBUTE_TYPE__INTS);
    a->n_ints = count;
    a->ints = keep(m, g_memdup2(values, count * sizeof *values));
}

void nsk_onnx_put_fact(nsk_onnx_maker *m, const char *key, const char *value) {
    Onnx__StringStringEntryProto *e = keep(m, g_new(Onnx__StringStringEntryProto, 1));
    onnx__string_string_entry_proto__init(e);
    e->key = keep_text(m, key);
    e->value = keep_text(m, value);
    g_ptr_array_add(m->facts, e);
}

uint8_t *nsk_onnx_maker_bytes(nsk_onnx_maker *m, size_t *size) {
    m->graph.n_node = m->nodes->len;
    m->graph.node = (Onnx__NodeProto **)m->nodes->pdata;
    m->graph.n_initializer = m->constants->len;
    m->graph.initializer = (Onnx__TensorProto **)m->constants->pdata;
    m->model.n_metadata_props = m->facts->len;
    m->model.metadata_props = (Onnx__StringStringEntryProto **)m->facts->pdata;
    *size = onnx__model_proto__get_packed_size(&m->model);
    uint8_t *bytes = g_malloc(*size);
    onnx__model_proto__pack(&m->model, bytes);
    return bytes;
}

bool nsk_onnx_maker_write(nsk_onnx_maker *m, const char *path, nsk_error *error) {
    size_t size = 0;
    uint8_t *bytes = nsk_onnx_maker_bytes(m, &size);
    bool good = nsk_file_write(path, bytes, size, error);
    g_free(bytes);
    return good;
}
