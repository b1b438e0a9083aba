#include "own.h"

#include <glib.h>
#include <glib/gstdio.h>
#include <math.h>
#include <stdlib.h>
#include <string.h>

#include "../attribute.h"
#include "base/base.h"
#include "formulas.h"
#include "onnx.pb-c.h"

/* A case: the operator set, its one node, and the node's inputs: a name and its shape, which holds
 * noise, or numbers behind '='. Before the shape stands a letter for another type than float. */
typedef struct own_case {
    const char *name;
    int opset;
    const char *node, *inputs;
    formula *expected;
} own_case;

static const own_case cases[] = {
    {"gelu", 20, "Gelu x > y", "x 3,4,5", formula_function},
    {"gelu_tanh", 20, "Gelu x > y approximate=stanh", "x 3,4,5", formula_function},
    {"mish", 18, "Mish x > y", "x 3,4,5", formula_function},
    {"swish", 24, "Swish x > y", "x 3,4,5", formula_function},
    {"swish_alpha", 24, "Swish x > y alpha=f1.702", "x 3,4,5", formula_function},
    {"group_normalization", 21, "GroupNormalization x scale bias > y num_groups=i2",
     "x 1,4,3,3; scale 4; bias 4", formula_group_norm},
    {"group_normalization_epsilon", 21,
     "GroupNormalization x scale bias > y num_groups=i3 epsilon=f0.01", "x 2,6,5; scale 6; bias 6",
     formula_group_norm},
    {"group_normalization_by_group", 18, "GroupNormalization x scale bias > y num_groups=i2",
     "x 1,4,3,3; scale 2; bias 2", formula_group_norm},
    {"rms_normalization", 23, "RMSNormalization x scale > y", "x 1,5,8; scale 8", formula_rms_norm},
    {"rms_normalization_two_axes", 23, "RMSNormalization x scale > y axis=i-2 epsilon=f0.001",
     "x 2,3,4; scale 3,4", formula_rms_norm},
    {"rms_normalization_all", 23, "RMSNormalization x scale > y axis=i0", "x 3,4; scale 3,4",
     formula_rms_norm},
    {"attention", 23, "Attention q k v > y", "q 1,2,5,4; k 1,2,5,4; v 1,2,5,4", formula_attention},
    {"attention_scaled", 23, "Attention q k v > y scale=f0.3", "q 1,2,5,4; k 1,2,6,4; v 1,2,6,3",
     formula_attention},
    {"attention_tokens", 23, "Attention q k v > y q_num_heads=i2 kv_num_heads=i2",
     "q 1,5,8; k 1,5,8; v 1,5,8", formula_attention},
    {"attention_batch", 23, "Attention q k v > y q_num_heads=i3 kv_num_heads=i3",
     "q 2,4,6; k 2,5,6; v 2,5,9", formula_attention},
    {"attention_shared_heads", 23, "Attention q k v > y", "q 1,4,3,4; k 1,2,3,4; v 1,2,3,4",
     formula_attention},
    {"attention_tokens_shared_heads", 24, "Attention q k v > y q_num_heads=i4 kv_num_heads=i2",
     "q 1,3,16; k 1,3,8; v 1,3,8", formula_attention},
    {"attention_mask", 23, "Attention q k v mask > y", "q 1,2,4,4; k 1,2,5,4; v 1,2,5,4; mask 4,5",
     formula_attention},
    {"attention_mask_of_truth", 23, "Attention q k v mask > y",
     "q 1,2,3,4; k 1,2,3,4; v 1,2,3,4; mask b3,3=1,0,1,1,1,0,0,1,1", formula_attention},
    {"attention_mask_per_head", 23, "Attention q k v mask > y q_num_heads=i2 kv_num_heads=i2",
     "q 1,3,4; k 1,4,4; v 1,4,4; mask 1,2,3,4", formula_attention},
    {"attention_causal", 23, "Attention q k v > y is_causal=i1", "q 1,2,5,4; k 1,2,5,4; v 1,2,5,4",
     formula_attention},
    {"attention_capped", 23, "Attention q k v > y softcap=f0.7", "q 1,2,5,4; k 1,2,5,4; v 1,2,5,4",
     formula_attention},
    {"rotary", 23, "RotaryEmbedding x cosines sines > y", "x 1,2,3,8; cosines 1,3,4; sines 1,3,4",
     formula_rotary},
    {"rotary_interleaved", 23, "RotaryEmbedding x cosines sines > y interleaved=i1",
     "x 1,2,3,8; cosines 1,3,4; sines 1,3,4", formula_rotary},
    {"rotary_places", 23, "RotaryEmbedding x cosines sines places > y",
     "x 2,2,3,6; cosines 7,3; sines 7,3; places l2,3=0,1,2,6,4,5", formula_rotary},
    {"rotary_part", 23, "RotaryEmbedding x cosines sines > y rotary_embedding_dim=i4",
     "x 1,2,3,10; cosines 1,3,2; sines 1,3,2", formula_rotary},
    {"rotary_tokens", 23,
     "RotaryEmbedding x cosines sines places > y num_heads=i2 interleaved=i1 "
     "rotary_embedding_dim=i4",
     "x 1,4,12; cosines 9,2; sines 9,2; places l1,4=8,0,3,1", formula_rotary},
    {"average_pool_dilated", 19, "AveragePool x > y kernel_shape=l2,2 dilations=l2,2 strides=l1,1",
     "x 1,2,6,6", formula_average_pool},
    {"average_pool_dilated_padded", 19,
     "AveragePool x > y kernel_shape=l3,2 dilations=l2,3 strides=l2,1 pads=l2,1,2,1", "x 1,2,7,8",
     formula_average_pool},
    {"average_pool_dilated_counted", 19,
     "AveragePool x > y kernel_shape=l3,3 dilations=l2,2 strides=l1,1 pads=l2,2,2,2 "
     "count_include_pad=i1",
     "x 1,1,6,6", formula_average_pool},
    {"pad_axes", 18, "Pad x pads value axes > y",
     "x 1,2,4,5; pads l4=1,2,0,1; value 1; axes l2=2,-1", formula_pad},
    {"pad_wrap", 19, "Pad x pads > y mode=swrap", "x 1,2,4,5; pads l8=0,0,2,1,0,0,3,5",
     formula_pad},
    {"pad_wrap_axes", 19, "Pad x pads  axes > y mode=swrap", "x 1,2,4,5; pads l2=2,4; axes l1=-2",
     formula_pad},
    {"pad_reflect_axes", 18, "Pad x pads  axes > y mode=sreflect",
     "x 1,2,4,5; pads l4=3,1,2,4; axes l2=2,3", formula_pad},
    {"resize_axes", 18, "Resize x   sizes > y mode=slinear axes=l2,3", "x 1,2,4,6; sizes l2=7,9",
     formula_resize},
    {"resize_axes_turned", 18, "Resize x  scales > y mode=snearest axes=l3,2",
     "x 1,2,4,6; scales 2=1.6,2.5", formula_resize},
    {"resize_line", 18, "Resize x  scales > y mode=slinear axes=l-1", "x 1,3,8; scales 1=1.75",
     formula_resize},
    {"resize_channels", 18, "Resize x   sizes > y mode=slinear", "x 1,3,4,4; sizes l4=1,5,6,4",
     formula_resize},
    {"resize_cubic", 18, "Resize x   sizes > y mode=scubic axes=l2,3", "x 1,2,5,6; sizes l2=8,9",
     formula_resize},
    {"resize_cubic_exclude_outside", 18,
     "Resize x   sizes > y mode=scubic exclude_outside=i1 cubic_coeff_a=f-0.5 axes=l2,3",
     "x 1,2,5,6; sizes l2=3,11", formula_resize},
    {"resize_antialias_linear", 18, "Resize x  scales > y mode=slinear antialias=i1",
     "x 1,2,8,9; scales 4=1,1,0.45,0.6", formula_resize},
    {"resize_antialias_cubic", 18, "Resize x   sizes > y mode=scubic antialias=i1 axes=l2,3",
     "x 1,2,9,8; sizes l2=4,3", formula_resize},
    {"resize_antialias_exclude_outside", 18,
     "Resize x   sizes > y mode=scubic antialias=i1 exclude_outside=i1 axes=l2,3",
     "x 1,1,9,8; sizes l2=4,5", formula_resize},
    {"resize_not_larger", 18,
     "Resize x   sizes > y mode=slinear keep_aspect_ratio_policy=snot_larger axes=l2,3",
     "x 1,2,4,6; sizes l2=7,8", formula_resize},
    {"resize_not_smaller", 18,
     "Resize x   sizes > y mode=snearest keep_aspect_ratio_policy=snot_smaller axes=l2,3",
     "x 1,2,4,6; sizes l2=7,8", formula_resize},
    {"resize_half_pixel_symmetric", 19,
     "Resize x  scales > y mode=slinear coordinate_transformation_mode=shalf_pixel_symmetric",
     "x 1,2,7,5; scales 4=1,1,0.6,1.7", formula_resize},
    {"dequantize_blocks", 21, "DequantizeLinear x scale zero > y axis=i1 block_size=i2",
     "x c3,6; scale 3,3=0.5,0.25,2,0.1,1,0.3,0.75,0.01,3; zero c3,3", formula_dequantize},
    {"dequantize_blocks_of_rows", 21, "DequantizeLinear x scale > y axis=i0 block_size=i3",
     "x c5,4; scale 2,4=0.5,0.25,2,0.1,1,0.3,0.75,0.01", formula_dequantize},
    {"quantize_blocks", 21, "QuantizeLinear x scale zero > y axis=i1 block_size=i2",
     "x 3,6; scale 3,3=0.02,0.03,0.04,0.05,0.06,0.07,0.08,0.09,0.1; zero c3,3", formula_quantize},
    {"reduce_mean_axes", 18, "ReduceMean x axes > y", "x 1,3,4,5; axes l2=2,3", formula_reduce},
    {"reduce_mean_axes_dropped", 18, "ReduceMean x axes > y keepdims=i0", "x 1,3,4,5; axes l2=-1,2",
     formula_reduce},
    {"reduce_max_axes", 18, "ReduceMax x axes > y", "x 1,3,4,5; axes l1=1", formula_reduce},
    {"reduce_min_axes", 18, "ReduceMin x axes > y keepdims=i0", "x 1,3,4,5; axes l1=3",
     formula_reduce},
    {"reduce_l1_axes", 18, "ReduceL1 x axes > y", "x 1,3,4,5; axes l2=2,3", formula_reduce},
    {"reduce_sum_square_axes", 18, "ReduceSumSquare x axes > y keepdims=i0", "x 1,3,4,5; axes l1=2",
     formula_reduce},
    {"split_outputs", 18, "Split x > a b c axis=i1 num_outputs=i3", "x 1,7,2", formula_split},
};

