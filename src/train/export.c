#include "train/export.h"

#include <string.h>

#include "onnx.pb-c.h"

/* Messages are built in one memory chunk that is freed whole. */
typedef struct builder {
    GPtrArray *memory;
    GPtrArray *nodes, *initializers;
    char *last; /* the newest tensor's name */
} builder;

static void *keep(builder *b, void *memory) {
    g_ptr_array_add(b->memory, memory);
    return memory;
}

static char *keep_text(builder *b, const char *format, int number) {
    return keep(b, g_strdup_printf(format, number));
}

static Onnx__AttributeProto *ints_attribute(builder *b, const char *name, size_t count,
                                            const int64_t *values) {
    Onnx__AttributeProto *a = keep(b, g_new(Onnx__AttributeProto, 1));
    onnx__attribute_proto__init(a);
    a->name = keep(b, g_strdup(name));
    a->has_type = 1;
    a->type = ONNX__ATTRIBUTE_PROTO__ATTRIBUTE_TYPE__INTS;
    a->n_ints = count;
    a->ints = keep(b, g_memdup2(values, count * sizeof *values));
    return a;
}

static Onnx__AttributeProto *int_attribute(builder *b, const char *name, int64_t value) {
    Onnx__AttributeProto *a = ints_attribute(b, name, 0, NULL);
    a->type = ONNX__ATTRIBUTE_PROTO__ATTRIBUTE_TYPE__INT;
    a->has_i = 1;
    a->i = value;
    return a;
}

static Onnx__AttributeProto *float_attribute(builder *b, const char *name, float value) {
    Onnx__AttributeProto *a = ints_attribute(b, name, 0, NULL);
    a->type = ONNX__ATTRIBUTE_PROTO__ATTRIBUTE_TYPE__FLOAT;
    a->has_f = 1;
    a->f = value;
    return a;
}

/* `values` becomes the builder's. */
static char *initializer(builder *b, char *name, size_t rank, const int64_t *dims, float *values) {
    Onnx__TensorProto *t = keep(b, g_new(Onnx__TensorProto, 1));
    onnx__tensor_proto__init(t);
    size_t count = 1;
    for (size_t i = 0; i < rank; i++) {
        count *= (size_t)dims[i];
    }
    t->name = name;
    t->n_dims = rank;
    t->dims = keep(b, g_memdup2(dims, rank * sizeof *dims));
    t->has_data_type = 1;
    t->data_type = ONNX__TENSOR_PROTO__DATA_TYPE__FLOAT;
    t->has_raw_data = 1;
    t->raw_data.len = count * sizeof(float);
    t->raw_data.data = keep(b, values);
    g_ptr_array_add(b->initializers, t);
    return name;
}

/* Adds a node on the newest tensor; returns it so that inputs and attributes can follow. */
static Onnx__NodeProto *node(builder *b, const char *op_type, int number) {
    enum { MOST = 8 };
    Onnx__NodeProto *n = keep(b, g_new(Onnx__NodeProto, 1));
    onnx__node_proto__init(n);
    char *lower = g_ascii_strdown(op_type, -1);
    char *name = keep(b, g_strdup_printf("%s%d", lower, number));
    g_free(lower);
    n->op_type = keep(b, g_strdup(op_type));
    n->name = name;
    n->input = keep(b, g_new0(char *, MOST));
    n->input[n->n_input++] = b->last;
    n->output = keep(b, g_new0(char *, 1));
    n->output[n->n_output++] = b->last = keep(b, g_strdup_printf("%s_out", name));
    n->attribute = keep(b, g_new0(Onnx__AttributeProto *, MOST));
    g_ptr_array_add(b->nodes, n);
    return n;
}

static void add_attribute(Onnx__NodeProto *n, Onnx__AttributeProto *a) {
    n->attribute[n->n_attribute++] = a;
}

static void add_input(Onnx__NodeProto *n, char *name) {
    n->input[n->n_input++] = name;
}

