#include "support.h"

#include <math.h>
#include <stdio.h>
#include <stdlib.h>
#include <string.h>

#include "attribute.h"
#include "images/picture.h"
#include "onnx.pb-c.h"
#include "scene.h"
#include "suites.h"

void scratch_npy_header(GByteArray *file, const int *dims, int rank) {
    GString *shape = g_string_new(NULL);
    for (int i = 0; i < rank; i++) {
        g_string_append_printf(shape, "%d, ", dims[i]);
    }
    char *header =
        g_strdup_printf("{'descr': '|u1', 'fortran_order': False, 'shape': (%s), }\n", shape->str);
    const uint8_t start[] = {0x93, 'N', 'U', 'M', 'P', 'Y', 1, 0, (uint8_t)strlen(header), 0};
    g_byte_array_append(file, start, sizeof start);
    g_byte_array_append(file, (const guint8 *)header, (guint)strlen(header));
    g_free(header);
    g_string_free(shape, TRUE);
}

void assert_error(const nsk_error *error, const char *part) {
    bool found = part[0] != '\0' ? strstr(error->text, part) != NULL : error->text[0] == '\0';
    if (!found) {
        fprintf(stderr, "\n    said   \"%s\"\n    wanted \"%s\"\n", error->text, part);
    }
    CU_ASSERT(found);
}

/* ---- ONNX ---- */

struct onnx_maker {
    GPtrArray *memory, *nodes, *initializers;
    Onnx__ModelProto model;
    Onnx__GraphProto graph;
    Onnx__OperatorSetIdProto opset;
    Onnx__OperatorSetIdProto *opsets[1];
    Onnx__ValueInfoProto input, output;
    Onnx__ValueInfoProto *inputs[1], *outputs[1];
    Onnx__TypeProto type;
    Onnx__TypeProto__Tensor tensor;
    Onnx__TensorShapeProto shape;
    Onnx__TensorShapeProto__Dimension axis[4];
    Onnx__TensorShapeProto__Dimension *axes[4];
};

static void *keep(onnx_maker *maker, void *memory) {
    g_ptr_array_add(maker->memory, memory);
    return memory;
}

onnx_maker *onnx_new(int opset, int channels, int height, int width) {
    const int sizes[4] = {1, channels, height, width};
    onnx_maker *m = g_new0(onnx_maker, 1);
    m->memory = g_ptr_array_new_with_free_func(g_free);
    m->nodes = g_ptr_array_new();
    m->initializers = g_ptr_array_new();
    onnx__model_proto__init(&m->model);
    onnx__graph_proto__init(&m->graph);
    onnx__operator_set_id_proto__init(&m->opset);
    onnx__value_info_proto__init(&m->input);
    onnx__value_info_proto__init(&m->output);
    onnx__type_proto__init(&m->type);
    onnx__type_proto__tensor__init(&m->tensor);
    onnx__tensor_shape_proto__init(&m->shape);
    for (int i = 0; i < 4; i++) {
        onnx__tensor_shape_proto__dimension__init(&m->axis[i]);
        bool open = sizes[i] == 0;
        m->axis[i].value_case = open ? ONNX__TENSOR_SHAPE_PROTO__DIMENSION__VALUE_DIM_PARAM
                                     : ONNX__TENSOR_SHAPE_PROTO__DIMENSION__VALUE_DIM_VALUE;
        if (open) {
            m->axis[i].dim_param = keep(m, g_strdup("open"));
        } else {
            m->axis[i].dim_value = sizes[i];
        }
        m->axes[i] = &m->axis[i];
    }
    m->shape.n_dim = 4;
    m->shape.dim = m->axes;
    m->tensor.has_elem_type = 1;
    m->tensor.elem_type = ONNX__TENSOR_PROTO__DATA_TYPE__FLOAT;
    m->tensor.shape = &m->shape;
    m->type.value_case = ONNX__TYPE_PROTO__VALUE_TENSOR_TYPE;
    m->type.tensor_type = &m->tensor;
    m->input.name = keep(m, g_strdup("x"));
    m->input.type = &m->type;
    m->inputs[0] = &m->input;
    m->outputs[0] = &m->output;
    m->opset.has_version = 1;
    m->opset.version = opset;
    m->opsets[0] = &m->opset;
    return m;
}

