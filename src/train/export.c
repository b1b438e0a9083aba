#include "train/export.h"

#include <string.h>

#include "onnx/maker.h"

typedef struct exporter {
    nsk_onnx_maker *maker;
    const char *last; /* the newest tensor's name */
    GPtrArray *owned; /* names of tensors so far */
} exporter;

/* Adds the node STEMn on the newest tensor, writing OPERATORn_out; returns it so that inputs and
 * attributes can follow. */
static Onnx__NodeProto *numbered(exporter *e, const char *op_type, const char *stem, int number) {
    char *name = g_strdup_printf("%s%d", stem, number);
    char *lower = g_ascii_strdown(op_type, -1);
    char *output = g_strdup_printf("%s%d_out", lower, number);
    Onnx__NodeProto *n = nsk_onnx_put_node(e->maker, op_type, name, output);
    nsk_onnx_add_input(e->maker, n, e->last);
    g_free(name);
    g_free(lower);
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

static void add_window(exporter *e, const nsk_train_layer *l, int number) {
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
    if (last) {
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

static void add_layers(exporter *e, const nsk_train_net *net) {
    const char *outputs[G_N_ELEMENTS(net->layer)];
    int number = 0;
    for (int i = 0; i < net->layers; i++) {
        const nsk_train_layer *l = &net->layer[i];
        switch (l->kind) {
        case NSK_TRAIN_CONV:
        case NSK_TRAIN_DEPTHWISE:
            add_window(e, l, ++number);
            break;
        case NSK_TRAIN_BATCH_NORM:
            add_norm(e, l, number);
            break;
        case NSK_TRAIN_DENSE:
            add_dense(e, l, ++number, i == net->layers - 1);
            break;
        default:
            add_plain(e, l, number, outputs[l->earlier]);
        }
        outputs[i] = e->last;
    }
    char *name = g_strdup_printf("softmax%d", number);
    Onnx__NodeProto *n = nsk_onnx_put_node(e->maker, "Softmax", name, "probabilities");
    nsk_onnx_add_input(e->maker, n, e->last);
    nsk_onnx_add_int(e->maker, n, "axis", -1);
    g_free(name);
}

bool nsk_train_export(const nsk_train_net *net, const char *name, const char *path,
                      nsk_error *error) {
    const int64_t in[] = {0, net->channels, net->height, net->width};
    const int64_t out[] = {0, net->layer[net->layers - 1].channels};
    int opset = 13;
    for (int i = 0; i < net->layers; i++) {
        opset = net->layer[i].kind == NSK_TRAIN_HARD_SWISH ? 14 : opset;
    }
    exporter e = {nsk_onnx_maker_new(name, "netsuke trainer", opset), "image",
                  g_ptr_array_new_with_free_func(g_free)};
    nsk_onnx_put_input(e.maker, "image", 4, in);
    nsk_onnx_put_output(e.maker, "probabilities", 2, out);
    add_layers(&e, net);
    bool good = nsk_onnx_maker_write(e.maker, path, error);
    nsk_onnx_maker_free(e.maker);
    g_ptr_array_free(e.owned, TRUE);
    return good;
}
