/* Rewrites that leave the function the same. */
#include "graph/graph.h"

#include <math.h>
#include <string.h>

static nsk_node *producer_of(const nsk_graph *graph, int value) {
    int producer = nsk_graph_value(graph, value)->producer;
    return producer == NSK_NONE ? NULL : nsk_graph_node(graph, producer);
}

/* Makes every reader of the node's output read `value` instead, and the node disappear. */
static void bypass(nsk_graph *graph, nsk_node *node, int value) {
    for (int i = 0; i < (int)graph->nodes->len; i++) {
        nsk_node *reader = nsk_graph_node(graph, i);
        for (int k = 0; k < reader->inputs; k++) {
            reader->input[k] = reader->input[k] == node->output ? value : reader->input[k];
        }
    }
    graph->output = graph->output == node->output ? value : graph->output;
    node->dead = true;
}

/* The node whose result goes to `value` and nowhere else, and is not clamped yet. */
static nsk_node *sole_producer(nsk_graph *graph, int value) {
    nsk_node *node = producer_of(graph, value);
    bool plain = node != NULL && !node->dead && isinf(node->low) && isinf(node->high);
    return plain && nsk_graph_readers(graph, value) == 1 ? node : NULL;
}

static void note_folded(nsk_node *into, const nsk_node *gone) {
    g_string_append_printf(into->folded, "%s%s", into->folded->len > 0 ? ", " : "", gone->name);
    if (gone->folded->len > 0) {
        g_string_append_printf(into->folded, ", %s", gone->folded->str);
    }
}

static int add_constant(nsk_graph *graph, const char *owner, const char *what, int rank,
                        const int64_t *dims, float *data) {
    char *name = g_strdup_printf("%s:%s", owner, what);
    int index = nsk_graph_add_value(graph, name);
    nsk_value *value = nsk_graph_value(graph, index);
    value->rank = rank;
    memcpy(value->dims, dims, (size_t)rank * sizeof *dims);
    value->shaped = true;
    value->data = data;
    g_free(name);
    return index;
}

/* ---- per-channel gain and offset ---- */

/* The channel's gain and offset, one each for axis 1 of a node's output. */
typedef struct affine {
    int64_t channels;
    double *gain, *offset;
} affine;

static affine affine_new(int64_t channels) {
    affine a = {channels, g_new0(double, channels), g_new0(double, channels)};
    for (int64_t c = 0; c < channels; c++) {
        a.gain[c] = 1.0;
    }
    return a;
}

static void affine_clear(affine *a) {
    g_free(a->gain);
    g_free(a->offset);
}

static bool takes_affine(const nsk_graph *graph, const nsk_node *node) {
    bool linear = node != NULL && (node->op == NSK_OP_CONV || node->op == NSK_OP_GEMM);
    const nsk_value *bias = linear ? nsk_node_input(graph, node, 2) : NULL;
    return linear && nsk_node_input(graph, node, 1)->data != NULL &&
           (bias == NULL || bias->data != NULL);
}

/* weight x gain, bias x gain + offset, in new constants: the old ones may be shared. */
static void apply_affine(nsk_graph *graph, nsk_node *node, const affine *a) {
    const nsk_value *weight = nsk_node_input(graph, node, 1);
    const nsk_value *bias = nsk_node_input(graph, node, 2);
    size_t count = nsk_value_count(weight);
    size_t channels = (size_t)a->channels;
    bool columns = node->op == NSK_OP_GEMM && !node->attributes.transpose_b;
    float *new_weight = g_new(float, count);
    float *new_bias = g_new(float, channels);
    for (size_t i = 0; i < count; i++) {
        size_t c = columns ? i % channels : i / (count / channels);
        new_weight[i] = (float)((double)weight->data[i] * a->gain[c]);
    }
    double beta = node->op == NSK_OP_GEMM ? node->attributes.beta : 1.0;
    for (size_t c = 0; c < channels; c++) {
        double old = bias == NULL ? 0.0 : (double)bias->data[nsk_value_count(bias) == 1 ? 0 : c];
        new_bias[c] = (float)(beta * old * a->gain[c] + a->offset[c]);
    }
    node->attributes.beta = 1.0;
    int64_t weight_dims[NSK_MOST_RANK];
    int rank = weight->rank;
    memcpy(weight_dims, weight->dims, sizeof weight_dims);
    char *owner = g_strdup(node->name);
    int weight_index = add_constant(graph, owner, "weight", rank, weight_dims, new_weight);
    int bias_index = add_constant(graph, owner, "bias", 1, &a->channels, new_bias);
    g_free(owner);
    node->input[1] = weight_index;
    node->input[2] = bias_index;
    node->inputs = 3;
}

