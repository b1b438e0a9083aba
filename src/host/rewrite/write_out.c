/* Operators without a kernel of their own, written out in others; transpositions moved until they
 * meet and cancel. */
#include <math.h>
#include <string.h>

#include "float/forward.h"
#include "graph/rearrange.h"
#include "rewrite/rewriting.h"

/* ---- moving elements ---- */

/* `count` elements along the axis from `start` on, `step` apart; the input itself for all of it. */
static int slice(nsk_rewriting *r, int value, int axis, int64_t start, int64_t step,
                 int64_t count) {
    const nsk_value *in = nsk_graph_value(r->graph, value);
    if (start == 0 && step == 1 && count == in->dims[axis]) {
        return value;
    }
    int64_t end = start + step * count;
    int64_t along = axis;
    end = end < 0 ? INT64_MIN : end; /* a negative end would count from the back */
    const int inputs[5] = {value, nsk_rewriting_list(r, 1, &start), nsk_rewriting_list(r, 1, &end),
                           nsk_rewriting_list(r, 1, &along), nsk_rewriting_list(r, 1, &step)};
    return nsk_rewriting_append(r, NSK_OP_SLICE, 5, inputs, NULL);
}

static int join(nsk_rewriting *r, int axis, int count, const int *pieces) {
    const nsk_attributes attributes = {.axis = axis};
    return count == 1 ? pieces[0]
                      : nsk_rewriting_append(r, NSK_OP_CONCAT, count, pieces, &attributes);
}

static int repeat(nsk_rewriting *r, int value, int axis, int64_t times) {
    nsk_value shape = *nsk_graph_value(r->graph, value);
    shape.dims[axis] = times;
    const int inputs[2] = {value, nsk_rewriting_list(r, shape.rank, shape.dims)};
    return nsk_rewriting_append(r, NSK_OP_EXPAND, 2, inputs, NULL);
}

/* One margin of an edge, reflecting or wrapping pad: `size` elements before or behind the axis. */
static int margin(nsk_rewriting *r, int value, int axis, int64_t size, bool behind) {
    int64_t last = nsk_graph_value(r->graph, value)->dims[axis] - 1;
    if (r->node->attributes.mode == NSK_MODE_EDGE) {
        return repeat(r, slice(r, value, axis, behind ? last : 0, 1, 1), axis, size);
    }
    if (r->node->attributes.mode == NSK_MODE_WRAP) {
        return slice(r, value, axis, behind ? 0 : last + 1 - size, 1, size);
    }
    return slice(r, value, axis, behind ? last - 1 : size, -1, size);
}

static void write_out_pad(nsk_rewriting *r) {
    nsk_margins m;
    int value = r->node->input[0];
    if (r->node->attributes.mode == NSK_MODE_CONSTANT ||
        !nsk_margins_of(r->graph, r->node, &m, r->error)) {
        return;
    }
    for (int axis = 0; axis < nsk_graph_value(r->graph, value)->rank; axis++) {
        int pieces[3];
        int count = 0;
        if (m.before[axis] > 0) {
            pieces[count++] = margin(r, value, axis, m.before[axis], false);
        }
        int64_t size = nsk_graph_value(r->graph, value)->dims[axis];
        int64_t from = m.before[axis] < 0 ? -m.before[axis] : 0;
        int64_t to = m.after[axis] < 0 ? size + m.after[axis] : size;
        pieces[count++] = slice(r, value, axis, from, 1, to - from);
        if (m.after[axis] > 0) {
            pieces[count++] = margin(r, value, axis, m.after[axis], true);
        }
        value = join(r, axis, count, pieces);
    }
    nsk_rewriting_finish(r, value);
}

static void write_out_tile(nsk_rewriting *r) {
    const nsk_value *times = nsk_node_input(r->graph, r->node, 1);
    int value = r->node->input[0];
    for (int axis = 0; axis < nsk_graph_value(r->graph, value)->rank; axis++) {
        int pieces[NSK_MOST_INPUTS];
        int64_t count = times->integers[axis];
        if (count > NSK_MOST_INPUTS) {
            r->good = nsk_unsupported(r->error, "node '%s' (Tile): repeats more than %d times",
                                      r->node->name, NSK_MOST_INPUTS);
            return;
        }
        for (int64_t i = 0; i < count; i++) {
            pieces[i] = value;
        }
        value = join(r, axis, (int)count, pieces);
    }
    nsk_rewriting_finish(r, value);
}