/* ---- numbers ---- */

static double noise(uint64_t *state) {
    *state = *state * 6364136223846793005U + 1442695040888963407U;
    return (double)(*state >> 33) / 2147483648.0;
}

/* "name b2,3=1,0,..." */
static void read_input(const char *text, uint64_t *state, tensor *t) {
    char **words = g_strsplit(text, " ", 2);
    char *at = words[1];
    *t = (tensor){.type = 'f'};
    g_strlcpy(t->name, words[0], sizeof t->name);
    t->type = g_ascii_isalpha(*at) ? *at++ : 'f';
    do {
        t->dims[t->rank++] = (int)strtol(at, &at, 10);
    } while (*at++ == ',');
    const bool given = at[-1] == '=' && *at != '\0';
    t->at = g_new0(double, count_of(t) + 1);
    for (size_t i = 0; i < count_of(t); i++) {
        double drawn = noise(state);
        t->at[i] = given            ? g_ascii_strtod(at + (i > 0), &at)
                   : t->type == 'c' ? floor(255.0 * drawn) - 128.0
                                    : (double)(float)(4.0 * drawn - 2.0);
    }
    g_strfreev(words);
}

/* The inputs as the node names them: one without a name is left out. */
static void read_call(const own_case *own, call *c, char **names) {
    char **texts = g_strsplit(own->inputs, "; ", -1);
    uint64_t state = g_str_hash(own->name);
    *c = (call){.node = own->node, .opset = own->opset, .inputs = (int)g_strv_length(names)};
    for (char **text = texts; *text != NULL; text++) {
        tensor t;
        read_input(*text, &state, &t);
        for (int i = 0; i < c->inputs; i++) {
            if (strcmp(names[i], t.name) == 0) {
                c->input[i] = t;
            }
        }
    }
    g_strfreev(texts);
}