/* [out][tap][in] to ONNX's [out][in][tap]; depthwise is [tap][out] with one input each. */
static float *transposed(const nsk_train_layer *l) {
    size_t taps = (size_t)(l->kernel * l->kernel);
    bool depthwise = l->kind == NSK_TRAIN_DEPTHWISE;
    size_t inputs = depthwise ? 1 : (size_t)l->in_channels;
    float *to = g_new(float, l->weight.count);
    for (size_t o = 0; o < (size_t)l->channels; o++) {
        for (size_t i = 0; i < inputs; i++) {
            for (size_t t = 0; t < taps; t++) {
                size_t from = depthwise ? t * (size_t)l->channels + o : (o * taps + t) * inputs + i;
                to[(o * inputs + i) * taps + t] = l->weight.value[from];
            }
        }
    }
    return to;
}

static void add_window(builder *b, const nsk_train_layer *l, int number) {
    bool depthwise = l->kind == NSK_TRAIN_DEPTHWISE;
    const int64_t kernel[] = {l->kernel, l->kernel};
    const int64_t stride[] = {l->stride, l->stride};
    const int64_t pads[] = {l->pad, l->pad, l->pad, l->pad};
    const int64_t dims[] = {l->channels, depthwise ? 1 : l->in_channels, l->kernel, l->kernel};
    Onnx__NodeProto *n = node(b, "Conv", number);
    add_input(n, initializer(b, keep_text(b, "conv%d_weight", number), 4, dims, transposed(l)));
    add_attribute(n, int_attribute(b, "group", depthwise ? l->channels : 1));
    add_attribute(n, ints_attribute(b, "kernel_shape", 2, kernel));
    add_attribute(n, ints_attribute(b, "pads", 4, pads));
    add_attribute(n, ints_attribute(b, "strides", 2, stride));
}

static char *vector(builder *b, const char *format, int number, const float *values, int count) {
    const int64_t dims[] = {count};
    return initializer(b, keep_text(b, format, number), 1, dims,
                       g_memdup2(values, (size_t)count * sizeof *values));
}

static void add_norm(builder *b, const nsk_train_layer *l, int number) {
    Onnx__NodeProto *n = node(b, "BatchNormalization", number);
    n->name = keep_text(b, "norm%d", number);
    add_input(n, vector(b, "norm%d_gain", number, l->weight.value, l->channels));
    add_input(n, vector(b, "norm%d_offset", number, l->bias.value, l->channels));
    add_input(n, vector(b, "norm%d_mean", number, l->running_mean, l->channels));
    add_input(n, vector(b, "norm%d_variance", number, l->running_variance, l->channels));
    add_attribute(n, float_attribute(b, "epsilon", 1e-5F));
}

static void add_dense(builder *b, const nsk_train_layer *l, int number) {
    int64_t inputs = (int64_t)(l->weight.count / (size_t)l->channels);
    const int64_t dims[] = {l->channels, inputs};
    g_assert(l->in_height * l->in_width == 1);
    node(b, "Flatten", number);
    Onnx__NodeProto *n = node(b, "Gemm", number);
    n->name = keep_text(b, "dense%d", number);
    add_input(n, initializer(b, keep_text(b, "dense%d_weight", number), 2, dims,
                             g_memdup2(l->weight.value, l->weight.count * sizeof(float))));
    add_input(n, vector(b, "dense%d_bias", number, l->bias.value, l->channels));
    add_attribute(n, int_attribute(b, "transB", 1));
}

static void add_layers(builder *b, const nsk_train_net *net) {
    int number = 0;
    for (int i = 0; i < net->layers; i++) {
        const nsk_train_layer *l = &net->layer[i];
        switch (l->kind) {
        case NSK_TRAIN_CONV:
        case NSK_TRAIN_DEPTHWISE:
            add_window(b, l, ++number);
            break;
        case NSK_TRAIN_BATCH_NORM:
            add_norm(b, l, number);
            break;
        case NSK_TRAIN_RELU:
            node(b, "Relu", number);
            break;
        case NSK_TRAIN_MEAN_POOL:
            node(b, "GlobalAveragePool", number);
            break;
        default:
            add_dense(b, l, ++number);
        }
    }
    Onnx__NodeProto *n = node(b, "Softmax", number);
    add_attribute(n, int_attribute(b, "axis", -1));
    n->output[0] = b->last = keep(b, g_strdup("probabilities"));
}

