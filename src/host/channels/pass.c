/* What each operator makes of its inputs' channels. */
#include "channels/builder.h"

#include "float/kernel.h"
#include "graph/blocks.h"
#include "graph/rearrange.h"

typedef nsk_channel_builder builder;

static const nsk_value *input_of(const builder *b, int input) {
    return nsk_node_input(b->graph, b->node, input);
}

static const nsk_value *output_of(const builder *b) {
    return nsk_graph_value(b->graph, b->node->output);
}

static int id_of(const builder *b, int input) {
    return input < b->node->inputs ? b->node->input[input] : NSK_NONE;
}

/* The same places to a constant's axis: weights that go with their channels. */
static void give(builder *b, int value, int axis, const int *places, int64_t count) {
    if (value != NSK_NONE && nsk_graph_value(b->graph, value)->dims[axis] == count) {
        nsk_places_give(b, value, axis, nsk_places_copy(places, count));
    }
}

/* Channels of the first input stay, but for those along one axis, which is given back. */
static int *only_along(builder *b, int axis) {
    for (int i = 0; i < input_of(b, 0)->rank; i++) {
        if (i != axis) {
            nsk_places_stay(b, id_of(b, 0), i);
        }
    }
    return nsk_places_at(b, id_of(b, 0), axis);
}

/* An axis goes through as it is where it is as long. */
static void pass_axis(builder *b, int from, int to) {
    const int64_t count = input_of(b, 0)->dims[from];
    const int *places = nsk_places_at(b, id_of(b, 0), from);
    if (places != NULL && to != NSK_NONE && output_of(b)->dims[to] == count) {
        give(b, b->node->output, to, places, count);
    } else {
        nsk_places_stay(b, id_of(b, 0), from);
    }
}

/* ---- where channels are born ---- */

static bool is_window(const nsk_node *node) {
    return node->op == NSK_OP_CONV || node->op == NSK_OP_CONV_TRANSPOSE;
}

int nsk_channels_axis(const nsk_graph *g, const nsk_node *node) {
    return is_window(node) ? 1 : nsk_graph_value(g, node->output)->rank - 1;
}

bool nsk_channels_are_born(const nsk_graph *g, const nsk_node *node) {
    const bool product = node->op == NSK_OP_GEMM || node->op == NSK_OP_MATMUL;
    const bool window = is_window(node);
    const nsk_value *weight =
        (product || window) && node->inputs > 1 ? nsk_graph_value(g, node->input[1]) : NULL;
    return weight != NULL && weight->data != NULL && (window || weight->rank == 2) &&
           !nsk_graph_is_constant(g, node->input[0]);
}

/* New channels, `count` times those of a group; one alone is to stay. g_free. */
static int *born(builder *b, int64_t each, int64_t groups) {
    int *made = each > 1 ? nsk_channels_new(b, (int)each) : NULL;
    int *all = made != NULL ? g_new(int, each *groups) : NULL;
    for (int64_t i = 0; all != NULL && i < each * groups; i++) {
        all[i] = made[i % each];
    }
    g_free(made);
    return all;
}

/* Of groups of some channels, the same ones go from each. */
static void tie_groups(builder *b, const int *places, int64_t count, int64_t each) {
    for (int64_t i = each; places != NULL && i < count; i++) {
        nsk_channel_tie(b, places[i], places[i % each]);
    }
}

/* Outputs that are made of one input channel each go with it. */
static int *follow(const int *in, int64_t outputs, int64_t each) {
    int *out = in != NULL ? g_new(int, outputs) : NULL;
    for (int64_t o = 0; in != NULL && o < outputs; o++) {
        out[o] = in[o / each];
    }
    return out;
}

static void give_outputs(builder *b, int *out, int axis_of_weights, int axis, int64_t count) {
    const nsk_value *bias = input_of(b, 2);
    give(b, id_of(b, 1), axis_of_weights, out, count);
    if (bias != NULL) {
        give(b, id_of(b, 2), bias->rank - 1, out, count);
    }
    nsk_places_give(b, b->node->output, axis, out);
}

static void pass_conv(builder *b) {
    const int64_t *dims = input_of(b, 1)->dims;
    const int64_t groups = b->node->attributes.window.groups;
    int *in = only_along(b, 1);
    if (!nsk_channels_are_born(b->graph, b->node)) {
        nsk_places_all_stay(b, id_of(b, 0));
    } else if (groups > 1 && dims[1] == 1) {
        give_outputs(b, follow(in, dims[0], dims[0] / groups), 0, 1, dims[0]);
    } else {
        tie_groups(b, in, groups * dims[1], dims[1]);
        give(b, id_of(b, 1), 1, in, dims[1]);
        give_outputs(b, born(b, dims[0] / groups, groups), 0, 1, dims[0]);
    }
}

