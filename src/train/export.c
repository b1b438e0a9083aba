#include "train/export.h"

#include <math.h>
#include <string.h>

#include "onnx/maker.h"

/* In which order the newest tensor's axes stand. */
typedef enum order {
    PICTURE, /* batch, channels, rows, columns */
    LAST,    /* the same, channels last */
    TOKENS,  /* batch, pixels, channels */
    FLAT     /* batch, channels */
} order;

typedef struct exporter {
    nsk_onnx_maker *maker;
    const char *last; /* the newest tensor's name */
    GPtrArray *owned; /* names of tensors so far */
    order order;      /* of the newest */
    int turned;       /* names of transpositions and reshapes are numbered */
} exporter;

/* Adds the node STEMn on the newest tensor, writing STEMn_out; returns it so that inputs and
 * attributes can follow. */
static Onnx__NodeProto *numbered(exporter *e, const char *op_type, const char *stem, int number) {
    char *name = g_strdup_printf("%s%d", stem, number);
    char *output = g_strdup_printf("%s_out", name);
    Onnx__NodeProto *n = nsk_onnx_put_node(e->maker, op_type, name, output);
    nsk_onnx_add_input(e->maker, n, e->last);
    g_free(name);
    e->last = output;
    g_ptr_array_add(e->owned, output);
    return n;
}