/* A graph input or output; a dimension of 0 is the batch, left open. */
static Onnx__ValueInfoProto **value_info(builder *b, const char *name, size_t rank,
                                         const int64_t *dims) {
    Onnx__ValueInfoProto *info = keep(b, g_new(Onnx__ValueInfoProto, 1));
    Onnx__TypeProto *type = keep(b, g_new(Onnx__TypeProto, 1));
    Onnx__TypeProto__Tensor *tensor = keep(b, g_new(Onnx__TypeProto__Tensor, 1));
    Onnx__TensorShapeProto *shape = keep(b, g_new(Onnx__TensorShapeProto, 1));
    onnx__value_info_proto__init(info);
    onnx__type_proto__init(type);
    onnx__type_proto__tensor__init(tensor);
    onnx__tensor_shape_proto__init(shape);
    shape->n_dim = rank;
    shape->dim = keep(b, g_new0(Onnx__TensorShapeProto__Dimension *, rank));
    for (size_t i = 0; i < rank; i++) {
        Onnx__TensorShapeProto__Dimension *d = keep(b, g_new(Onnx__TensorShapeProto__Dimension, 1));
        onnx__tensor_shape_proto__dimension__init(d);
        bool open = dims[i] == 0;
        d->value_case = open ? ONNX__TENSOR_SHAPE_PROTO__DIMENSION__VALUE_DIM_PARAM
                             : ONNX__TENSOR_SHAPE_PROTO__DIMENSION__VALUE_DIM_VALUE;
        if (open) {
            d->dim_param = keep(b, g_strdup("batch"));
        } else {
            d->dim_value = dims[i];
        }
        shape->dim[i] = d;
    }
    tensor->has_elem_type = 1;
    tensor->elem_type = ONNX__TENSOR_PROTO__DATA_TYPE__FLOAT;
    tensor->shape = shape;
    type->value_case = ONNX__TYPE_PROTO__VALUE_TENSOR_TYPE;
    type->tensor_type = tensor;
    info->name = keep(b, g_strdup(name));
    info->type = type;
    Onnx__ValueInfoProto **list = keep(b, g_new(Onnx__ValueInfoProto *, 1));
    list[0] = info;
    return list;
}

static bool write_model(builder *b, const nsk_train_net *net, const char *name, const char *path,
                        nsk_error *error) {
    const int64_t in[] = {0, net->channels, net->height, net->width};
    const int64_t out[] = {0, net->layer[net->layers - 1].channels};
    Onnx__GraphProto graph = ONNX__GRAPH_PROTO__INIT;
    graph.name = keep(b, g_strdup(name));
    graph.n_node = b->nodes->len;
    graph.node = (Onnx__NodeProto **)b->nodes->pdata;
    graph.n_initializer = b->initializers->len;
    graph.initializer = (Onnx__TensorProto **)b->initializers->pdata;
    graph.n_input = 1;
    graph.input = value_info(b, "image", 4, in);
    graph.n_output = 1;
    graph.output = value_info(b, "probabilities", 2, out);
    Onnx__OperatorSetIdProto opset = ONNX__OPERATOR_SET_ID_PROTO__INIT;
    opset.has_version = 1;
    opset.version = 13;
    Onnx__OperatorSetIdProto *opsets[] = {&opset};
    Onnx__ModelProto model = ONNX__MODEL_PROTO__INIT;
    model.has_ir_version = 1;
    model.ir_version = 7;
    model.producer_name = keep(b, g_strdup("netsuke trainer"));
    model.n_opset_import = 1;
    model.opset_import = opsets;
    model.graph = &graph;
    size_t size = onnx__model_proto__get_packed_size(&model);
    uint8_t *bytes = keep(b, g_malloc(size));
    onnx__model_proto__pack(&model, bytes);
    return nsk_file_write(path, bytes, size, error);
}

bool nsk_train_export(const nsk_train_net *net, const char *name, const char *path,
                      nsk_error *error) {
    builder b = {g_ptr_array_new_with_free_func(g_free), g_ptr_array_new(), g_ptr_array_new(),
                 NULL};
    b.last = keep(&b, g_strdup("image"));
    add_layers(&b, net);
    bool good = write_model(&b, net, name, path, error);
    g_ptr_array_free(b.nodes, TRUE);
    g_ptr_array_free(b.initializers, TRUE);
    g_ptr_array_free(b.memory, TRUE);
    return good;
}