/* Its weights are [in][out of the group]. */
static void pass_conv_transpose(builder *b) {
    const int64_t *dims = input_of(b, 1)->dims;
    const int64_t groups = b->node->attributes.window.groups;
    int *in = only_along(b, 1);
    if (!nsk_channels_are_born(b->graph, b->node) ||
        (groups > 1 && (dims[1] > 1 || dims[0] > groups))) {
        nsk_places_all_stay(b, id_of(b, 0));
        return;
    }
    give(b, id_of(b, 1), 0, in, dims[0]);
    if (groups > 1) {
        give(b, id_of(b, 2), 0, in, dims[0]);
        pass_axis(b, 1, 1);
    } else {
        give_outputs(b, born(b, dims[1], 1), 1, 1, dims[1]);
    }
}

/* ---- products ---- */

static void pass_dense(builder *b) {
    const nsk_attributes *a = &b->node->attributes;
    const bool turned = b->node->op == NSK_OP_GEMM && a->transpose_b;
    const int last = input_of(b, 0)->rank - 1;
    const nsk_value *weight = input_of(b, 1);
    const int64_t outputs = weight->dims[turned ? 0 : 1];
    if (b->node->op == NSK_OP_GEMM && a->transpose_a) {
        nsk_places_all_stay(b, id_of(b, 0));
        return;
    }
    give(b, id_of(b, 1), turned ? 1 : 0, nsk_places_at(b, id_of(b, 0), last),
         weight->dims[turned ? 1 : 0]);
    for (int i = 0; i < last; i++) {
        pass_axis(b, i, i);
    }
    give_outputs(b, born(b, outputs, 1), turned ? 0 : 1, last, outputs);
}

/* Two axes that meet, place by place: they are tied; a constant takes over what the other has. */
static void meet(builder *b, int one, int axis, int other, int other_axis) {
    const int values[2] = {one, other};
    const int axes[2] = {axis, other_axis};
    const int64_t count = nsk_graph_value(b->graph, one)->dims[axis];
    const int *places[2] = {nsk_places_at(b, one, axis), nsk_places_at(b, other, other_axis)};
    for (int i = 0; i < 2; i++) {
        if (places[i] != NULL && nsk_graph_is_constant(b->graph, values[1 - i]) &&
            places[1 - i] == NULL) {
            give(b, values[1 - i], axes[1 - i], places[i], count);
        } else if (places[i] != NULL) {
            nsk_places_tie(b, places[i], places[1 - i], count);
        }
    }
}

/* Elements that are combined pair by pair, along one axis of the output, shorter inputs standing
 * from the last axis on. */
static void combine(builder *b, int axis) {
    const nsk_value *out = output_of(b);
    int first = NSK_NONE; /* input that has channels there */
    int first_axis = 0;
    for (int pass = 0; pass < 2; pass++) {
        for (int i = 0; i < b->node->inputs; i++) {
            const nsk_value *in = input_of(b, i);
            const int at = in != NULL ? axis - (out->rank - in->rank) : -1;
            if (at < 0 || in->dims[at] != out->dims[axis]) {
                continue;
            }
            if (pass == 1 && first != NSK_NONE && i != first) {
                meet(b, id_of(b, first), first_axis, id_of(b, i), at);
            } else if (pass == 0 && first == NSK_NONE && nsk_places_at(b, id_of(b, i), at)) {
                first = i;
                first_axis = at;
            }
        }
    }
    if (first != NSK_NONE) {
        give(b, b->node->output, axis, nsk_places_at(b, id_of(b, first), first_axis),
             out->dims[axis]);
    }
}

static void pass_pair(builder *b) {
    for (int i = 0; b->node->attributes.meets_at_axis && i < b->node->inputs; i++) {
        nsk_places_all_stay(b, id_of(b, i));
    }
    for (int axis = 0; axis < output_of(b)->rank; axis++) {
        combine(b, axis);
    }
}

