#include "onnx/operators.h"

#include <math.h>
#include <string.h>

#include "onnx/tensor.h"

#define INT_TYPE    ONNX__ATTRIBUTE_PROTO__ATTRIBUTE_TYPE__INT
#define INTS_TYPE   ONNX__ATTRIBUTE_PROTO__ATTRIBUTE_TYPE__INTS
#define FLOAT_TYPE  ONNX__ATTRIBUTE_PROTO__ATTRIBUTE_TYPE__FLOAT
#define FLOATS_TYPE ONNX__ATTRIBUTE_PROTO__ATTRIBUTE_TYPE__FLOATS
#define TENSOR_TYPE ONNX__ATTRIBUTE_PROTO__ATTRIBUTE_TYPE__TENSOR
#define STRING_TYPE ONNX__ATTRIBUTE_PROTO__ATTRIBUTE_TYPE__STRING

const Onnx__AttributeProto *nsk_onnx_attribute(const Onnx__NodeProto *node, const char *name,
                                               Onnx__AttributeProto__AttributeType type) {
    for (size_t i = 0; i < node->n_attribute; i++) {
        const Onnx__AttributeProto *a = node->attribute[i];
        if (a->name != NULL && strcmp(a->name, name) == 0 && a->type == type) {
            return a;
        }
    }
    return NULL;
}

int64_t nsk_onnx_int(const nsk_onnx_source *s, const char *name, int64_t otherwise) {
    const Onnx__AttributeProto *a = nsk_onnx_attribute(s->node, name, INT_TYPE);
    return a != NULL ? a->i : otherwise;
}

static double read_float(const nsk_onnx_source *s, const char *name, double otherwise) {
    const Onnx__AttributeProto *a = nsk_onnx_attribute(s->node, name, FLOAT_TYPE);
    return a != NULL ? (double)a->f : otherwise;
}

/* Attributes of one type wherever they stand. */
static const struct {
    Onnx__AttributeProto__AttributeType type;
    const char *what, *names[28];
} typed[] = {
    {INT_TYPE,
     "a whole number",
     {"allowzero",
      "antialias",
      "axis",
      "block_size",
      "blocksize",
      "broadcast",
      "ceil_mode",
      "count_include_pad",
      "end",
      "group",
      "keepdims",
      "noop_with_empty_axes",
      "output_dtype",
      "size",
      "spatial",
      "start",
      "to",
      "training_mode",
      "transA",
      "transB",
      NULL}},
    {INTS_TYPE,
     "a list of whole numbers",
     {"axes", "dilations", "ends", "kernel_shape", "output_padding", "output_shape", "pads", "perm",
      "split", "starts", "strides", NULL}},
    {FLOAT_TYPE,
     "a number",
     {"alpha", "beta", "bias", "epsilon", "gamma", "lambd", "max", "min", NULL}},
    {FLOATS_TYPE, "a list of numbers", {"scales", NULL}},
    {STRING_TYPE,
     "a word",
     {"approximate", "auto_pad", "coordinate_transformation_mode", "equation", "mode",
      "nearest_mode", NULL}},
};

bool nsk_onnx_attributes_are_typed(const nsk_onnx_source *s) {
    for (size_t i = 0; i < s->node->n_attribute; i++) {
        const Onnx__AttributeProto *a = s->node->attribute[i];
        for (size_t t = 0; t < G_N_ELEMENTS(typed) && a->name != NULL; t++) {
            if (g_strv_contains(typed[t].names, a->name) && a->type != typed[t].type) {
                return nsk_fail(s->error, "node '%s' (%s): its %s is not %s; the file is damaged",
                                s->node->name, s->node->op_type, a->name, typed[t].what);
            }
        }
    }
    return true;
}

static bool complain(const nsk_onnx_source *s, const char *text) {
    return nsk_unsupported(s->error, "node '%s' (%s): %s", s->node->name, s->node->op_type, text);
}

/* A list of one or two numbers for each axis of a window must not be of three, nor must two lists
 * differ. */
static bool count_axes(const nsk_onnx_source *s, nsk_window_attributes *w, size_t axes) {
    bool fits = (axes == 1 || axes == 2) && (w->axes == 0 || w->axes == (int)axes);
    w->axes = (int)axes;
    return fits || complain(s, "only windows along a line, or over rows and columns, are read");
}