/* ---- files ---- */

static int type_of(const tensor *t) {
    return t->type == 'l'   ? ONNX__TENSOR_PROTO__DATA_TYPE__INT64
           : t->type == 'b' ? ONNX__TENSOR_PROTO__DATA_TYPE__BOOL
           : t->type == 'c' ? ONNX__TENSOR_PROTO__DATA_TYPE__INT8
                            : ONNX__TENSOR_PROTO__DATA_TYPE__FLOAT;
}

static void write_bytes(const char *folder, const char *name, const uint8_t *bytes, size_t size) {
    char *path = g_build_filename(folder, name, NULL);
    g_file_set_contents(path, (const char *)bytes, (gssize)size, NULL);
    g_free(path);
}

static void write_tensor(const char *folder, const char *kind, int index, const tensor *t) {
    Onnx__TensorProto proto = ONNX__TENSOR_PROTO__INIT;
    int64_t dims[MOST_AXES];
    size_t count = count_of(t);
    float *floats = g_new0(float, count + 1);
    int32_t *small = g_new0(int32_t, count + 1);
    int64_t *large = g_new0(int64_t, count + 1);
    for (size_t i = 0; i < count; i++) {
        floats[i] = (float)t->at[i];
        if (t->type != 'f') {
            large[i] = (int64_t)t->at[i];
            small[i] = (int32_t)t->at[i];
        }
    }
    for (int i = 0; i < t->rank; i++) {
        dims[i] = t->dims[i];
    }
    proto.n_dims = (size_t)t->rank;
    proto.dims = dims;
    proto.has_data_type = 1;
    proto.data_type = type_of(t);
    proto.n_float_data = t->type == 'f' ? count : 0;
    proto.float_data = floats;
    proto.n_int64_data = t->type == 'l' ? count : 0;
    proto.int64_data = large;
    proto.n_int32_data = t->type == 'b' || t->type == 'c' ? count : 0;
    proto.int32_data = small;
    size_t size = onnx__tensor_proto__get_packed_size(&proto);
    uint8_t *bytes = g_malloc(size + 1);
    char *name = g_strdup_printf("%s_%d.pb", kind, index);
    onnx__tensor_proto__pack(&proto, bytes);
    write_bytes(folder, name, bytes, size);
    g_free(name);
    g_free(bytes);
    g_free(floats);
    g_free(small);
    g_free(large);
}