/* Two computed matrices, or many. */
static void pass_matmul(builder *b) {
    const nsk_value *left = input_of(b, 0);
    const nsk_value *right = input_of(b, 1);
    const int last = output_of(b)->rank - 1;
    if (nsk_channels_are_born(b->graph, b->node)) {
        pass_dense(b);
        return;
    }
    if (left->rank < 2 || right->rank < 2) {
        nsk_places_all_stay(b, id_of(b, 0));
        nsk_places_all_stay(b, id_of(b, 1));
        return;
    }
    meet(b, id_of(b, 0), left->rank - 1, id_of(b, 1), right->rank - 2);
    pass_axis(b, left->rank - 2, last - 1);
    give(b, b->node->output, last, nsk_places_at(b, id_of(b, 1), right->rank - 1),
         right->dims[right->rank - 1]);
    for (int axis = 0; axis < last - 1; axis++) {
        combine(b, axis);
    }
}

/* ---- those that keep channels apart ---- */

static void pass_all(builder *b) {
    for (int axis = 0; axis < input_of(b, 0)->rank; axis++) {
        pass_axis(b, axis, axis);
    }
}

static void pass_softmax(builder *b) {
    const nsk_attributes *a = &b->node->attributes;
    const int rank = input_of(b, 0)->rank;
    const int first = (int)(a->axis < 0 ? a->axis + rank : a->axis);
    for (int axis = first; axis < (a->flatten_from_axis ? rank : first + 1); axis++) {
        nsk_places_stay(b, id_of(b, 0), axis);
    }
    pass_all(b);
}

static void pass_norm(builder *b) {
    pass_all(b);
    for (int i = 1; i < b->node->inputs; i++) {
        give(b, id_of(b, i), 0, nsk_places_at(b, id_of(b, 0), 1), input_of(b, 0)->dims[1]);
    }
}

/* The axis of a constant that is as long as all of it. */
static int only_axis(const nsk_value *v) {
    for (int axis = 0; axis < v->rank; axis++) {
        if ((size_t)v->dims[axis] == nsk_value_count(v)) {
            return axis;
        }
    }
    return NSK_NONE;
}

/* Gains and offsets go with the channels that they meet; where they meet several at once, or
 * channels are in groups, all stay. */
static void pass_gains(builder *b, int axis, int input) {
    const nsk_value *v = input_of(b, 0);
    const nsk_value *gains = input_of(b, input);
    const int at = only_axis(gains);
    int64_t inner = 1;
    for (int i = axis + 1; i < v->rank; i++) {
        inner *= v->dims[i];
    }
    bool fits = at != NSK_NONE && gains->dims[at] == v->dims[axis];
    for (size_t i = 0; fits && i < nsk_value_count(v); i++) {
        fits = (int64_t)nsk_gain_place(b->graph, b->node, gains, i) ==
               (int64_t)i / inner % v->dims[axis];
    }
    if (fits) {
        give(b, id_of(b, input), at, nsk_places_at(b, id_of(b, 0), axis), v->dims[axis]);
    } else if (nsk_value_count(gains) > 1) {
        nsk_places_stay(b, id_of(b, 0), axis);
    }
}

static void pass_normalise(builder *b) {
    const nsk_attributes *a = &b->node->attributes;
    for (int axis = 0; axis < input_of(b, 0)->rank; axis++) {
        const bool within = axis >= (int)a->list[0] && axis < (int)a->list[1];
        for (int i = 1; nsk_places_at(b, id_of(b, 0), axis) != NULL && i < b->node->inputs; i++) {
            if (input_of(b, i) != NULL) {
                pass_gains(b, axis, i);
            }
        }
        if (within && a->size > 1) {
            nsk_places_stay(b, id_of(b, 0), axis);
        }
    }
    pass_all(b);
}

static void pass_reduce(builder *b) {
    bool marked[NSK_MOST_RANK] = {false};
    nsk_error error;
    int to = 0;
    nsk_axes_of(b->graph, b->node, b->node->attributes.none_means_all, marked, &error);
    for (int axis = 0; axis < input_of(b, 0)->rank; axis++) {
        pass_axis(b, axis, marked[axis] ? NSK_NONE : to);
        to += !marked[axis] || b->node->attributes.keep_axes;
    }
}

/* ---- those that move elements ---- */

static void pass_reshape(builder *b) {
    nsk_places_move(b, id_of(b, 0), b->node->output, NULL);
}

static void pass_movement(builder *b) {
    int32_t *sources = g_new(int32_t, nsk_value_count(output_of(b)));
    nsk_sources_of(b->graph, b->node, sources);
    nsk_places_move(b, id_of(b, 0), b->node->output, sources);
    g_free(sources);
}

/* Margins are of no channel, and what they take away may be of any. */
static void pass_pad(builder *b) {
    nsk_error error;
    nsk_margins m;
    nsk_margins_of(b->graph, b->node, &m, &error);
    for (int axis = 0; axis < input_of(b, 0)->rank; axis++) {
        if (m.before[axis] != 0 || m.after[axis] != 0) {
            nsk_places_stay(b, id_of(b, 0), axis);
        }
    }
    pass_movement(b);
}