/* Two numbers, or `otherwise` for both where the attribute is not there; a line is one row. */
static bool read_pair(const nsk_onnx_source *s, nsk_window_attributes *w, const char *name,
                      int64_t otherwise, int64_t *to) {
    const Onnx__AttributeProto *a = nsk_onnx_attribute(s->node, name, INTS_TYPE);
    to[0] = to[1] = otherwise;
    if (a == NULL) {
        return true;
    }
    if (!count_axes(s, w, a->n_ints)) {
        return false;
    }
    to[0] = a->n_ints == 2 ? a->ints[0] : to[0];
    to[1] = a->ints[a->n_ints - 1];
    return true;
}

/* Left out where the weights say it; never nothing. */
static bool read_kernel(const nsk_onnx_source *s, nsk_window_attributes *w) {
    int64_t *to = w->kernel;
    bool given = nsk_onnx_attribute(s->node, "kernel_shape", INTS_TYPE) != NULL;
    bool good = read_pair(s, w, "kernel_shape", 0, to);
    to[0] = w->axes == 1 && given ? 1 : to[0];
    return good && (!given || (to[0] > 0 && to[1] > 0) ||
                    complain(s, "its kernel_shape is zero or negative"));
}

typedef struct choice {
    const char *name;
    int value;
} choice;

/* A string attribute that takes one of a few values; `to` keeps its own where there is none. */
static bool read_choice(const nsk_onnx_source *s, const char *name, const choice *choices,
                        size_t count, int *to) {
    const Onnx__AttributeProto *a = nsk_onnx_attribute(s->node, name, STRING_TYPE);
    GString *known = g_string_new(NULL);
    bool found = a == NULL;
    for (size_t i = 0; i < count && !found; i++) {
        found = a->s.len == strlen(choices[i].name) &&
                memcmp(a->s.data, choices[i].name, a->s.len) == 0;
        *to = found ? choices[i].value : *to;
        g_string_append_printf(known, "%s%s", i > 0 ? ", " : "", choices[i].name);
    }
    if (!found) {
        nsk_unsupported(s->error, "node '%s' (%s): its %s is '%.*s'; what is read: %s",
                        s->node->name, s->node->op_type, name, (int)MIN(a->s.len, 40),
                        g_utf8_validate((const char *)a->s.data, (gssize)a->s.len, NULL)
                            ? (const char *)a->s.data
                            : "",
                        known->str);
    }
    g_string_free(known, TRUE);
    return found;
}

static bool read_auto_pad(const nsk_onnx_source *s, nsk_window_attributes *w) {
    static const choice choices[] = {{"NOTSET", NSK_AUTO_PAD_GIVEN},
                                     {"SAME_UPPER", NSK_AUTO_PAD_SAME_UPPER},
                                     {"SAME_LOWER", NSK_AUTO_PAD_SAME_LOWER},
                                     {"VALID", NSK_AUTO_PAD_VALID}};
    int value = NSK_AUTO_PAD_GIVEN;
    bool good = read_choice(s, "auto_pad", choices, G_N_ELEMENTS(choices), &value);
    w->auto_pad = (nsk_auto_pad)value;
    return good;
}

/* ---- axes ---- */

static bool read_list(const nsk_onnx_source *s, nsk_node *node, const char *name) {
    const Onnx__AttributeProto *a = nsk_onnx_attribute(s->node, name, INTS_TYPE);
    if (a != NULL && (a->n_ints < 1 || a->n_ints > NSK_MOST_RANK)) {
        return complain(s, "its list of axes names none or more than 8");
    }
    for (size_t i = 0; a != NULL && i < a->n_ints; i++) {
        node->attributes.list[i] = a->ints[i];
        node->attributes.listed = (int)a->n_ints;
    }
    return true;
}

/* ---- attributes of old operator sets as the inputs of new ones ---- */

static char *constant_name(const nsk_node *node, const char *what) {
    return g_strdup_printf("%s:%s", node->name, what);
}

