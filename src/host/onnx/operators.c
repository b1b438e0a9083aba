#include "onnx/operators.h"

#include <math.h>
#include <string.h>

#define INT_TYPE    ONNX__ATTRIBUTE_PROTO__ATTRIBUTE_TYPE__INT
#define INTS_TYPE   ONNX__ATTRIBUTE_PROTO__ATTRIBUTE_TYPE__INTS
#define FLOAT_TYPE  ONNX__ATTRIBUTE_PROTO__ATTRIBUTE_TYPE__FLOAT
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

static int64_t read_int(const nsk_onnx_source *s, const char *name, int64_t otherwise) {
    const Onnx__AttributeProto *a = nsk_onnx_attribute(s->node, name, INT_TYPE);
    return a != NULL ? a->i : otherwise;
}

static double read_float(const nsk_onnx_source *s, const char *name, double otherwise) {
    const Onnx__AttributeProto *a = nsk_onnx_attribute(s->node, name, FLOAT_TYPE);
    return a != NULL ? (double)a->f : otherwise;
}

static bool complain(const nsk_onnx_source *s, const char *text) {
    return nsk_fail(s->error, "node '%s' (%s): %s", s->node->name, s->node->op_type, text);
}

/* Two numbers, or `otherwise` for both where the attribute is not there. */
static bool read_pair(const nsk_onnx_source *s, const char *name, int64_t otherwise, int64_t *to) {
    const Onnx__AttributeProto *a = nsk_onnx_attribute(s->node, name, INTS_TYPE);
    to[0] = to[1] = otherwise;
    if (a == NULL) {
        return true;
    }
    if (a->n_ints != 2) {
        return complain(s, "only windows over rows and columns are read (2-D)");
    }
    to[0] = a->ints[0];
    to[1] = a->ints[1];
    return true;
}

static bool read_auto_pad(const nsk_onnx_source *s, nsk_window_attributes *w) {
    static const struct {
        const char *name;
        nsk_auto_pad value;
    } names[] = {{"NOTSET", NSK_PAD_GIVEN},
                 {"SAME_UPPER", NSK_PAD_SAME_UPPER},
                 {"SAME_LOWER", NSK_PAD_SAME_LOWER},
                 {"VALID", NSK_PAD_VALID}};
    const Onnx__AttributeProto *a = nsk_onnx_attribute(s->node, "auto_pad", STRING_TYPE);
    if (a == NULL) {
        return true;
    }
    for (size_t i = 0; i < G_N_ELEMENTS(names); i++) {
        if (a->s.len == strlen(names[i].name) && memcmp(a->s.data, names[i].name, a->s.len) == 0) {
            w->auto_pad = names[i].value;
            return true;
        }
    }
    return complain(s, "auto_pad is none of NOTSET, SAME_UPPER, SAME_LOWER, VALID");
}

static bool read_window(const nsk_onnx_source *s, nsk_attributes *to) {
    nsk_window_attributes *w = &to->window;
    const Onnx__AttributeProto *pads = nsk_onnx_attribute(s->node, "pads", INTS_TYPE);
    if (pads != NULL && pads->n_ints != 4) {
        return complain(s, "pads must be four numbers");
    }
    for (size_t axis = 0; axis < 2 && pads != NULL; axis++) {
        w->pad_before[axis] = pads->ints[axis];
        w->pad_after[axis] = pads->ints[2 + axis];
    }
    w->groups = read_int(s, "group", 1);
    w->ceil_mode = read_int(s, "ceil_mode", 0) != 0;
    w->count_include_pad = read_int(s, "count_include_pad", 0) != 0;
    return read_pair(s, "kernel_shape", 0, w->kernel) && read_pair(s, "strides", 1, w->stride) &&
           read_pair(s, "dilations", 1, w->dilation) && read_auto_pad(s, w);
}

static bool read_norm(const nsk_onnx_source *s, nsk_attributes *to) {
    to->epsilon = read_float(s, "epsilon", 1e-5);
    if (read_int(s, "training_mode", 0) != 0) {
        return complain(s, "in training form; export the network for inference");
    }
    return true;
}