/* Every other element of an axis with channels is no number of them that stays right. */
static void pass_cut(builder *b) {
    nsk_error error;
    nsk_cut cut;
    if (nsk_cut_of(b->graph, b->node, &cut, &error)) {
        for (int axis = 0; axis < input_of(b, 0)->rank; axis++) {
            if (cut.step[axis] != 1) {
                nsk_places_stay(b, id_of(b, 0), axis);
            }
        }
    }
    pass_movement(b);
}

/* Along its own axis parts stand behind each other; along others they meet. */
static void pass_concat(builder *b) {
    const nsk_value *out = output_of(b);
    const int64_t along = b->node->attributes.axis;
    const int axis = (int)(along < 0 ? along + out->rank : along);
    bool any = false;
    for (int i = 0; i < out->rank; i++) {
        if (i != axis) {
            combine(b, i);
        }
    }
    int *all = g_new0(int, out->dims[axis]); /* NSK_STAYS */
    int64_t at = 0;
    for (int i = 0; i < b->node->inputs; i++) {
        const int64_t count = input_of(b, i)->dims[axis];
        const int *places = nsk_places_at(b, id_of(b, i), axis);
        for (int64_t p = 0; places != NULL && p < count; p++) {
            all[at + p] = places[p];
        }
        any = any || places != NULL;
        at += count;
    }
    nsk_places_give(b, b->node->output, axis, any ? all : NULL);
    g_free(any ? NULL : all);
}

typedef void rule(builder *b);

static rule *const rules[NSK_OPS] = {
    [NSK_OP_ADD] = pass_pair,
    [NSK_OP_AVERAGE_POOL] = pass_all,
    [NSK_OP_BATCH_NORM] = pass_norm,
    [NSK_OP_CLIP] = pass_all,
    [NSK_OP_CONCAT] = pass_concat,
    [NSK_OP_CONV] = pass_conv,
    [NSK_OP_CONV_TRANSPOSE] = pass_conv_transpose,
    [NSK_OP_DEPTH_TO_SPACE] = pass_movement,
    [NSK_OP_EXPAND] = pass_movement,
    [NSK_OP_FLATTEN] = pass_reshape,
    [NSK_OP_FUNCTION] = pass_all,
    [NSK_OP_GEMM] = pass_dense,
    [NSK_OP_GLOBAL_AVERAGE_POOL] = pass_all,
    [NSK_OP_GLOBAL_MAX_POOL] = pass_all,
    [NSK_OP_LOG_SOFTMAX] = pass_softmax,
    [NSK_OP_MATMUL] = pass_matmul,
    [NSK_OP_MAX] = pass_pair,
    [NSK_OP_MAX_POOL] = pass_all,
    [NSK_OP_MIN] = pass_pair,
    [NSK_OP_MUL] = pass_pair,
    [NSK_OP_NORMALISE] = pass_normalise,
    [NSK_OP_PAD] = pass_pad,
    [NSK_OP_POW] = pass_pair,
    [NSK_OP_PRELU] = pass_pair,
    [NSK_OP_REDUCE_MAX] = pass_reduce,
    [NSK_OP_REDUCE_MEAN] = pass_reduce,
    [NSK_OP_REDUCE_MIN] = pass_reduce,
    [NSK_OP_REDUCE_SUM] = pass_reduce,
    [NSK_OP_RELU] = pass_all,
    [NSK_OP_RESHAPE] = pass_reshape,
    [NSK_OP_RESIZE] = pass_all,
    [NSK_OP_SLICE] = pass_cut,
    [NSK_OP_SOFTMAX] = pass_softmax,
    [NSK_OP_SPACE_TO_DEPTH] = pass_movement,
    [NSK_OP_SPLIT] = pass_cut,
    [NSK_OP_SQUEEZE] = pass_reshape,
    [NSK_OP_SUB] = pass_pair,
    [NSK_OP_TILE] = pass_movement,
    [NSK_OP_TRANSPOSE] = pass_movement,
    [NSK_OP_UNSQUEEZE] = pass_reshape,
};

void nsk_channels_pass(nsk_channel_builder *b) {
    rule *pass = rules[b->node->op];
    if (pass != NULL && (b->node->op != NSK_OP_GEMM || nsk_channels_are_born(b->graph, b->node))) {
        pass(b);
        return;
    }
    for (int i = 0; i < b->node->inputs; i++) {
        nsk_places_all_stay(b, id_of(b, i));
    }
}