static void put_input(nsk_node *node, int at, int value) {
    for (int i = node->inputs; i < at; i++) {
        node->input[i] = NSK_NONE;
    }
    node->input[at] = value;
    node->inputs = MAX(node->inputs, at + 1);
}

static void put_integers(const nsk_onnx_source *s, nsk_node *node, int at, const char *what,
                         const int64_t *numbers, int64_t count) {
    char *name = constant_name(node, what);
    int64_t *integers = g_new0(int64_t, (gsize)count + 1);
    for (int64_t i = 0; i < count; i++) {
        integers[i] = numbers[i];
    }
    put_input(node, at, nsk_graph_add_integers(s->graph, name, 1, &count, integers));
    g_free(name);
}

static void put_numbers(const nsk_onnx_source *s, nsk_node *node, int at, const char *what,
                        const float *numbers, int64_t count) {
    char *name = constant_name(node, what);
    float *data = g_new0(float, (gsize)count + 1);
    for (int64_t i = 0; i < count; i++) {
        data[i] = numbers[i];
    }
    put_input(node, at, nsk_graph_add_constant(s->graph, name, 1, &count, data));
    g_free(name);
}

/* The attribute's integers as that input, where the attribute is there. */
static bool move_integers(const nsk_onnx_source *s, nsk_node *node, const char *name, int at) {
    const Onnx__AttributeProto *a = nsk_onnx_attribute(s->node, name, INTS_TYPE);
    if (a != NULL) {
        put_integers(s, node, at, name, a->ints, (int64_t)a->n_ints);
    }
    return a != NULL;
}

static void move_number(const nsk_onnx_source *s, nsk_node *node, const char *name, int at) {
    const Onnx__AttributeProto *a = nsk_onnx_attribute(s->node, name, FLOAT_TYPE);
    if (a != NULL) {
        put_numbers(s, node, at, name, &a->f, 1);
    }
}

/* ---- one function an operator ---- */

static bool read_window(const nsk_onnx_source *s, nsk_node *node) {
    nsk_window_attributes *w = &node->attributes.window;
    const Onnx__AttributeProto *pads = nsk_onnx_attribute(s->node, "pads", INTS_TYPE);
    size_t axes = pads != NULL ? pads->n_ints / 2 : 0;
    if (pads != NULL && pads->n_ints % 2 != 0) {
        return complain(s, "its pads are not two for each axis of its window");
    }
    if (pads != NULL && !count_axes(s, w, axes)) {
        return false;
    }
    for (size_t axis = 0; axis < axes; axis++) {
        w->pad_before[2 - axes + axis] = pads->ints[axis];
        w->pad_after[2 - axes + axis] = pads->ints[axes + axis];
    }
    w->groups = nsk_onnx_int(s, "group", 1);
    w->ceil_mode = nsk_onnx_int(s, "ceil_mode", 0) != 0;
    w->count_include_pad = nsk_onnx_int(s, "count_include_pad", 0) != 0;
    return read_kernel(s, w) && read_pair(s, w, "strides", 1, w->stride) &&
           read_pair(s, w, "dilations", 1, w->dilation) && read_auto_pad(s, w);
}

static bool read_conv_transpose(const nsk_onnx_source *s, nsk_node *node) {
    nsk_attributes *a = &node->attributes;
    const Onnx__AttributeProto *shape = nsk_onnx_attribute(s->node, "output_shape", INTS_TYPE);
    a->listed = shape != NULL && shape->n_ints >= 2 ? 2 : 0;
    for (int i = 0; i < a->listed; i++) { /* the last two, where all four are given */
        a->list[i] = shape->ints[shape->n_ints - 2 + (size_t)i];
    }
    return read_window(s, node) && read_pair(s, &a->window, "output_padding", 0, a->extra);
}

static bool read_norm(const nsk_onnx_source *s, nsk_node *node) {
    node->attributes.epsilon = read_float(s, "epsilon", 1e-5);
    if (nsk_onnx_int(s, "training_mode", 0) != 0) {
        return complain(s, "in training form; export the network for inference");
    }
    return nsk_onnx_int(s, "spatial", 1) != 0 || complain(s, "statistics by pixel are not read");
}