/* What belongs to a file until it is written. */
static void *kept(GPtrArray *memory, const void *what, size_t size) {
    void *copy = g_memdup2(what, size);
    g_ptr_array_add(memory, copy);
    return copy;
}

#define KEPT(memory, type, ...) ((type *)kept(memory, &(type)__VA_ARGS__, sizeof(type)))

static Onnx__ValueInfoProto *declared(GPtrArray *memory, const char *name, const tensor *t) {
    Onnx__TensorShapeProto *shape =
        KEPT(memory, Onnx__TensorShapeProto, ONNX__TENSOR_SHAPE_PROTO__INIT);
    Onnx__TypeProto__Tensor *tensor_type =
        KEPT(memory, Onnx__TypeProto__Tensor, ONNX__TYPE_PROTO__TENSOR__INIT);
    Onnx__TypeProto *type = KEPT(memory, Onnx__TypeProto, ONNX__TYPE_PROTO__INIT);
    Onnx__ValueInfoProto *info = KEPT(memory, Onnx__ValueInfoProto, ONNX__VALUE_INFO_PROTO__INIT);
    Onnx__TensorShapeProto__Dimension *dims[MOST_AXES];
    for (int i = 0; i < t->rank; i++) {
        dims[i] = KEPT(memory, Onnx__TensorShapeProto__Dimension,
                       ONNX__TENSOR_SHAPE_PROTO__DIMENSION__INIT);
        dims[i]->value_case = ONNX__TENSOR_SHAPE_PROTO__DIMENSION__VALUE_DIM_VALUE;
        dims[i]->dim_value = t->dims[i];
    }
    shape->n_dim = (size_t)t->rank;
    shape->dim = kept(memory, dims, sizeof dims);
    tensor_type->has_elem_type = 1;
    tensor_type->elem_type = type_of(t);
    tensor_type->shape = shape;
    type->value_case = ONNX__TYPE_PROTO__VALUE_TENSOR_TYPE;
    type->tensor_type = tensor_type;
    info->name = kept(memory, name, strlen(name) + 1);
    info->type = type;
    return info;
}