/* A constant "STEMn_WHAT" that the node takes. */
static void add_constant(exporter *e, Onnx__NodeProto *n, const char *what, int rank,
                         const int64_t *dims, const float *numbers) {
    char *name = g_strdup_printf("%s_%s", n->name, what);
    nsk_onnx_put_floats(e->maker, name, rank, dims, numbers);
    nsk_onnx_add_input(e->maker, n, name);
    g_free(name);
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

/* ---- orders of axes ---- */

static void add_turn(exporter *e, size_t rank, const int64_t *axes) {
    Onnx__NodeProto *n = numbered(e, "Transpose", "turn", ++e->turned);
    nsk_onnx_add_ints(e->maker, n, "perm", rank, axes);
}

static void add_integers(exporter *e, Onnx__NodeProto *n, const char *what, int64_t count,
                         const int64_t *numbers) {
    char *name = g_strdup_printf("%s_%s", n->name, what);
    nsk_onnx_put_integers(e->maker, name, count, numbers);
    nsk_onnx_add_input(e->maker, n, name);
    g_free(name);
}

static void add_reshape(exporter *e, int64_t rank, const int64_t *dims) {
    Onnx__NodeProto *n = numbered(e, "Reshape", "reshape", ++e->turned);
    add_integers(e, n, "shape", rank, dims);
}

static void bring_to(exporter *e, order wanted) {
    static const int64_t last[4] = {0, 2, 3, 1};
    static const int64_t first[4] = {0, 3, 1, 2};
    if (e->order == PICTURE && wanted == LAST) {
        add_turn(e, 4, last);
    } else if (e->order == LAST && wanted == PICTURE) {
        add_turn(e, 4, first);
    } else {
        return;
    }
    e->order = wanted;
}

/* ---- layers ---- */

/* A pointwise convolution of what has its channels last. */
static void add_product(exporter *e, const nsk_train_layer *l, int number) {
    const int64_t dims[2] = {l->in_channels, l->channels};
    float *weights = g_new(float, l->weight.count);
    for (int64_t i = 0; i < dims[0]; i++) {
        for (int64_t o = 0; o < dims[1]; o++) {
            weights[i * dims[1] + o] = l->weight.value[o * dims[0] + i];
        }
    }
    Onnx__NodeProto *n = numbered(e, "MatMul", "linear", number);
    add_constant(e, n, "weight", 2, dims, weights);
    g_free(weights);
}

static void add_window(exporter *e, const nsk_train_layer *l, int number) {
    bool pointwise = l->kind == NSK_TRAIN_CONV && l->kernel == 1 && l->stride == 1;
    if (pointwise && e->order != PICTURE) {
        add_product(e, l, number);
        return;
    }
    bring_to(e, PICTURE);
    bool depthwise = l->kind == NSK_TRAIN_DEPTHWISE;
    const int64_t kernel[] = {l->kernel, l->kernel};
    const int64_t stride[] = {l->stride, l->stride};
    const int64_t pads[] = {l->pad, l->pad, l->pad, l->pad};
    const int64_t dims[] = {l->channels, depthwise ? 1 : l->in_channels, l->kernel, l->kernel};
    Onnx__NodeProto *n = numbered(e, "Conv", "conv", number);
    float *weights = transposed(l);
    add_constant(e, n, "weight", 4, dims, weights);
    nsk_onnx_add_int(e->maker, n, "group", depthwise ? l->channels : 1);
    nsk_onnx_add_ints(e->maker, n, "kernel_shape", 2, kernel);
    nsk_onnx_add_ints(e->maker, n, "pads", 4, pads);
    nsk_onnx_add_ints(e->maker, n, "strides", 2, stride);
    g_free(weights);
}

static void add_norm(exporter *e, const nsk_train_layer *l, int number) {
    const int64_t dims[] = {l->channels};
    Onnx__NodeProto *n = numbered(e, "BatchNormalization", "norm", number);
    add_constant(e, n, "gain", 1, dims, l->weight.value);
    add_constant(e, n, "offset", 1, dims, l->bias.value);
    add_constant(e, n, "mean", 1, dims, l->running_mean);
    add_constant(e, n, "variance", 1, dims, l->running_variance);
    nsk_onnx_add_float(e->maker, n, "epsilon", 1e-5);
}

/* The last layer's scores are flat; before it, a dense layer is a 1x1 convolution of one pixel. */
static void add_dense(exporter *e, const nsk_train_layer *l, int number, bool last) {
    const int64_t dims[] = {l->channels, (int64_t)(l->weight.count / (size_t)l->channels), 1, 1};
    g_assert(l->in_height * l->in_width == 1);
    if (last && e->order != FLAT) {
        numbered(e, "Flatten", "flatten", number);
    }
    Onnx__NodeProto *n =
        last ? numbered(e, "Gemm", "dense", number) : numbered(e, "Conv", "conv", number);
    add_constant(e, n, "weight", last ? 2 : 4, dims, l->weight.value);
    add_constant(e, n, "bias", 1, dims, l->bias.value);
    if (last) {
        nsk_onnx_add_int(e->maker, n, "transB", 1);
    }
}

/* Layers that are one node without numbers of its own. */
static const struct {
    const char *operator, * stem;
} plain[NSK_TRAIN_KINDS] = {
    [NSK_TRAIN_RELU] = {"Relu", "relu"},
    [NSK_TRAIN_HARD_SWISH] = {"HardSwish", "swish"},
    [NSK_TRAIN_HARD_SIGMOID] = {"HardSigmoid", "gate"},
    [NSK_TRAIN_MEAN_POOL] = {"GlobalAveragePool", "globalaveragepool"},
    [NSK_TRAIN_ADD] = {"Add", "add"},
    [NSK_TRAIN_SCALE] = {"Mul", "mul"},
    [NSK_TRAIN_GELU] = {"Gelu", "gelu"},
};

static void add_plain(exporter *e, const nsk_train_layer *l, int number, const char *earlier) {
    Onnx__NodeProto *n = numbered(e, plain[l->kind].operator, plain[l->kind].stem, number);
    if (l->kind == NSK_TRAIN_HARD_SIGMOID) {
        nsk_onnx_add_float(e->maker, n, "alpha", 1.0 / 6.0);
        nsk_onnx_add_float(e->maker, n, "beta", 0.5);
    }
    if (l->kind == NSK_TRAIN_ADD || l->kind == NSK_TRAIN_SCALE) {
        nsk_onnx_add_input(e->maker, n, earlier);
    }
}

static void add_layer_norm(exporter *e, const nsk_train_layer *l, int number) {
    const int64_t dims[] = {l->channels};
    bring_to(e, LAST);
    Onnx__NodeProto *n = numbered(e, "LayerNormalization", "norm", number);
    add_constant(e, n, "gain", 1, dims, l->weight.value);
    add_constant(e, n, "offset", 1, dims, l->bias.value);
    nsk_onnx_add_int(e->maker, n, "axis", -1);
    nsk_onnx_add_float(e->maker, n, "epsilon", 1e-5);
}

/* What is added to each channel, or to each token's channels. */
static void add_offset(exporter *e, const nsk_train_layer *l, int number) {
    const bool position = l->kind == NSK_TRAIN_POSITION;
    const int64_t channels = l->channels;
    const int64_t of_picture[3] = {channels, 1, 1};
    const int64_t of_tokens[3] = {1, l->width, channels};
    g_assert(!position || e->order == TOKENS);
    Onnx__NodeProto *n = numbered(e, "Add", position ? "position" : "bias", number);
    if (e->order == PICTURE) {
        add_constant(e, n, "numbers", 3, of_picture, l->bias.value);
    } else {
        add_constant(e, n, "numbers", position ? 3 : 1, position ? of_tokens : &channels,
                     l->bias.value);
    }
}

static void add_tokens(exporter *e, const nsk_train_layer *l) {
    static const int64_t back[3] = {0, 2, 1};
    const int64_t dims[3] = {0, l->channels, -1};
    bring_to(e, PICTURE);
    add_reshape(e, 3, dims);
    add_turn(e, 3, back);
    e->order = TOKENS;
}

/* One for each picture of the batch, whose size is left open. */
static void add_class_token(exporter *e, const nsk_train_layer *l, int number) {
    const int64_t dims[3] = {1, 1, l->channels};
    const int64_t own[2] = {1, l->channels};
    const char *tokens = e->last;
    Onnx__NodeProto *n = numbered(e, "Shape", "batch", number);
    nsk_onnx_add_int(e->maker, n, "end", 1);
    n = numbered(e, "Concat", "wanted", number);
    add_integers(e, n, "own", 2, own);
    nsk_onnx_add_int(e->maker, n, "axis", 0);
    const char *shape = e->last;
    char *name = g_strdup_printf("token%d_numbers", number);
    nsk_onnx_put_floats(e->maker, name, 3, dims, l->bias.value);
    e->last = name;
    g_ptr_array_add(e->owned, name);
    n = numbered(e, "Expand", "token", number);
    nsk_onnx_add_input(e->maker, n, shape);
    n = numbered(e, "Concat", "front", number);
    nsk_onnx_add_input(e->maker, n, tokens);
    nsk_onnx_add_int(e->maker, n, "axis", 1);
}

/* What stands at one place of an axis. */
static void add_pick(exporter *e, const char *stem, int number, int64_t axis, int64_t place) {
    Onnx__NodeProto *n = numbered(e, "Gather", stem, number);
    char *name = g_strdup_printf("%s_index", n->name);
    nsk_onnx_put_constant(e->maker, name, ONNX__TENSOR_PROTO__DATA_TYPE__INT64, 0, NULL, &place,
                          sizeof place);
    nsk_onnx_add_input(e->maker, n, name);
    nsk_onnx_add_int(e->maker, n, "axis", axis);
    g_free(name);
}

static void add_first_token(exporter *e, int number) {
    add_pick(e, "first", number, 1, 0);
    e->order = FLAT;
}

static void add_mean(exporter *e, const nsk_train_layer *l, int number) {
    if (e->order != TOKENS) {
        bring_to(e, PICTURE);
        numbered(e, plain[l->kind].operator, plain[l->kind].stem, number);
        return;
    }
    static const int64_t axis = 1;
    Onnx__NodeProto *n = numbered(e, "ReduceMean", "mean", number);
    add_integers(e, n, "axes", 1, &axis);
    nsk_onnx_add_int(e->maker, n, "keepdims", 0);
    e->order = FLAT;
}

/* Queries, values or keys of all: batch, heads, tokens, channels of a head. */
static const char *part_of_attention(exporter *e, const char *all, const char *what, int64_t index,
                                     int number) {
    e->last = all;
    add_pick(e, what, 3 * number + (int)index, 0, index);
    return e->last;
}

static void add_attention(exporter *e, const nsk_train_layer *l, int number) {
    static const int64_t by_part[5] = {2, 0, 3, 1, 4};
    static const int64_t matrix[4] = {0, 1, 3, 2};
    static const int64_t back[4] = {0, 2, 1, 3};
    const int64_t size = l->channels / l->kernel;
    const int64_t parts[5] = {0, l->width, 3, l->kernel, size};
    const int64_t whole[3] = {0, l->width, l->channels};
    const float scale = 1.0F / sqrtf((float)size);
    g_assert(e->order == TOKENS);
    add_reshape(e, 5, parts);
    add_turn(e, 5, by_part);
    const char *all = e->last;
    const char *query = part_of_attention(e, all, "query", 0, number);
    const char *value = part_of_attention(e, all, "value", 2, number);
    part_of_attention(e, all, "key", 1, number);
    add_turn(e, 4, matrix);
    const char *key = e->last;
    e->last = query;
    Onnx__NodeProto *n = numbered(e, "MatMul", "alike", 2 * number);
    nsk_onnx_add_input(e->maker, n, key);
    n = numbered(e, "Mul", "scaled", number);
    add_constant(e, n, "scale", 0, NULL, &scale);
    n = numbered(e, "Softmax", "share", number);
    nsk_onnx_add_int(e->maker, n, "axis", -1);
    n = numbered(e, "MatMul", "attend", 2 * number + 1);
    nsk_onnx_add_input(e->maker, n, value);
    add_turn(e, 4, back);
    add_reshape(e, 3, whole);
}

/* What is joined has the order of what it is joined with. */
static void add_join(exporter *e, const nsk_train_layer *l, int number, const char *earlier,
                     order wanted) {
    if (l->kind == NSK_TRAIN_ADD) {
        bring_to(e, wanted);
    }
    add_plain(e, l, number, earlier);
    e->order = wanted;
}

/* Half of the channels of what is newest. */
static void add_half(exporter *e, const nsk_train_layer *l) {
    const bool upper = l->kind == NSK_TRAIN_UPPER;
    const int64_t first = upper ? l->channels : 0;
    const int64_t behind = first + l->channels;
    const int64_t axis = 1;
    Onnx__NodeProto *n = numbered(e, "Slice", upper ? "upper" : "lower", ++e->turned);
    add_integers(e, n, "first", 1, &first);
    add_integers(e, n, "behind", 1, &behind);
    add_integers(e, n, "axis", 1, &axis);
}

static void add_shuffle(exporter *e, const nsk_train_layer *l) {
    static const int64_t turned[5] = {0, 2, 1, 3, 4};
    const int64_t halves[5] = {0, 2, l->channels / 2, l->height, l->width};
    const int64_t whole[4] = {0, l->channels, l->height, l->width};
    add_reshape(e, 5, halves);
    add_turn(e, 5, turned);
    add_reshape(e, 4, whole);
}

/* A branch begins at, or joins, an earlier picture. */
static void add_branch(exporter *e, const nsk_train_layer *l, const char *earlier) {
    const char *newest = e->last;
    e->last = earlier;
    if (l->kind == NSK_TRAIN_CONCAT) {
        Onnx__NodeProto *n = numbered(e, "Concat", "concat", ++e->turned);
        nsk_onnx_add_input(e->maker, n, newest);
        nsk_onnx_add_int(e->maker, n, "axis", 1);
    } else if (l->kind == NSK_TRAIN_LOWER) {
        add_half(e, l);
    }
}

static void add_layer(exporter *e, const nsk_train_layer *l, int number) {
    static const int64_t turned[3] = {0, 2, 1};
    switch (l->kind) {
    case NSK_TRAIN_CONV:
    case NSK_TRAIN_DEPTHWISE:
        add_window(e, l, number);
        break;
    case NSK_TRAIN_BATCH_NORM:
        add_norm(e, l, number);
        break;
    case NSK_TRAIN_LAYER_NORM:
        add_layer_norm(e, l, number);
        break;
    case NSK_TRAIN_BIAS:
    case NSK_TRAIN_POSITION:
        add_offset(e, l, number);
        break;
    case NSK_TRAIN_UPPER:
        add_half(e, l);
        break;
    case NSK_TRAIN_SHUFFLE:
        add_shuffle(e, l);
        break;
    case NSK_TRAIN_TOKENS:
        add_tokens(e, l);
        break;
    case NSK_TRAIN_TURN:
        add_turn(e, 3, turned);
        break;
    case NSK_TRAIN_CLASS_TOKEN:
        add_class_token(e, l, number);
        break;
    case NSK_TRAIN_FIRST_TOKEN:
        add_first_token(e, number);
        break;
    case NSK_TRAIN_MEAN_POOL:
        add_mean(e, l, number);
        break;
    case NSK_TRAIN_ATTENTION:
        add_attention(e, l, number);
        break;
    default:
        add_plain(e, l, number, NULL);
    }
}

/* Whether its numbers, and so its name, begin a new number. */
static bool counts(const nsk_train_layer *l) {
    return l->kind == NSK_TRAIN_CONV || l->kind == NSK_TRAIN_DEPTHWISE ||
           l->kind == NSK_TRAIN_DENSE || l->kind == NSK_TRAIN_LAYER_NORM;
}

static void add_layers(exporter *e, const nsk_train_net *net) {
    const char *outputs[G_N_ELEMENTS(net->layer)];
    order orders[G_N_ELEMENTS(net->layer)];
    int number = 0;
    for (int i = 0; i < net->layers; i++) {
        const nsk_train_layer *l = &net->layer[i];
        number += counts(l);
        if (l->kind == NSK_TRAIN_ADD || l->kind == NSK_TRAIN_SCALE) {
            add_join(e, l, number, outputs[l->earlier], orders[l->earlier]);
        } else if (l->kind == NSK_TRAIN_CONCAT || l->kind == NSK_TRAIN_FROM ||
                   l->kind == NSK_TRAIN_LOWER) {
            add_branch(e, l, outputs[l->earlier]);
        } else if (l->kind == NSK_TRAIN_DENSE) {
            add_dense(e, l, number, i == net->layers - 1);
        } else {
            add_layer(e, l, number);
        }
        outputs[i] = e->last;
        orders[i] = e->order;
    }
    char *name = g_strdup_printf(net->several ? "sigmoid%d" : "softmax%d", number);
    Onnx__NodeProto *n =
        nsk_onnx_put_node(e->maker, net->several ? "Sigmoid" : "Softmax", name, "probabilities");
    nsk_onnx_add_input(e->maker, n, e->last);
    if (!net->several) {
        nsk_onnx_add_int(e->maker, n, "axis", -1);
    }
    g_free(name);
}

bool nsk_train_export(const nsk_train_net *net, const char *name, const char *path,
                      nsk_error *error) {
    const int64_t in[] = {0, net->channels, net->height, net->width};
    const int64_t out[] = {0, net->layer[net->layers - 1].channels};
    static const int since[NSK_TRAIN_KINDS] = {
        [NSK_TRAIN_HARD_SWISH] = 14,
        [NSK_TRAIN_LAYER_NORM] = 17,
        [NSK_TRAIN_GELU] = 20,
        [NSK_TRAIN_TOKENS] = 18, /* ReduceMean takes its axes as an input */
    };
    int opset = 13;
    for (int i = 0; i < net->layers; i++) {
        opset = MAX(opset, since[net->layer[i].kind]);
    }
    exporter e = {nsk_onnx_maker_new(name, "netsuke trainer", opset), "image",
                  g_ptr_array_new_with_free_func(g_free), PICTURE, 0};
    nsk_onnx_put_input(e.maker, "image", 4, in);
    nsk_onnx_put_output(e.maker, "probabilities", 2, out);
    add_layers(&e, net);
    bool good = nsk_onnx_maker_write(e.maker, path, error);
    nsk_onnx_maker_free(e.maker);
    g_ptr_array_free(e.owned, TRUE);
    return good;
}