static bool read_clip(const nsk_onnx_source *s, nsk_node *node) {
    move_number(s, node, "min", 1);
    move_number(s, node, "max", 2);
    return true;
}

/* An axis, 1 where none is said. */
static bool read_axis_one(const nsk_onnx_source *s, nsk_node *node) {
    node->attributes.axis = nsk_onnx_int(s, "axis", 1);
    return true;
}

static bool read_levels(const nsk_onnx_source *s, nsk_node *node) {
    int64_t to = nsk_onnx_int(s, "output_dtype", 0);
    node->attributes.size = nsk_onnx_int(s, "block_size", 0);
    node->attributes.is_signed = to == ONNX__TENSOR_PROTO__DATA_TYPE__INT8;
    return read_axis_one(s, node) &&
           (node->attributes.size >= 0 || complain(s, "its block_size is negative"));
}

/* Before operator set 7 the second input met the first from an axis on, not from the last. */
static bool read_pair_axis(const nsk_onnx_source *s, nsk_node *node) {
    node->attributes.meets_at_axis = s->opset < 7 && nsk_onnx_int(s, "broadcast", 0) != 0 &&
                                     nsk_onnx_attribute(s->node, "axis", INT_TYPE) != NULL;
    node->attributes.axis = nsk_onnx_int(s, "axis", 0);
    return true;
}

/* There the slopes were one a channel. */
static bool read_prelu(const nsk_onnx_source *s, nsk_node *node) {
    node->attributes.meets_at_axis = s->opset < 7;
    node->attributes.axis = 1;
    return true;
}

static bool read_axis_zero(const nsk_onnx_source *s, nsk_node *node) {
    node->attributes.axis = nsk_onnx_int(s, "axis", 0);
    return true;
}

static bool read_split(const nsk_onnx_source *s, nsk_node *node) {
    move_integers(s, node, "split", 1);
    node->attributes.uneven = s->opset >= 18;
    return read_axis_zero(s, node);
}

static bool read_softmax(const nsk_onnx_source *s, nsk_node *node) {
    node->attributes.flatten_from_axis = s->opset < 13;
    node->attributes.axis = nsk_onnx_int(s, "axis", s->opset < 13 ? 1 : -1);
    return true;
}

static bool read_gemm(const nsk_onnx_source *s, nsk_node *node) {
    node->attributes.alpha = read_float(s, "alpha", 1.0);
    node->attributes.beta = read_float(s, "beta", 1.0);
    node->attributes.transpose_a = nsk_onnx_int(s, "transA", 0) != 0;
    node->attributes.transpose_b = nsk_onnx_int(s, "transB", 0) != 0;
    return true;
}

static bool read_reshape(const nsk_onnx_source *s, nsk_node *node) {
    node->attributes.allow_zero = nsk_onnx_int(s, "allowzero", 0) != 0;
    return true;
}

static bool read_pad(const nsk_onnx_source *s, nsk_node *node) {
    static const choice choices[] = {{"constant", NSK_MODE_CONSTANT},
                                     {"reflect", NSK_MODE_REFLECT},
                                     {"edge", NSK_MODE_EDGE},
                                     {"wrap", NSK_MODE_WRAP}};
    int mode = NSK_MODE_CONSTANT;
    move_integers(s, node, "pads", 1);
    move_number(s, node, "value", 2);
    bool good = read_choice(s, "mode", choices, G_N_ELEMENTS(choices), &mode);
    node->attributes.mode = (nsk_mode)mode;
    return good;
}

static bool read_slice(const nsk_onnx_source *s, nsk_node *node) {
    move_integers(s, node, "starts", 1);
    move_integers(s, node, "ends", 2);
    move_integers(s, node, "axes", 3);
    return true;
}

static bool read_axes(const nsk_onnx_source *s, nsk_node *node) {
    move_integers(s, node, "axes", 1);
    return true;
}

static bool read_reduce(const nsk_onnx_source *s, nsk_node *node) {
    node->attributes.keep_axes = nsk_onnx_int(s, "keepdims", 1) != 0;
    node->attributes.none_means_all = nsk_onnx_int(s, "noop_with_empty_axes", 0) == 0;
    return read_axes(s, node);
}