/* The node's text in parts: inputs, outputs and attributes. */
typedef struct parts {
    char **inputs, **outputs, **attributes;
    int inputs_count, outputs_count, attributes_count;
} parts;

static parts parts_of(char **words) {
    parts p = {.inputs = words + 1};
    while (strcmp(p.inputs[p.inputs_count], ">") != 0) {
        p.inputs_count++;
    }
    p.outputs = p.inputs + p.inputs_count + 1;
    while (p.outputs[p.outputs_count] != NULL && strchr(p.outputs[p.outputs_count], '=') == NULL) {
        p.outputs_count++;
    }
    p.attributes = p.outputs + p.outputs_count;
    p.attributes_count = (int)g_strv_length(p.attributes);
    return p;
}

static void write_model(const char *folder, const call *c, const char *op, const parts *p,
                        const tensor *outputs) {
    GPtrArray *memory = g_ptr_array_new_with_free_func(g_free);
    Onnx__ModelProto model = ONNX__MODEL_PROTO__INIT;
    Onnx__GraphProto graph = ONNX__GRAPH_PROTO__INIT;
    Onnx__NodeProto node = ONNX__NODE_PROTO__INIT;
    Onnx__OperatorSetIdProto opset = ONNX__OPERATOR_SET_ID_PROTO__INIT;
    Onnx__NodeProto *nodes[1] = {&node};
    Onnx__OperatorSetIdProto *opsets[1] = {&opset};
    Onnx__ValueInfoProto *in[6];
    Onnx__ValueInfoProto *out[6];
    Onnx__AttributeProto *attributes[8];
    for (int i = 0; i < p->inputs_count; i++) {
        if (*p->inputs[i] != '\0') {
            in[graph.n_input++] = declared(memory, p->inputs[i], &c->input[i]);
        }
    }
    for (int i = 0; i < p->outputs_count; i++) {
        out[graph.n_output++] = declared(memory, p->outputs[i], &outputs[i]);
    }
    for (int i = 0; i < p->attributes_count; i++) {
        attributes[node.n_attribute++] = attribute_of(memory, p->attributes[i]);
    }
    node.op_type = (char *)op;
    node.n_input = (size_t)p->inputs_count;
    node.input = p->inputs;
    node.n_output = (size_t)p->outputs_count;
    node.output = p->outputs;
    node.attribute = attributes;
    graph.name = (char *)op;
    graph.n_node = 1;
    graph.node = nodes;
    graph.input = in;
    graph.output = out;
    opset.has_version = 1;
    opset.version = c->opset;
    model.has_ir_version = 1;
    model.ir_version = 10;
    model.n_opset_import = 1;
    model.opset_import = opsets;
    model.graph = &graph;
    size_t size = onnx__model_proto__get_packed_size(&model);
    uint8_t *bytes = g_malloc(size);
    onnx__model_proto__pack(&model, bytes);
    write_bytes(folder, "model.onnx", bytes, size);
    g_free(bytes);
    g_ptr_array_free(memory, TRUE);
}

static void write_case(const char *folder, const own_case *own) {
    char **words = g_strsplit(own->node, " ", -1);
    parts p = parts_of(words);
    call c;
    tensor outputs[6] = {{.type = 'f'}};
    char *own_folder = g_build_filename(folder, own->name, NULL);
    char *data = g_build_filename(own_folder, "test_data_set_0", NULL);
    char **names = g_new0(char *, p.inputs_count + 1);
    memcpy(names, p.inputs, (size_t)p.inputs_count * sizeof *names);
    g_mkdir_with_parents(data, 0777);
    read_call(own, &c, names);
    for (int i = 0, given = 0; i < c.inputs; i++) {
        if (c.input[i].at != NULL) {
            write_tensor(data, "input", given++, &c.input[i]);
        }
    }
    for (int i = 0; i < p.outputs_count; i++) {
        own->expected(&c, i, &outputs[i]);
        write_tensor(data, "output", i, &outputs[i]);
    }
    write_model(own_folder, &c, words[0], &p, outputs);
    for (int i = 0; i < 6; i++) {
        g_free(c.input[i].at);
        g_free(outputs[i].at);
    }
    g_free(names);
    g_free(own_folder);
    g_free(data);
    g_strfreev(words);
}

void own_cases_write(const char *folder) {
    for (size_t i = 0; i < G_N_ELEMENTS(cases); i++) {
        write_case(folder, &cases[i]);
    }
}