static Onnx__TensorProto *add_tensor(onnx_maker *m, const char *name, int rank, const int *dims) {
    Onnx__TensorProto *t = keep(m, g_new(Onnx__TensorProto, 1));
    onnx__tensor_proto__init(t);
    t->name = keep(m, g_strdup(name));
    t->n_dims = (size_t)rank;
    t->dims = keep(m, g_new(int64_t, rank + 1));
    for (int i = 0; i < rank; i++) {
        t->dims[i] = dims[i];
    }
    t->has_data_type = 1;
    g_ptr_array_add(m->initializers, t);
    return t;
}

void onnx_floats(onnx_maker *m, const char *name, int rank, const int *dims, random_state *r,
                 float value) {
    Onnx__TensorProto *t = add_tensor(m, name, rank, dims);
    size_t count = 1;
    for (int i = 0; i < rank; i++) {
        count *= (size_t)dims[i];
    }
    double fan = rank == 2 ? MAX(dims[0], dims[1]) : rank > 1 ? (double)count / dims[0] : 4.0;
    t->data_type = ONNX__TENSOR_PROTO__DATA_TYPE__FLOAT;
    t->n_float_data = count;
    t->float_data = keep(m, g_new(float, count));
    for (size_t i = 0; i < count; i++) {
        t->float_data[i] = r != NULL ? value * (float)(random_normal(r) / sqrt(fan)) : value;
    }
}

void onnx_integers(onnx_maker *m, const char *name, int count, const int64_t *numbers) {
    Onnx__TensorProto *t = add_tensor(m, name, 1, &count);
    t->data_type = ONNX__TENSOR_PROTO__DATA_TYPE__INT64;
    t->has_raw_data = 1;
    t->raw_data.len = (size_t)count * 8;
    t->raw_data.data = keep(m, g_memdup2(numbers, (size_t)count * 8));
}

void onnx_bytes_constant(onnx_maker *m, const char *name, bool is_unsigned, int count,
                         const int8_t *numbers) {
    Onnx__TensorProto *t = add_tensor(m, name, 1, &count);
    t->data_type =
        is_unsigned ? ONNX__TENSOR_PROTO__DATA_TYPE__UINT8 : ONNX__TENSOR_PROTO__DATA_TYPE__INT8;
    t->has_raw_data = 1;
    t->raw_data.len = (size_t)count;
    t->raw_data.data = keep(m, g_memdup2(numbers, (size_t)count));
}

void onnx_short(onnx_maker *m, const char *name, int16_t number) {
    Onnx__TensorProto *t = add_tensor(m, name, 0, NULL);
    t->data_type = ONNX__TENSOR_PROTO__DATA_TYPE__INT16;
    t->has_raw_data = 1;
    t->raw_data.len = sizeof number;
    t->raw_data.data = keep(m, g_memdup2(&number, sizeof number));
}

/* "domain.Op" taken apart. */
static void name_parts(onnx_maker *m, const char *op, char **domain, char **name) {
    const char *dot = strchr(op, '.');
    *domain = dot != NULL ? keep(m, g_strndup(op, (gsize)(dot - op))) : NULL;
    *name = keep(m, g_strdup(dot != NULL ? dot + 1 : op));
}

static size_t list_names(onnx_maker *m, const char *names, char ***to) {
    char **parts = g_strsplit(names, " ", -1);
    size_t count = 0;
    *to = keep(m, g_new0(char *, g_strv_length(parts) + 1));
    for (char **part = parts; *part != NULL; part++) {
        (*to)[count++] = keep(m, g_strdup(*part));
    }
    g_strfreev(parts);
    return count;
}

void onnx_function(onnx_maker *m, const char *op, const char *inputs, const char *outputs,
                   int count) {
    Onnx__FunctionProto *f = keep(m, g_new(Onnx__FunctionProto, 1));
    Onnx__FunctionProto **all = keep(m, g_new0(Onnx__FunctionProto *, m->model.n_functions + 1));
    onnx__function_proto__init(f);
    name_parts(m, op, &f->domain, &f->name);
    f->n_input = list_names(m, inputs, &f->input);
    f->n_output = list_names(m, outputs, &f->output);
    f->n_node = (size_t)count;
    f->node = keep(m, g_new(Onnx__NodeProto *, f->n_node));
    memcpy(f->node, m->nodes->pdata + m->nodes->len - f->n_node, f->n_node * sizeof *f->node);
    g_ptr_array_set_size(m->nodes, (gint)(m->nodes->len - f->n_node));
    for (size_t i = 0; i < m->model.n_functions; i++) {
        all[i] = m->model.functions[i];
    }
    all[m->model.n_functions++] = f;
    m->model.functions = all;
}