/* Runs of indices that are equally far apart become slices. */
static int gather_runs(nsk_rewriting *r, int value, int axis, const int64_t *at, int64_t count) {
    int pieces[NSK_MOST_INPUTS];
    int runs = 0;
    for (int64_t i = 0; i < count && r->good;) {
        int64_t length = 1;
        int64_t step = i + 1 < count ? at[i + 1] - at[i] : 1;
        while (step != 0 && i + length < count && at[i + length] - at[i + length - 1] == step) {
            length++;
        }
        if (runs == NSK_MOST_INPUTS) {
            r->good = nsk_unsupported(r->error,
                                      "node '%s' (Gather): its indices fall into more than %d runs",
                                      r->node->name, NSK_MOST_INPUTS);
            return value;
        }
        pieces[runs++] = slice(r, value, axis, at[i], length > 1 ? step : 1, length);
        i += length;
    }
    return join(r, axis, runs, pieces);
}

static void write_out_gather(nsk_rewriting *r) {
    const nsk_value *in = nsk_node_input(r->graph, r->node, 0);
    const nsk_value *indices = nsk_node_input(r->graph, r->node, 1);
    nsk_value out = *nsk_graph_value(r->graph, r->node->output);
    int axis = (int)r->node->attributes.axis;
    size_t count = nsk_value_count(indices);
    int64_t *at = g_new(int64_t, count + 1);
    for (size_t i = 0; i < count; i++) {
        at[i] = indices->integers[i] + (indices->integers[i] < 0 ? in->dims[axis] : 0);
    }
    int picked = gather_runs(r, r->node->input[0], axis, at, (int64_t)count);
    g_free(at);
    if (r->good) {
        const int inputs[2] = {picked, nsk_rewriting_list(r, out.rank, out.dims)};
        nsk_rewriting_finish(r, nsk_rewriting_append(r, NSK_OP_RESHAPE, 2, inputs, NULL));
    }
}

/* ---- arithmetic ---- */

static void write_out_div(nsk_rewriting *r) {
    const nsk_function_step reciprocal = {.fn = NSK_FN_RECIPROCAL, .a = NSK_ARGUMENT};
    int right = r->node->input[1];
    int share = nsk_graph_is_constant(r->graph, right)
                    ? nsk_rewriting_mapped(r, right, reciprocal)
                    : nsk_rewriting_function(r, right, reciprocal);
    r->node->op = NSK_OP_MUL;
    r->node->input[1] = share;
}

static void write_out_sub(nsk_rewriting *r) {
    const nsk_function_step negative = {.fn = NSK_FN_NEG, .a = NSK_ARGUMENT};
    if (nsk_graph_is_constant(r->graph, r->node->input[1])) {
        r->node->input[1] = nsk_rewriting_mapped(r, r->node->input[1], negative);
        r->node->op = NSK_OP_ADD;
    }
}

/* x below zero times its slope: relu(x) + slope x min(x, 0). */
static void write_out_prelu(nsk_rewriting *r) {
    const nsk_value *slope = nsk_node_input(r->graph, r->node, 1);
    int x = r->node->input[0];
    if (slope->data == NULL) {
        return;
    }
    if (nsk_value_count(slope) == 1) {
        const nsk_function_step leaky = {
            .fn = NSK_FN_LEAKY_RELU, .a = NSK_ARGUMENT, .alpha = (double)slope->data[0]};
        nsk_rewriting_finish(r, nsk_rewriting_function(r, x, leaky));
        return;
    }
    const nsk_function_step above = {
        .fn = NSK_FN_CLIP, .a = NSK_ARGUMENT, .alpha = 0.0, .beta = INFINITY};
    const nsk_function_step below = {
        .fn = NSK_FN_CLIP, .a = NSK_ARGUMENT, .alpha = -INFINITY, .beta = 0.0};
    int sloped =
        nsk_rewriting_pair(r, NSK_OP_MUL, nsk_rewriting_function(r, x, below), r->node->input[1]);
    nsk_rewriting_finish(
        r, nsk_rewriting_pair(r, NSK_OP_ADD, nsk_rewriting_function(r, x, above), sloped));
}

