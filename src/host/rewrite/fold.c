/* Rewrites that leave the function the same. */
#include <math.h>
#include <string.h>

#include "float/forward.h"
#include "graph/rearrange.h"
#include "rewrite/rewrite.h"

/* The node whose result goes to `value` and nowhere else, and is not clamped yet. */
static nsk_node *sole_producer(nsk_graph *graph, int value) {
    nsk_node *node = nsk_graph_producer(graph, value);
    bool plain = node != NULL && !node->dead && isinf(node->low) && isinf(node->high);
    return plain && nsk_graph_readers(graph, value) == 1 ? node : NULL;
}

static int named_constant(nsk_graph *graph, const char *owner, const char *what, int rank,
                          const int64_t *dims, float *data) {
    char *name = g_strdup_printf("%s:%s", owner, what);
    int index = nsk_graph_add_constant(graph, name, rank, dims, data);
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

/* A convolution or Gemm whose weights and bias are known, the bias one number or one a channel. */
static bool takes_affine(const nsk_graph *graph, const nsk_node *node) {
    if (node == NULL || (node->op != NSK_OP_CONV && node->op != NSK_OP_GEMM)) {
        return false;
    }
    const nsk_value *bias = nsk_node_input(graph, node, 2);
    size_t channels = (size_t)nsk_graph_value(graph, node->output)->dims[1];
    bool known =
        bias == NULL ||
        (bias->data != NULL && (nsk_value_count(bias) == 1 || nsk_value_count(bias) == channels));
    bool by_row = bias != NULL && bias->rank == 2 && bias->dims[0] > 1;
    return known && !by_row && nsk_node_input(graph, node, 1)->data != NULL;
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
    int weight_index = named_constant(graph, owner, "weight", rank, weight_dims, new_weight);
    int bias_index = named_constant(graph, owner, "bias", 1, &a->channels, new_bias);
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
    node->input[1] = named_constant(graph, node->name, "weight", 4, dims, ones);
    node->inputs = 2;
}

/* Folds the affine into what makes `input`, or into the preparation of the graph's own input. */
static bool absorb(nsk_graph *graph, nsk_node *node, int input, const affine *a) {
    nsk_node *before = sole_producer(graph, input);
    if (takes_affine(graph, before)) {
        apply_affine(graph, before, a);
    } else if (input == graph->input && a->channels <= 3 && nsk_graph_readers(graph, input) == 1) {
        for (int64_t c = 0; c < a->channels; c++) {
            graph->input_gain[c] *= a->gain[c];
            graph->input_offset[c] = graph->input_offset[c] * a->gain[c] + a->offset[c];
        }
        before = NULL;
    } else {
        return false;
    }
    if (before != NULL) {
        nsk_node_note(before, node);
        before->low = node->low;
        before->high = node->high;
    }
    nsk_graph_bypass(graph, node, input);
    return true;
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
    if (!absorb(graph, node, node->input[0], &a) && nsk_node_input(graph, node, 0)->rank == 4) {
        become_depthwise(graph, node, node->input[0], a.channels);
        apply_affine(graph, node, &a);
    }
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

/* The affine that an Add or Mul with a constant is, and the side of the other operand; NSK_NONE
 * where it is none. */
static int affine_of(const nsk_graph *graph, const nsk_node *node, affine *a) {
    for (int side = 0; side < 2; side++) {
        const nsk_value *constant = nsk_node_input(graph, node, side);
        const nsk_value *other = nsk_node_input(graph, node, 1 - side);
        if (!is_per_channel(constant, other) || other->data != NULL) {
            continue;
        }
        *a = affine_new(other->dims[1]);
        bool single = nsk_value_count(constant) == 1;
        for (int64_t c = 0; c < a->channels; c++) {
            double number = (double)constant->data[single ? 0 : c];
            *(node->op == NSK_OP_MUL ? &a->gain[c] : &a->offset[c]) = number;
        }
        return 1 - side;
    }
    return NSK_NONE;
}

static bool is_clamped(const nsk_node *node) {
    return !isinf(node->low) || !isinf(node->high);
}

static void fold_arithmetic(nsk_graph *graph, nsk_node *node) {
    affine a;
    int side = affine_of(graph, node, &a);
    if (side != NSK_NONE) {
        if (!is_clamped(node) || node->input[side] != graph->input) {
            absorb(graph, node, node->input[side], &a);
        }
        affine_clear(&a);
    }
}

/* ---- products of matrices ---- */

/* The product with constant weights whose columns the node's constant stands for, or, of two
 * computed tensors, whose result it multiplies; NULL where there is none. */
static nsk_node *product_before(nsk_graph *graph, const nsk_node *node, int *side) {
    for (*side = 0; *side < 2; (*side)++) {
        const nsk_value *constant = nsk_node_input(graph, node, *side);
        nsk_node *before = sole_producer(graph, node->input[1 - *side]);
        if (before == NULL || before->op != NSK_OP_MATMUL || constant->data == NULL) {
            continue;
        }
        const nsk_value *out = nsk_graph_value(graph, before->output);
        const nsk_value *result = nsk_graph_value(graph, node->output);
        const nsk_value *weight = nsk_node_input(graph, before, 1);
        const size_t count = nsk_value_count(constant);
        const size_t columns = (size_t)out->dims[out->rank - 1];
        bool by_column = count == 1 || (count == columns && constant->rank > 0 &&
                                        constant->dims[constant->rank - 1] == (int64_t)count);
        bool weighs = weight->data != NULL && weight->rank == 2;
        bool factor = node->op == NSK_OP_MUL && count == 1 && constant->data[0] > 0.0F;
        if (by_column && (weighs || factor) && out->rank == result->rank &&
            nsk_value_count(out) == nsk_value_count(result)) {
            return before;
        }
    }
    return NULL;
}

static int columns_changed(nsk_graph *graph, const nsk_node *owner, const char *what,
                           const nsk_value *old, const nsk_value *by, bool times, size_t columns) {
    const size_t count = old != NULL ? nsk_value_count(old) : columns;
    const int64_t dims[2] = {(int64_t)(count / columns), (int64_t)columns};
    float *data = g_new(float, count);
    for (size_t i = 0; i < count; i++) {
        float is = old != NULL ? old->data[i] : 0.0F;
        float change = by->data[nsk_value_count(by) == 1 ? 0 : i % columns];
        data[i] = times ? is * change : is + change;
    }
    bool matrix = old != NULL && old->rank == 2;
    return named_constant(graph, owner->name, what, matrix ? 2 : 1, matrix ? dims : dims + 1, data);
}

/* What is added to each column, or multiplies it, goes into the product. */
static bool fold_into_product(nsk_graph *graph, nsk_node *node) {
    int side;
    nsk_node *before = product_before(graph, node, &side);
    if (before == NULL) {
        return false;
    }
    const nsk_value *constant = nsk_node_input(graph, node, side);
    const nsk_value *weight = nsk_node_input(graph, before, 1);
    const nsk_value *added = nsk_node_input(graph, before, 2);
    const nsk_value *out = nsk_graph_value(graph, before->output);
    const size_t columns = (size_t)out->dims[out->rank - 1];
    const bool times = node->op == NSK_OP_MUL;
    if (weight->data == NULL || weight->rank != 2) {
        before->attributes.alpha = nsk_matmul_factor(before) * (double)constant->data[0];
    } else {
        if (times) {
            before->input[1] =
                columns_changed(graph, before, "weight", weight, constant, true, columns);
        }
        if (added != NULL || !times) {
            before->input[2] =
                columns_changed(graph, before, "bias", added, constant, times, columns);
            before->inputs = 3;
        }
    }
    nsk_node_note(before, node);
    before->low = node->low;
    before->high = node->high;
    nsk_graph_bypass(graph, node, before->output);
    return true;
}

/* The product of two computed tensors that is all that reads the value, other looks at it between.
 */
static nsk_node *product_behind(const nsk_graph *graph, int value) {
    for (int i = 0; i < (int)graph->nodes->len; i++) {
        nsk_node *node = nsk_graph_node(graph, i);
        bool reads = false;
        for (int k = 0; k < node->inputs && !node->dead; k++) {
            reads = reads || node->input[k] == value;
        }
        if (!reads || nsk_graph_readers(graph, value) != 1) {
            continue;
        }
        if (node->op == NSK_OP_TRANSPOSE || node->op == NSK_OP_RESHAPE) {
            return product_behind(graph, node->output);
        }
        bool two = node->op == NSK_OP_MATMUL && nsk_node_input(graph, node, 0)->data == NULL &&
                   nsk_node_input(graph, node, 1)->data == NULL;
        return two ? node : NULL;
    }
    return NULL;
}

/* One number that multiplies one side of a product multiplies the product. */
static bool fold_into_next(nsk_graph *graph, nsk_node *node) {
    for (int side = 0; side < 2; side++) {
        const nsk_value *constant = nsk_node_input(graph, node, side);
        bool single = constant->data != NULL && nsk_value_count(constant) == 1 &&
                      constant->data[0] > 0.0F && isinf(node->low) && isinf(node->high);
        nsk_node *behind = single ? product_behind(graph, node->output) : NULL;
        const nsk_value *other = nsk_node_input(graph, node, 1 - side);
        if (behind != NULL &&
            nsk_value_count(other) == nsk_value_count(nsk_graph_value(graph, node->output)) &&
            other->rank == nsk_graph_value(graph, node->output)->rank) {
            behind->attributes.alpha = nsk_matmul_factor(behind) * (double)constant->data[0];
            nsk_node_note(behind, node);
            nsk_graph_bypass(graph, node, node->input[1 - side]);
            return true;
        }
    }
    return false;
}

static void fold_pair(nsk_graph *graph, nsk_node *node) {
    if (!fold_into_product(graph, node) &&
        !(node->op == NSK_OP_MUL && fold_into_next(graph, node))) {
        fold_arithmetic(graph, node);
    }
}

/* What no convolution before it takes in becomes one of its own. */
static void fold_rest(nsk_graph *graph, nsk_node *node) {
    affine a;
    bool pair = node->op == NSK_OP_ADD || node->op == NSK_OP_MUL;
    int side = pair ? affine_of(graph, node, &a) : NSK_NONE;
    if (side == NSK_NONE) {
        return;
    }
    if (nsk_node_input(graph, node, side)->rank == 4) {
        become_depthwise(graph, node, node->input[side], a.channels);
        apply_affine(graph, node, &a);
    }
    affine_clear(&a);
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

/* Zeroes around the picture become the convolution's own padding. */
static void fold_pad(nsk_graph *graph, nsk_node *node) {
    const nsk_value *filler = nsk_node_input(graph, node, 2);
    const nsk_value *in = nsk_node_input(graph, node, 0);
    bool zero = filler == NULL || (filler->data != NULL && filler->data[0] == 0.0F);
    nsk_margins m;
    nsk_error error;
    zero = zero && in->rank == 4 && node->attributes.mode == NSK_MODE_CONSTANT &&
           nsk_margins_of(graph, node, &m, &error) && m.before[0] + m.after[0] == 0 &&
           m.before[1] == 0 && m.after[1] == 0 && graph->output != node->output;
    for (int axis = 2; zero && axis < 4; axis++) {
        zero = m.before[axis] >= 0 && m.after[axis] >= 0;
    }
    for (int i = 0; i < (int)graph->nodes->len; i++) {
        const nsk_node *reader = nsk_graph_node(graph, i);
        bool reads = !reader->dead && reader->inputs > 0 && reader->input[0] == node->output;
        zero = zero && !(reads && reader->op != NSK_OP_CONV);
    }
    if (!zero) {
        return;
    }
    for (int i = 0; i < (int)graph->nodes->len; i++) {
        nsk_node *reader = nsk_graph_node(graph, i);
        if (!reader->dead && reader->inputs > 0 && reader->input[0] == node->output) {
            for (int axis = 0; axis < 2; axis++) {
                reader->attributes.window.pad_before[axis] += m.before[2 + axis];
                reader->attributes.window.pad_after[axis] += m.after[2 + axis];
            }
            nsk_node_note(reader, node);
        }
    }
    nsk_graph_bypass(graph, node, node->input[0]);
}

static bool takes_clamp(nsk_op op) {
    static const nsk_op ops[] = {NSK_OP_ADD,
                                 NSK_OP_AVERAGE_POOL,
                                 NSK_OP_CONV,
                                 NSK_OP_GEMM,
                                 NSK_OP_GLOBAL_AVERAGE_POOL,
                                 NSK_OP_MUL,
                                 NSK_OP_MAX_POOL,
                                 NSK_OP_GLOBAL_MAX_POOL,
                                 NSK_OP_SUB,
                                 NSK_OP_NORMALISE,
                                 NSK_OP_MATMUL};
    for (size_t i = 0; i < G_N_ELEMENTS(ops); i++) {
        if (ops[i] == op) {
            return true;
        }
    }
    return false;
}

static void fold_clamp(nsk_graph *graph, nsk_node *node) {
    double low;
    double high;
    nsk_clamp_of(graph, node, &low, &high);
    nsk_node *before = nsk_graph_producer(graph, node->input[0]);
    if (before == NULL || !takes_clamp(before->op) || low > high ||
        nsk_graph_readers(graph, node->input[0]) != 1) {
        return;
    }
    before->low = fmin(fmax(before->low, low), high);
    before->high = fmax(fmin(before->high, high), low);
    nsk_node_note(before, node);
    nsk_graph_bypass(graph, node, node->input[0]);
}

/* Runs a table's rewrites on every node, in order. */
static void apply(nsk_graph *graph, void (*const *rewrites)(nsk_graph *, nsk_node *)) {
    for (int i = 0; i < (int)graph->nodes->len; i++) {
        nsk_node *node = nsk_graph_node(graph, i);
        if (!node->dead && rewrites[node->op] != NULL) {
            rewrites[node->op](graph, node);
        }
    }
    nsk_graph_sort(graph);
}

bool nsk_graph_fold(nsk_graph *graph, nsk_error *error) {
    static void (*const first[NSK_OPS])(nsk_graph *, nsk_node *) = {
        [NSK_OP_ADD] = fold_pair,   [NSK_OP_BATCH_NORM] = fold_norm, [NSK_OP_CLIP] = fold_clamp,
        [NSK_OP_GEMM] = fold_gemm,  [NSK_OP_MUL] = fold_pair,        [NSK_OP_PAD] = fold_pad,
        [NSK_OP_RELU] = fold_clamp,
    };
    static void (*const rest[NSK_OPS])(nsk_graph *, nsk_node *) = {
        [NSK_OP_ADD] = fold_rest,
        [NSK_OP_MUL] = fold_rest,
    };
    if (nsk_graph_value(graph, graph->output)->producer == NSK_NONE ||
        nsk_graph_is_constant(graph, graph->output)) {
        return true; /* nothing is computed */
    }
    if (!nsk_graph_take_levels(graph, error) || !nsk_graph_rewrite(graph, error)) {
        return false;
    }
    apply(graph, first);
    nsk_graph_fuse(graph);
    if (!nsk_graph_rewrite_choices(graph, error)) {
        return false;
    }
    apply(graph, rest);
    return nsk_graph_infer(graph, nsk_evaluate, error);
}