/* Turns the node into a 1x1 depthwise convolution of its first input with all weights one. */
static void become_depthwise(nsk_graph *graph, nsk_node *node, int input, int64_t channels) {
    const int64_t dims[4] = {channels, 1, 1, 1};
    float *ones = g_new(float, channels);
    for (int64_t c = 0; c < channels; c++) {
        ones[c] = 1.0F;
    }
    node->op = NSK_OP_CONV;
    node->attributes.window = (nsk_window_attributes){
        .kernel = {1, 1}, .stride = {1, 1}, .dilation = {1, 1}, .groups = channels};
    node->input[0] = input;
    node->input[1] = add_constant(graph, node->name, "weight", 4, dims, ones);
    node->inputs = 2;
}

/* Folds the affine into what makes `input`, or lets the node do it by itself. */
static void absorb(nsk_graph *graph, nsk_node *node, int input, const affine *a) {
    nsk_node *before = sole_producer(graph, input);
    if (takes_affine(graph, before)) {
        apply_affine(graph, before, a);
        note_folded(before, node);
        bypass(graph, node, input);
    } else if (nsk_graph_value(graph, input)->rank == 4) {
        become_depthwise(graph, node, input, a->channels);
        apply_affine(graph, node, a);
    }
}

static void fold_norm(nsk_graph *graph, nsk_node *node) {
    const float *in[5] = {NULL};
    for (int i = 1; i < 5; i++) {
        in[i] = nsk_node_input(graph, node, i)->data;
        if (in[i] == NULL) {
            return;
        }
    }
    affine a = affine_new(nsk_node_input(graph, node, 0)->dims[1]);
    for (int64_t c = 0; c < a.channels; c++) {
        double deviation = sqrt((double)in[4][c] + node->attributes.epsilon);
        a.gain[c] = (double)in[1][c] / deviation;
        a.offset[c] = (double)in[2][c] - (double)in[3][c] * a.gain[c];
    }
    absorb(graph, node, node->input[0], &a);
    affine_clear(&a);
}

/* Whether the constant holds one number, or one a channel of a value like `like`. */
static bool is_per_channel(const nsk_value *constant, const nsk_value *like) {
    if (constant->data == NULL || like->rank < 2) {
        return false;
    }
    for (int i = 0; i < constant->rank; i++) {
        int axis = i + like->rank - constant->rank;
        bool whole = axis == 1 && constant->dims[i] == like->dims[1];
        if (axis < 0 || (constant->dims[i] != 1 && !whole)) {
            return false;
        }
    }
    return true;
}

/* Add or Mul with a constant on either side. */
static void fold_arithmetic(nsk_graph *graph, nsk_node *node) {
    for (int side = 0; side < 2; side++) {
        const nsk_value *constant = nsk_node_input(graph, node, side);
        const nsk_value *other = nsk_node_input(graph, node, 1 - side);
        if (!is_per_channel(constant, other) || other->data != NULL) {
            continue;
        }
        affine a = affine_new(other->dims[1]);
        bool single = nsk_value_count(constant) == 1;
        for (int64_t c = 0; c < a.channels; c++) {
            double number = (double)constant->data[single ? 0 : c];
            *(node->op == NSK_OP_MUL ? &a.gain[c] : &a.offset[c]) = number;
        }
        absorb(graph, node, node->input[1 - side], &a);
        affine_clear(&a);
        return;
    }
}

/* alpha goes into the weights, beta into the bias. */
static void fold_gemm(nsk_graph *graph, nsk_node *node) {
    double alpha = node->attributes.alpha;
    if (alpha == 0.0 || !takes_affine(graph, node) ||
        (alpha == 1.0 && node->attributes.beta == 1.0)) {
        return;
    }
    affine a = affine_new(nsk_graph_value(graph, node->output)->dims[1]);
    for (int64_t c = 0; c < a.channels; c++) {
        a.gain[c] = alpha;
    }
    node->attributes.beta /= alpha; /* apply_affine multiplies the bias by both */
    apply_affine(graph, node, &a);
    node->attributes.alpha = 1.0;
    affine_clear(&a);
}

/* ---- the other rewrites ---- */