static bool read_transpose(const nsk_onnx_source *s, nsk_node *node) {
    return read_list(s, node, "perm");
}

static bool read_cast(const nsk_onnx_source *s, nsk_node *node) {
    int64_t to = nsk_onnx_int(s, "to", 0);
    node->attributes.truth = to == ONNX__TENSOR_PROTO__DATA_TYPE__BOOL;
    return nsk_onnx_type_is_read((int)to, &node->attributes.whole) ||
           complain(s, "it casts to a type other than floating point and integers");
}

static bool read_shape(const nsk_onnx_source *s, nsk_node *node) {
    node->attributes.list[0] = nsk_onnx_int(s, "start", 0);
    node->attributes.list[1] = nsk_onnx_int(s, "end", INT32_MAX);
    return true;
}

static bool read_constant_of_shape(const nsk_onnx_source *s, nsk_node *node) {
    const Onnx__AttributeProto *a = nsk_onnx_attribute(s->node, "value", TENSOR_TYPE);
    nsk_value value = {.name = node->name};
    bool good = a == NULL || a->t == NULL || nsk_onnx_tensor_load(a->t, NULL, &value, s->error);
    if (good && value.data != NULL && nsk_value_count(&value) == 1) {
        node->attributes.alpha = (double)value.data[0];
        node->attributes.whole = value.whole;
    }
    g_free(value.data);
    g_free(value.integers);
    return good;
}

static bool read_einsum(const nsk_onnx_source *s, nsk_node *node) {
    const Onnx__AttributeProto *a = nsk_onnx_attribute(s->node, "equation", STRING_TYPE);
    size_t length = 0;
    for (size_t i = 0; a != NULL && i < a->s.len; i++) {
        if (a->s.data[i] != ' ' && length < NSK_MOST_EQUATION - 1) {
            node->attributes.equation[length++] = (char)a->s.data[i];
        }
    }
    return (length > 0 && length < NSK_MOST_EQUATION - 1) ||
           complain(s, "its equation is missing, or has more than 46 letters");
}

static bool read_lrn(const nsk_onnx_source *s, nsk_node *node) {
    node->attributes.alpha = read_float(s, "alpha", 1e-4);
    node->attributes.beta = read_float(s, "beta", 0.75);
    node->attributes.bias = read_float(s, "bias", 1.0);
    node->attributes.size = nsk_onnx_int(s, "size", 0);
    return (node->attributes.size >= 1 && node->attributes.size <= 4096) ||
           complain(s, "its size is missing or absurd");
}

static bool read_block(const nsk_onnx_source *s, nsk_node *node) {
    static const choice choices[] = {{"DCR", NSK_MODE_DEPTH_FIRST}, {"CRD", NSK_MODE_COLUMN_FIRST}};
    int mode = NSK_MODE_DEPTH_FIRST;
    bool good = read_choice(s, "mode", choices, G_N_ELEMENTS(choices), &mode);
    node->attributes.mode = (nsk_mode)mode;
    node->attributes.size = nsk_onnx_int(s, "blocksize", 0);
    return good;
}

static bool read_resize_mode(const nsk_onnx_source *s, nsk_node *node) {
    static const choice choices[] = {
        {"nearest", NSK_MODE_NEAREST}, {"linear", NSK_MODE_LINEAR}, {"cubic", NSK_MODE_CUBIC}};
    int mode = NSK_MODE_NEAREST;
    bool good = read_choice(s, "mode", choices, G_N_ELEMENTS(choices), &mode);
    node->attributes.mode = (nsk_mode)mode;
    return good;
}

/* Upsample, and Resize of operator set 10: the scales are the second input, or an attribute. */
static bool read_upsample(const nsk_onnx_source *s, nsk_node *node) {
    const Onnx__AttributeProto *a = nsk_onnx_attribute(s->node, "scales", FLOATS_TYPE);
    node->attributes.coordinates = NSK_COORDINATES_ASYMMETRIC;
    node->attributes.nearest = NSK_NEAREST_MODE_FLOOR;
    if (a != NULL) {
        put_numbers(s, node, 2, "scales", a->floats, (int64_t)a->n_floats);
    } else if (node->inputs == 2) {
        put_input(node, 2, node->input[1]);
        node->input[1] = NSK_NONE;
    }
    return read_resize_mode(s, node);
}