static bool read_clip(const nsk_onnx_source *s, nsk_attributes *to) {
    to->low = read_float(s, "min", -INFINITY);
    to->high = read_float(s, "max", INFINITY);
    return true;
}

static bool read_flatten(const nsk_onnx_source *s, nsk_attributes *to) {
    to->axis = read_int(s, "axis", 1);
    return true;
}

static bool read_softmax(const nsk_onnx_source *s, nsk_attributes *to) {
    to->flatten_from_axis = s->opset < 13;
    to->axis = read_int(s, "axis", s->opset < 13 ? 1 : -1);
    return true;
}

static bool read_gemm(const nsk_onnx_source *s, nsk_attributes *to) {
    to->alpha = read_float(s, "alpha", 1.0);
    to->beta = read_float(s, "beta", 1.0);
    to->transpose_a = read_int(s, "transA", 0) != 0;
    to->transpose_b = read_int(s, "transB", 0) != 0;
    return true;
}

static bool read_reshape(const nsk_onnx_source *s, nsk_attributes *to) {
    to->allow_zero = read_int(s, "allowzero", 0) != 0;
    return true;
}

static bool read_pad(const nsk_onnx_source *s, nsk_attributes *to) {
    const Onnx__AttributeProto *mode = nsk_onnx_attribute(s->node, "mode", STRING_TYPE);
    if (mode != NULL && (mode->s.len != 8 || memcmp(mode->s.data, "constant", 8) != 0)) {
        return complain(s, "only the mode 'constant' is read");
    }
    const Onnx__AttributeProto *pads = nsk_onnx_attribute(s->node, "pads", INTS_TYPE);
    if (pads == NULL) {
        return true;
    }
    if (pads->n_ints != 8 || pads->ints[0] != 0 || pads->ints[1] != 0 || pads->ints[4] != 0 ||
        pads->ints[5] != 0) {
        return complain(s, "only rows and columns can be padded");
    }
    for (int axis = 0; axis < 2; axis++) {
        to->window.pad_before[axis] = pads->ints[2 + axis];
        to->window.pad_after[axis] = pads->ints[6 + axis];
    }
    return true;
}

static const nsk_onnx_operator operators[] = {
    {NSK_OP_ADD, 2, 2, NULL},
    {NSK_OP_AVERAGE_POOL, 1, 1, read_window},
    {NSK_OP_BATCH_NORM, 5, 5, read_norm},
    {NSK_OP_CLIP, 1, 3, read_clip},
    {NSK_OP_CONSTANT, 0, 0, NULL},
    {NSK_OP_CONV, 2, 3, read_window},
    {NSK_OP_DROPOUT, 1, 3, NULL},
    {NSK_OP_FLATTEN, 1, 1, read_flatten},
    {NSK_OP_GEMM, 2, 3, read_gemm},
    {NSK_OP_GLOBAL_AVERAGE_POOL, 1, 1, NULL},
    {NSK_OP_GLOBAL_MAX_POOL, 1, 1, NULL},
    {NSK_OP_IDENTITY, 1, 1, NULL},
    {NSK_OP_MATMUL, 2, 2, NULL},
    {NSK_OP_MAX_POOL, 1, 1, read_window},
    {NSK_OP_MUL, 2, 2, NULL},
    {NSK_OP_PAD, 1, 3, read_pad},
    {NSK_OP_RELU, 1, 1, NULL},
    {NSK_OP_RESHAPE, 2, 2, read_reshape},
    {NSK_OP_SOFTMAX, 1, 1, read_softmax},
};

const nsk_onnx_operator *nsk_onnx_operator_find(const char *name) {
    for (size_t i = 0; i < G_N_ELEMENTS(operators); i++) {
        if (strcmp(nsk_op_name(operators[i].op), name) == 0) {
            return &operators[i];
        }
    }
    return NULL;
}

char *nsk_onnx_operator_list(void) {
    GString *list = g_string_new("");
    for (size_t i = 0; i < G_N_ELEMENTS(operators); i++) {
        g_string_append_printf(list, "%s%s", i > 0 ? ", " : "", nsk_op_name(operators[i].op));
    }
    return g_string_free(list, FALSE);
}