/* x / (bias + alpha / size x sum of squares of neighbours)^beta: the sum is a 1x1 convolution. */
static void write_out_lrn(nsk_rewriting *r) {
    const nsk_attributes *a = &r->node->attributes;
    int64_t channels = nsk_node_input(r->graph, r->node, 0)->dims[1];
    const int64_t dims[4] = {channels, channels, 1, 1};
    if (channels > 1024) {
        return;
    }
    float *band = g_new0(float, (gsize)(channels * channels));
    float *bias = g_new0(float, (gsize)channels);
    for (int64_t c = 0; c < channels; c++) {
        bias[c] = (float)a->bias;
        for (int64_t k = c - (a->size - 1) / 2; k <= c + a->size / 2; k++) {
            if (k >= 0 && k < channels) {
                band[c * channels + k] = (float)(a->alpha / (double)a->size);
            }
        }
    }
    const nsk_function_step square = {.fn = NSK_FN_MUL, .a = NSK_ARGUMENT, .b = NSK_ARGUMENT};
    const nsk_function_step power = {
        .fn = NSK_FN_POW, .a = NSK_ARGUMENT, .b = NSK_PARAMETER, .alpha = -a->beta};
    const nsk_attributes window = {
        .window = {.kernel = {1, 1}, .stride = {1, 1}, .dilation = {1, 1}, .groups = 1}};
    int x = r->node->input[0];
    const int inputs[3] = {nsk_rewriting_function(r, x, square),
                           nsk_rewriting_constant(r, 4, dims, band),
                           nsk_rewriting_constant(r, 1, &channels, bias)};
    int sum = nsk_rewriting_append(r, NSK_OP_CONV, 3, inputs, &window);
    nsk_rewriting_finish(
        r, nsk_rewriting_pair(r, NSK_OP_MUL, x, nsk_rewriting_function(r, sum, power)));
}

/* On a value of other than four axes; on pictures fold.c deals with it. */
static void write_out_norm(nsk_rewriting *r) {
    const nsk_value *in = nsk_node_input(r->graph, r->node, 0);
    const nsk_value *scale = nsk_node_input(r->graph, r->node, 1);
    if (in->rank == 4 || nsk_graph_producer(r->graph, r->node->input[0]) == NULL) {
        return;
    }
    for (int i = 1; i < 5; i++) {
        if (nsk_node_input(r->graph, r->node, i)->data == NULL) {
            return;
        }
    }
    int64_t channels = nsk_value_count(scale) > 0 ? (int64_t)nsk_value_count(scale) : 1;
    int64_t dims[NSK_MOST_RANK] = {channels, 1, 1, 1, 1, 1, 1, 1};
    float *gain = g_new(float, (gsize)channels);
    float *offset = g_new(float, (gsize)channels);
    for (int64_t c = 0; c < channels; c++) {
        double variance = (double)nsk_node_input(r->graph, r->node, 4)->data[c];
        double g = (double)scale->data[c] / sqrt(variance + r->node->attributes.epsilon);
        gain[c] = (float)g;
        offset[c] = (float)((double)nsk_node_input(r->graph, r->node, 2)->data[c] -
                            g * (double)nsk_node_input(r->graph, r->node, 3)->data[c]);
    }
    int rank = in->rank - 1;
    int scaled = nsk_rewriting_pair(r, NSK_OP_MUL, r->node->input[0],
                                    nsk_rewriting_constant(r, rank, dims, gain));
    nsk_rewriting_finish(r, nsk_rewriting_pair(r, NSK_OP_ADD, scaled,
                                               nsk_rewriting_constant(r, rank, dims, offset)));
}