static bool read_resize(const nsk_onnx_source *s, nsk_node *node) {
    static const choice ways[] = {{"half_pixel", NSK_COORDINATES_HALF_PIXEL},
                                  {"pytorch_half_pixel", NSK_COORDINATES_PYTORCH_HALF_PIXEL},
                                  {"align_corners", NSK_COORDINATES_ALIGN_CORNERS},
                                  {"asymmetric", NSK_COORDINATES_ASYMMETRIC},
                                  {"tf_half_pixel_for_nn", NSK_COORDINATES_HALF_PIXEL_FOR_NEAREST},
                                  {"half_pixel_symmetric", NSK_COORDINATES_HALF_PIXEL_SYMMETRIC}};
    static const choice roundings[] = {{"round_prefer_floor", NSK_NEAREST_MODE_PREFER_FLOOR},
                                       {"round_prefer_ceil", NSK_NEAREST_MODE_PREFER_CEIL},
                                       {"floor", NSK_NEAREST_MODE_FLOOR},
                                       {"ceil", NSK_NEAREST_MODE_CEIL}};
    static const choice policies[] = {{"stretch", NSK_ASPECT_STRETCH},
                                      {"not_larger", NSK_ASPECT_NOT_LARGER},
                                      {"not_smaller", NSK_ASPECT_NOT_SMALLER}};
    int policy = NSK_ASPECT_STRETCH;
    if (s->opset < 11) {
        return read_upsample(s, node);
    }
    int way = NSK_COORDINATES_HALF_PIXEL;
    int rounding = NSK_NEAREST_MODE_PREFER_FLOOR;
    bool good = read_choice(s, "coordinate_transformation_mode", ways, G_N_ELEMENTS(ways), &way) &&
                read_choice(s, "nearest_mode", roundings, G_N_ELEMENTS(roundings), &rounding);
    node->attributes.coordinates = (nsk_coordinates)way;
    node->attributes.nearest = (nsk_nearest_mode)rounding;
    good = good &&
           read_choice(s, "keep_aspect_ratio_policy", policies, G_N_ELEMENTS(policies), &policy);
    node->attributes.aspect = (nsk_aspect)policy;
    node->attributes.antialias = nsk_onnx_int(s, "antialias", 0) != 0;
    node->attributes.exclude_outside = nsk_onnx_int(s, "exclude_outside", 0) != 0;
    node->attributes.alpha = read_float(s, "cubic_coeff_a", -0.75);
    return good && read_list(s, node, "axes") && read_resize_mode(s, node);
}

/* ---- functions of one input ---- */

typedef struct function_rule {
    nsk_function fn;
    const char *alpha, *beta; /* attributes, or NULL */
    double alpha_default, beta_default;
} function_rule;