static void fold_matmul(nsk_graph *graph, nsk_node *node) {
    if (nsk_node_input(graph, node, 1)->data != NULL) {
        node->op = NSK_OP_GEMM;
        node->attributes.alpha = node->attributes.beta = 1.0;
        node->attributes.transpose_a = node->attributes.transpose_b = false;
    }
}

static void fold_pass_through(nsk_graph *graph, nsk_node *node) {
    bypass(graph, node, node->input[0]);
}

/* Zeroes around the picture become the convolution's own padding. */
static void fold_pad(nsk_graph *graph, nsk_node *node) {
    const nsk_value *filler = nsk_node_input(graph, node, 2);
    bool zero = filler == NULL || (filler->data != NULL && filler->data[0] == 0.0F);
    for (int i = 0; i < (int)graph->nodes->len; i++) {
        const nsk_node *reader = nsk_graph_node(graph, i);
        bool reads = !reader->dead && reader->inputs > 0 && reader->input[0] == node->output;
        zero = zero && !(reads && reader->op != NSK_OP_CONV);
    }
    if (!zero || graph->output == node->output) {
        return;
    }
    const nsk_window_attributes *pad = &node->attributes.window;
    for (int i = 0; i < (int)graph->nodes->len; i++) {
        nsk_node *reader = nsk_graph_node(graph, i);
        if (!reader->dead && reader->inputs > 0 && reader->input[0] == node->output) {
            for (int axis = 0; axis < 2; axis++) {
                reader->attributes.window.pad_before[axis] += pad->pad_before[axis];
                reader->attributes.window.pad_after[axis] += pad->pad_after[axis];
            }
            note_folded(reader, node);
        }
    }
    bypass(graph, node, node->input[0]);
}

static bool takes_clamp(nsk_op op) {
    static const nsk_op ops[] = {NSK_OP_ADD,      NSK_OP_AVERAGE_POOL,        NSK_OP_CONV,
                                 NSK_OP_GEMM,     NSK_OP_GLOBAL_AVERAGE_POOL, NSK_OP_MUL,
                                 NSK_OP_MAX_POOL, NSK_OP_GLOBAL_MAX_POOL};
    for (size_t i = 0; i < G_N_ELEMENTS(ops); i++) {
        if (ops[i] == op) {
            return true;
        }
    }
    return false;
}

static double clip_bound(const nsk_graph *graph, const nsk_node *node, int input, double given) {
    const nsk_value *bound = nsk_node_input(graph, node, input);
    return bound != NULL && bound->data != NULL ? (double)bound->data[0] : given;
}

static void fold_clamp(nsk_graph *graph, nsk_node *node) {
    bool relu = node->op == NSK_OP_RELU;
    double low = relu ? 0.0 : clip_bound(graph, node, 1, node->attributes.low);
    double high = relu ? INFINITY : clip_bound(graph, node, 2, node->attributes.high);
    node->low = fmax(node->low, low);
    node->high = fmin(node->high, high);
    nsk_node *before = producer_of(graph, node->input[0]);
    if (before == NULL || !takes_clamp(before->op) || low > high ||
        nsk_graph_readers(graph, node->input[0]) != 1) {
        return;
    }
    before->low = fmin(fmax(before->low, low), high);
    before->high = fmax(fmin(before->high, high), low);
    note_folded(before, node);
    bypass(graph, node, node->input[0]);
}

bool nsk_graph_fold(nsk_graph *graph, nsk_error *error) {
    static void (*const rewrites[NSK_OPS])(nsk_graph *, nsk_node *) = {
        [NSK_OP_ADD] = fold_arithmetic, [NSK_OP_BATCH_NORM] = fold_norm,
        [NSK_OP_CLIP] = fold_clamp,     [NSK_OP_DROPOUT] = fold_pass_through,
        [NSK_OP_GEMM] = fold_gemm,      [NSK_OP_IDENTITY] = fold_pass_through,
        [NSK_OP_MATMUL] = fold_matmul,  [NSK_OP_MUL] = fold_arithmetic,
        [NSK_OP_PAD] = fold_pad,        [NSK_OP_RELU] = fold_clamp,
    };
    for (int i = 0; i < (int)graph->nodes->len; i++) {
        nsk_node *node = nsk_graph_node(graph, i);
        if (!node->dead && rewrites[node->op] != NULL) {
            rewrites[node->op](graph, node);
        }
    }
    return nsk_graph_infer(graph, error);
}