/* What is added to the product is one number, or one a column. */
static bool adds_by_column(const nsk_rewriting *r) {
    const nsk_value *added = nsk_node_input(r->graph, r->node, 2);
    int64_t columns = nsk_graph_value(r->graph, r->node->output)->dims[1];
    size_t count = added != NULL ? nsk_value_count(added) : 1;
    return count == 1 || (added->data != NULL && count == (size_t)columns &&
                          added->dims[added->rank - 1] == columns);
}

/* The product by itself, and a sum behind it. */
static void part_from_sum(nsk_rewriting *r) {
    nsk_attributes attributes = r->node->attributes;
    const nsk_function_step times = {
        .fn = NSK_FN_MUL, .a = NSK_ARGUMENT, .b = NSK_PARAMETER, .alpha = attributes.beta};
    int added = r->node->input[2];
    if (attributes.beta != 1.0) {
        added = nsk_rewriting_function(r, added, times);
    }
    attributes.beta = 1.0;
    int product = nsk_rewriting_append(r, NSK_OP_GEMM, 2, r->node->input, &attributes);
    nsk_rewriting_finish(r, nsk_rewriting_pair(r, NSK_OP_ADD, product, added));
}

static void write_out_gemm(nsk_rewriting *r) {
    if (!adds_by_column(r)) {
        part_from_sum(r);
        return;
    }
    if (r->node->attributes.transpose_a) {
        const nsk_attributes turn = {.list = {1, 0}, .listed = 2};
        r->node->input[0] = nsk_rewriting_append(r, NSK_OP_TRANSPOSE, 1, r->node->input, &turn);
        r->node->attributes.transpose_a = false;
    }
}

/* The matrices of a value turned. */
static int matrices_turned(nsk_rewriting *r, int value) {
    nsk_attributes order = {.listed = nsk_graph_value(r->graph, value)->rank};
    for (int i = 0; i < order.listed; i++) {
        order.list[i] = i < order.listed - 2 ? i : 2 * order.listed - 3 - i;
    }
    return nsk_rewriting_append(r, NSK_OP_TRANSPOSE, 1, &value, &order);
}

/* Layers have their constants on the right: W x is (x' W')'. */
static void turn_product(nsk_rewriting *r) {
    int x = matrices_turned(r, r->node->input[1]);
    int w = matrices_turned(r, r->node->input[0]);
    int product = nsk_rewriting_pair(r, NSK_OP_MATMUL, x, w);
    nsk_rewriting_finish(r, matrices_turned(r, product));
}

/* A product with constant weights on a matrix is a Gemm. */
static void write_out_matmul(nsk_rewriting *r) {
    if (nsk_graph_is_constant(r->graph, r->node->input[0])) {
        turn_product(r);
        return;
    }
    const nsk_value *weight = nsk_node_input(r->graph, r->node, 1);
    const int64_t *size = weight->dims + weight->rank - 2;
    if (weight->data != NULL && weight->rank > 2 &&
        nsk_node_input(r->graph, r->node, 0)->rank >= weight->rank &&
        nsk_value_count(weight) == (size_t)(size[0] * size[1])) {
        r->node->input[1] = nsk_rewriting_reshape(r, r->node->input[1], 2, size);
    }
    const nsk_value *left = nsk_node_input(r->graph, r->node, 0);
    const nsk_value *right = nsk_node_input(r->graph, r->node, 1);
    if (left->rank == 2 && right->rank == 2 && right->data != NULL) {
        r->node->op = NSK_OP_GEMM;
        r->node->attributes.alpha = r->node->attributes.beta = 1.0;
    }
}

static void pass_through(nsk_rewriting *r) {
    if (r->node->input[0] != r->graph->input || r->node->output != r->graph->output) {
        nsk_graph_bypass(r->graph, r->node, r->node->input[0]);
    }
}

/* A computed number that becomes an integer loses its fraction: no layer does that. One that
 * becomes true or false is asked twice whether it is nothing. */