static const function_rule function_rules[] = {
    {NSK_FN_ABS, NULL, NULL, 0, 0},
    {NSK_FN_ACOS, NULL, NULL, 0, 0},
    {NSK_FN_ACOSH, NULL, NULL, 0, 0},
    {NSK_FN_ASIN, NULL, NULL, 0, 0},
    {NSK_FN_ASINH, NULL, NULL, 0, 0},
    {NSK_FN_ATAN, NULL, NULL, 0, 0},
    {NSK_FN_ATANH, NULL, NULL, 0, 0},
    {NSK_FN_CEIL, NULL, NULL, 0, 0},
    {NSK_FN_CELU, "alpha", NULL, 1.0, 0},
    {NSK_FN_COS, NULL, NULL, 0, 0},
    {NSK_FN_COSH, NULL, NULL, 0, 0},
    {NSK_FN_ELU, "alpha", NULL, 1.0, 0},
    {NSK_FN_ERF, NULL, NULL, 0, 0},
    {NSK_FN_EXP, NULL, NULL, 0, 0},
    {NSK_FN_FLOOR, NULL, NULL, 0, 0},
    {NSK_FN_GELU, NULL, NULL, 0, 0},
    {NSK_FN_HARD_SIGMOID, "alpha", "beta", 0.2, 0.5},
    {NSK_FN_HARD_SWISH, NULL, NULL, 0, 0},
    {NSK_FN_LEAKY_RELU, "alpha", NULL, 0.01, 0},
    {NSK_FN_LOG, NULL, NULL, 0, 0},
    {NSK_FN_MISH, NULL, NULL, 0, 0},
    {NSK_FN_NEG, NULL, NULL, 0, 0},
    {NSK_FN_NOT, NULL, NULL, 0, 0},
    {NSK_FN_RECIPROCAL, NULL, NULL, 0, 0},
    {NSK_FN_ROUND, NULL, NULL, 0, 0},
    {NSK_FN_SELU, "alpha", "gamma", 1.67326319217681884765625, 1.05070102214813232421875},
    {NSK_FN_SHRINK, "lambd", "bias", 0.5, 0},
    {NSK_FN_SIGMOID, NULL, NULL, 0, 0},
    {NSK_FN_SIGN, NULL, NULL, 0, 0},
    {NSK_FN_SIN, NULL, NULL, 0, 0},
    {NSK_FN_SINH, NULL, NULL, 0, 0},
    {NSK_FN_SOFTPLUS, NULL, NULL, 0, 0},
    {NSK_FN_SOFTSIGN, NULL, NULL, 0, 0},
    {NSK_FN_SQRT, NULL, NULL, 0, 0},
    {NSK_FN_SWISH, "alpha", NULL, 1.0, 0},
    {NSK_FN_TAN, NULL, NULL, 0, 0},
    {NSK_FN_TANH, NULL, NULL, 0, 0},
    {NSK_FN_THRESHOLDED_RELU, "alpha", NULL, 1.0, 0},
};

static bool read_function(const nsk_onnx_source *s, nsk_node *node) {
    static const choice approximations[] = {{"none", 0}, {"tanh", 1}};
    for (size_t i = 0; i < G_N_ELEMENTS(function_rules); i++) {
        const function_rule *rule = &function_rules[i];
        if (strcmp(nsk_function_name(rule->fn), s->node->op_type) != 0) {
            continue;
        }
        int approximation = 0;
        nsk_function_step step = {.fn = rule->fn, .a = NSK_ARGUMENT};
        step.alpha = rule->alpha != NULL ? read_float(s, rule->alpha, rule->alpha_default) : 0.0;
        step.beta = rule->beta != NULL ? read_float(s, rule->beta, rule->beta_default) : 0.0;
        if (rule->fn == NSK_FN_GELU) {
            if (!read_choice(s, "approximate", approximations, 2, &approximation)) {
                return false;
            }
            step.alpha = approximation;
        }
        node->program = g_new0(nsk_program, 1);
        node->program->count = 1;
        node->program->steps[0] = step;
        return true;
    }
    return complain(s, "no such function");
}

/* ---- the table ---- */

enum { MOST = NSK_MOST_INPUTS };
#define read_none NULL

/* Those of the graph, and other names for them. */
static const nsk_onnx_operator operators[] = {
#define NSK_OP_ROW(NAME, onnx, least, most, computed, reader, shape, kernel, lower)                \
    {onnx, NSK_OP_##NAME, least, most, computed, read_##reader},
#include "graph/ops.def"
    {"Mean", NSK_OP_ADD, 1, MOST, MOST, NULL},
    {"Sum", NSK_OP_ADD, 1, MOST, MOST, NULL},
    {"Upsample", NSK_OP_RESIZE, 1, 2, 1, read_upsample},
};

/* All functions of one input. */
static const nsk_onnx_operator any_function = {"Function", NSK_OP_FUNCTION, 1, 1, 1, read_function};

const nsk_onnx_operator *nsk_onnx_operator_find(const char *name) {
    for (size_t i = 0; i < G_N_ELEMENTS(operators); i++) {
        if (operators[i].op != NSK_OP_FUNCTION && strcmp(operators[i].name, name) == 0) {
            return &operators[i];
        }
    }
    for (size_t i = 0; i < G_N_ELEMENTS(function_rules); i++) {
        if (strcmp(nsk_function_name(function_rules[i].fn), name) == 0) {
            return &any_function;
        }
    }
    return NULL;
}