/* As a field that the schema of the Debian package does not know yet: 11, behind its length. */
void onnx_default(onnx_maker *m, const char *attribute) {
    Onnx__FunctionProto *f = m->model.functions[m->model.n_functions - 1];
    const Onnx__AttributeProto *a = attribute_of(m->memory, attribute);
    size_t size = onnx__attribute_proto__get_packed_size(a);
    uint8_t *data = keep(m, g_malloc(size + 1));
    ProtobufCMessageUnknownField *field = keep(m, g_new0(ProtobufCMessageUnknownField, 1));
    data[0] = (uint8_t)size; /* below 128 */
    onnx__attribute_proto__pack(a, data + 1);
    *field =
        (ProtobufCMessageUnknownField){11, PROTOBUF_C_WIRE_TYPE_LENGTH_PREFIXED, size + 1, data};
    f->base.n_unknown_fields = 1;
    f->base.unknown_fields = field;
}

void onnx_node(onnx_maker *m, const char *op, const char *inputs, const char *output,
               const char *attributes) {
    Onnx__NodeProto *n = keep(m, g_new(Onnx__NodeProto, 1));
    onnx__node_proto__init(n);
    name_parts(m, op, &n->domain, &n->op_type);
    n->name = keep(m, g_strdup_printf("%s_of_%s", op, output));
    n->input = keep(m, g_new0(char *, 16));
    n->output = keep(m, g_new0(char *, 8));
    n->attribute = keep(m, g_new0(Onnx__AttributeProto *, 16));
    char **names = g_strsplit(output, " ", -1);
    for (char **name = names; *name != NULL; name++) {
        n->output[n->n_output++] = keep(m, g_strdup(*name));
    }
    g_strfreev(names);
    names = g_strsplit(inputs, " ", -1);
    for (char **name = names; *name != NULL; name++) {
        n->input[n->n_input++] = keep(m, g_strdup(strcmp(*name, "-") == 0 ? "" : *name));
    }
    char **parts = g_strsplit(attributes, " ", -1);
    for (char **part = parts; *part != NULL && **part != '\0'; part++) {
        n->attribute[n->n_attribute++] = attribute_of(m->memory, *part);
    }
    g_strfreev(names);
    g_strfreev(parts);
    m->output.name = n->output[0];
    g_ptr_array_add(m->nodes, n);
}

uint8_t *onnx_bytes(onnx_maker *m, size_t *size) {
    m->graph.name = keep(m, g_strdup("test"));
    m->graph.n_node = m->nodes->len;
    m->graph.node = (Onnx__NodeProto **)m->nodes->pdata;
    m->graph.n_initializer = m->initializers->len;
    m->graph.initializer = (Onnx__TensorProto **)m->initializers->pdata;
    m->graph.n_input = m->graph.n_output = 1;
    m->graph.input = m->inputs;
    m->graph.output = m->outputs;
    m->model.has_ir_version = 1;
    m->model.ir_version = 7;
    m->model.n_opset_import = 1;
    m->model.opset_import = m->opsets;
    m->model.graph = &m->graph;
    *size = onnx__model_proto__get_packed_size(&m->model);
    uint8_t *bytes = g_malloc(*size);
    onnx__model_proto__pack(&m->model, bytes);
    g_ptr_array_free(m->memory, TRUE);
    g_ptr_array_free(m->nodes, TRUE);
    g_ptr_array_free(m->initializers, TRUE);
    g_free(m);
    return bytes;
}

void onnx_finish(onnx_maker *m, const char *path) {
    size_t size;
    uint8_t *bytes = onnx_bytes(m, &size);
    scratch_write(path, bytes, size);
    g_free(bytes);
}

/* ---- the demo ---- */

void model_scores(const nsk_model_file *file, const uint8_t *frame, int32_t *scores) {
    nsk_model model;
    CU_ASSERT_EQUAL_FATAL(nsk_open(&model, file->bytes, file->size), NSK_STATUS_OK);
    void *workspace = g_malloc0(model.workspace_bytes);
    nsk_prepare(&model, frame, (size_t)model.width * model.channels, workspace);
    nsk_run(&model, workspace, NULL);
    memcpy(scores, nsk_scores(&model, workspace), model.classes * sizeof *scores);
    g_free(workspace);
}