static void write_out_cast(nsk_rewriting *r) {
    const nsk_value *in = nsk_node_input(r->graph, r->node, 0);
    const nsk_function_step inverted = {.fn = NSK_FN_NOT, .a = NSK_ARGUMENT};
    if (r->node->attributes.truth && !in->truth) {
        nsk_rewriting_finish(
            r, nsk_rewriting_function(r, nsk_rewriting_function(r, r->node->input[0], inverted),
                                      inverted));
        return;
    }
    if (r->node->attributes.whole && !in->whole && !in->truth) {
        r->good =
            nsk_unsupported(r->error,
                            "node '%s' (Cast): it makes integers of computed numbers; take it "
                            "out of the network, or compute with Floor",
                            r->node->name);
        return;
    }
    pass_through(r);
}

/* Windows that reach beyond a counted pad count less: the pad is written out, and what the window
 * has of it counted like the picture. */
static void write_out_average_pool(nsk_rewriting *r) {
    nsk_window_attributes *w = &r->node->attributes.window;
    if (nsk_graph_value(r->graph, r->node->output)->rank == 3) {
        nsk_write_out_line(r);
        return;
    }
    const int64_t pads[8] = {0, 0, w->pad_before[0], w->pad_before[1],
                             0, 0, w->pad_after[0],  w->pad_after[1]};
    if (!w->ceil_mode || !w->count_include_pad) {
        return;
    }
    w->count_include_pad = false;
    if (pads[2] + pads[3] + pads[6] + pads[7] > 0) {
        const int inputs[2] = {r->node->input[0], nsk_rewriting_list(r, 8, pads)};
        r->node->input[0] = nsk_rewriting_append(r, NSK_OP_PAD, 2, inputs, NULL);
        for (int axis = 0; axis < 2; axis++) {
            w->pad_before[axis] = w->pad_after[axis] = 0;
        }
    }
}

/* ---- transpositions ---- */

static bool is_identity(const nsk_graph *graph, const nsk_node *node) {
    int order[NSK_MOST_RANK];
    nsk_order_of(graph, node, order);
    for (int i = 0; i < nsk_node_input(graph, node, 0)->rank; i++) {
        if (order[i] != i) {
            return false;
        }
    }
    return true;
}

/* Two in a row are one, which may be none. */
static void compose_transpose(nsk_rewriting *r) {
    const nsk_node *before = nsk_graph_producer(r->graph, r->node->input[0]);
    if (before != NULL && before->op == NSK_OP_TRANSPOSE && !before->dead) {
        int first[NSK_MOST_RANK];
        int second[NSK_MOST_RANK];
        nsk_order_of(r->graph, before, first);
        nsk_order_of(r->graph, r->node, second);
        r->node->attributes.listed = nsk_node_input(r->graph, r->node, 0)->rank;
        for (int i = 0; i < r->node->attributes.listed; i++) {
            r->node->attributes.list[i] = first[second[i]];
        }
        r->node->input[0] = before->input[0];
    }
    if (is_identity(r->graph, r->node)) {
        pass_through(r);
    }
}

/* The constant as it meets a value whose axes are those of `turn`'s input. */
static int turned_back(nsk_rewriting *r, int value, const nsk_node *turn, int rank) {
    const nsk_value *v = nsk_graph_value(r->graph, value);
    if (nsk_value_count(v) == 1) {
        return value;
    }
    int order[NSK_MOST_RANK];
    nsk_attributes back = {.listed = rank};
    int64_t dims[NSK_MOST_RANK];
    nsk_order_of(r->graph, turn, order);
    for (int i = 0; i < rank; i++) {
        back.list[order[i]] = i;
        dims[i] = i - (rank - v->rank) >= 0 ? v->dims[i - (rank - v->rank)] : 1;
    }
    float *data = g_new(float, nsk_value_count(v) + 1);
    memcpy(data, v->data, nsk_value_count(v) * sizeof *data);
    int whole = nsk_rewriting_constant(r, rank, dims, data);
    return nsk_rewriting_append(r, NSK_OP_TRANSPOSE, 1, &whole, &back);
}

/* op(turn(x)) = turn(op(x)), constants turned back: so that folding sees channels where it expects
 * them, and transpositions meet. */