/* What sanitizers look at does not take many images; how well they fit is seen without. */
static int enough(int images) {
    return TESTS_FEWER > 1 ? MIN(images, 12) : images;
}

void kiln_load(kiln *k, int images) {
    nsk_error error = {.text = ""};
    memset(k, 0, sizeof *k);
    k->brief = nsk_brief_read(NSK_SOURCE_DIR "/demo/kiln.ini", &error);
    CU_ASSERT_PTR_NOT_NULL_FATAL(k->brief);
    k->network = nsk_network_read(k->brief->model, &k->brief->input, k->brief->output, &error);
    CU_ASSERT_PTR_NOT_NULL_FATAL(k->network);
    k->calibration = nsk_images_open(k->brief->calibration, &k->brief->labels, &k->brief->input,
                                     enough(images), false, &error);
    CU_ASSERT_PTR_NOT_NULL_FATAL(k->calibration);
    k->held_out =
        nsk_images_open(k->brief->held_out, &k->brief->labels, &k->brief->input, 0, false, &error);
    CU_ASSERT_PTR_NOT_NULL_FATAL(k->held_out);
    k->file = nsk_quantise(k->network, k->calibration, NULL, &error);
    CU_ASSERT_PTR_NOT_NULL_FATAL(k->file);
}

void kiln_free(kiln *k) {
    nsk_model_file_free(k->file);
    nsk_images_free(k->held_out);
    nsk_images_free(k->calibration);
    nsk_network_free(k->network);
    nsk_brief_free(k->brief);
}

void noise_set(const char *folder, const nsk_labels *labels, int per_class, int width, int height) {
    random_state r = {99};
    nsk_error error;
    for (int c = 0; c < labels->count; c++) {
        for (int i = 0; i < per_class; i++) {
            nsk_picture picture = {.width = width, .height = height};
            picture.rgb = g_malloc((gsize)(3 * width * height));
            for (int b = 0; b < 3 * width * height; b++) {
                picture.rgb[b] = (uint8_t)random_below(&r, 256);
            }
            char *path = scratch_path(folder, "%s/%d.png", labels->names[c], i);
            CU_ASSERT(nsk_picture_write_png(&picture, path, &error));
            g_free(path);
            nsk_picture_clear(&picture);
        }
    }
}

nsk_images *kiln_fresh(const kiln *k, const char *folder, uint64_t seed, int count) {
    nsk_error error = {.text = ""};
    size_t each = (size_t)3 * SCENE_SIZE * SCENE_SIZE;
    GByteArray *pictures = g_byte_array_new();
    GByteArray *labels = g_byte_array_new();
    random_state r = {seed};
    scratch_npy_header(pictures, (const int[]){count, SCENE_SIZE, SCENE_SIZE, 3}, 4);
    scratch_npy_header(labels, &count, 1);
    uint8_t *rgb = g_malloc(each);
    for (int i = 0; i < count; i++) {
        const uint8_t label = (uint8_t)(i % k->brief->labels.count);
        scene_draw((kiln_class)(i % KILN_CLASSES), 0, &r, SCENE_SIZE, rgb);
        g_byte_array_append(pictures, rgb, (guint)each);
        g_byte_array_append(labels, &label, 1);
    }
    char *path = scratch_path(folder, "fresh-%d.npy", (int)seed);
    char *labels_path = scratch_path(folder, "fresh-%d-labels.npy", (int)seed);
    scratch_write(path, pictures->data, pictures->len);
    scratch_write(labels_path, labels->data, labels->len);
    nsk_images *images =
        nsk_images_open(path, &k->brief->labels, &k->brief->input, 0, false, &error);
    assert_error(&error, "");
    CU_ASSERT_PTR_NOT_NULL_FATAL(images);
    g_byte_array_free(pictures, TRUE);
    g_byte_array_free(labels, TRUE);
    g_free(rgb);
    g_free(path);
    g_free(labels_path);
    return images;
}

bool runs(const char *folder, const char *line) {
    char *whole = g_strdup_printf("cd '%s' && %s", folder, line);
    char *arguments[] = {(char *)"sh", (char *)"-c", whole, NULL};
    char *said = NULL;
    int status = -1;
    bool good = g_spawn_sync(NULL, arguments, NULL, G_SPAWN_SEARCH_PATH, NULL, NULL, NULL, &said,
                             &status, NULL) &&
                status == 0;
    if (!good) {
        fprintf(stderr, "\n    %s: %s\n", line, said);
    }
    g_free(said);
    g_free(whole);
    return good;
}