static void sink_transpose(nsk_rewriting *r) {
    nsk_node *node = r->node;
    int side = nsk_graph_is_constant(r->graph, node->input[0]) ? 1 : 0;
    bool single = node->inputs == 1 || node->op == NSK_OP_CLIP;
    const nsk_node *turn = nsk_graph_producer(r->graph, node->input[side]);
    if (turn == NULL || turn->dead || turn->op != NSK_OP_TRANSPOSE ||
        (!single && !nsk_graph_is_constant(r->graph, node->input[1 - side]))) {
        return;
    }
    const nsk_value *x = nsk_node_input(r->graph, turn, 0);
    if (nsk_graph_value(r->graph, node->output)->rank != x->rank) {
        return;
    }
    if (!single) {
        node->input[1 - side] = turned_back(r, node->input[1 - side], turn, x->rank);
    }
    nsk_attributes order = turn->attributes;
    int old = node->output;
    node->input[side] = turn->input[0];
    node->output = nsk_graph_add_value(r->graph, node->name);
    for (int i = 0; i < (int)r->graph->nodes->len; i++) {
        if (nsk_graph_node(r->graph, i) == node) {
            nsk_graph_value(r->graph, node->output)->producer = i;
        }
    }
    r->good = r->good && nsk_infer_node(r->graph, node, nsk_evaluate, r->error);
    char *name = nsk_rewriting_name(r);
    int at = nsk_graph_add_node(r->graph, NSK_OP_TRANSPOSE, name, old);
    nsk_node *after = nsk_graph_node(r->graph, at);
    after->input[0] = node->output;
    after->inputs = 1;
    after->attributes = order;
    g_free(name);
}

bool nsk_graph_rewrite(nsk_graph *graph, nsk_error *error) {
    static nsk_rewriter *const written_out[NSK_OPS] = {
        [NSK_OP_BATCH_NORM] = write_out_norm,
        [NSK_OP_CAST] = write_out_cast,
        [NSK_OP_AVERAGE_POOL] = write_out_average_pool,
        [NSK_OP_CONV] = nsk_write_out_line,
        [NSK_OP_DIV] = write_out_div,
        [NSK_OP_DROPOUT] = pass_through,
        [NSK_OP_EINSUM] = nsk_write_out_einsum,
        [NSK_OP_GATHER] = write_out_gather,
        [NSK_OP_GEMM] = write_out_gemm,
        [NSK_OP_GLOBAL_AVERAGE_POOL] = nsk_write_out_line,
        [NSK_OP_GLOBAL_MAX_POOL] = nsk_write_out_line,
        [NSK_OP_IDENTITY] = pass_through,
        [NSK_OP_LRN] = write_out_lrn,
        [NSK_OP_MATMUL] = write_out_matmul,
        [NSK_OP_MAX_POOL] = nsk_write_out_line,
        [NSK_OP_PAD] = write_out_pad,
        [NSK_OP_PRELU] = write_out_prelu,
        [NSK_OP_SUB] = write_out_sub,
        [NSK_OP_RESIZE] = nsk_write_out_resize,
        [NSK_OP_TILE] = write_out_tile,
        [NSK_OP_WHERE] = nsk_write_out_decided,
    };
    static nsk_rewriter *const turned[NSK_OPS] = {
        [NSK_OP_ADD] = sink_transpose,      [NSK_OP_CLIP] = sink_transpose,
        [NSK_OP_FUNCTION] = sink_transpose, [NSK_OP_MAX] = sink_transpose,
        [NSK_OP_MIN] = sink_transpose,      [NSK_OP_MUL] = sink_transpose,
        [NSK_OP_POW] = sink_transpose,      [NSK_OP_RELU] = sink_transpose,
        [NSK_OP_SUB] = sink_transpose,      [NSK_OP_TRANSPOSE] = compose_transpose,
    };
    return nsk_rewriting_apply(graph, written_out, error) &&
           nsk_graph_find_normalisations(graph, error) &&
           nsk_rewriting_apply(graph, turned, error) && nsk_rewriting_apply(graph, turned, error);
}
