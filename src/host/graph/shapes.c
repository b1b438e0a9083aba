/* Shape inference, one function an operator. */
#include <math.h>
#include <stdio.h>
#include <string.h>

#include "graph/infer.h"
#include "graph/rearrange.h"

/* ---- windows ---- */

/* Output size along an axis, and the pads that auto_pad means. */
static int64_t slide(nsk_window_attributes *w, int axis, int64_t in) {
    int64_t reach = (w->kernel[axis] - 1) * w->dilation[axis] + 1;
    int64_t stride = w->stride[axis];
    if (w->auto_pad == NSK_AUTO_PAD_SAME_UPPER || w->auto_pad == NSK_AUTO_PAD_SAME_LOWER) {
        int64_t out = (in + stride - 1) / stride;
        int64_t pad = (out - 1) * stride + reach - in;
        pad = pad > 0 ? pad : 0;
        w->pad_before[axis] = w->auto_pad == NSK_AUTO_PAD_SAME_UPPER ? pad / 2 : pad - pad / 2;
        w->pad_after[axis] = pad - w->pad_before[axis];
        return out;
    }
    if (w->auto_pad == NSK_AUTO_PAD_VALID) {
        w->pad_before[axis] = w->pad_after[axis] = 0;
    }
    int64_t room = in + w->pad_before[axis] + w->pad_after[axis] - reach;
    if (room < 0) {
        return 0;
    }
    int64_t out = (room + (w->ceil_mode ? stride - 1 : 0)) / stride + 1;
    /* with ceil_mode, a last window that would start behind the picture is left out */
    return w->ceil_mode && (out - 1) * stride >= in + w->pad_before[axis] ? out - 1 : out;
}

static bool window_numbers_are_good(const nsk_window_attributes *w) {
    const int64_t MOST = 4096;
    for (int axis = 0; axis < 2; axis++) {
        if (w->kernel[axis] < 1 || w->kernel[axis] > MOST || w->stride[axis] < 1 ||
            w->stride[axis] > MOST || w->dilation[axis] < 1 || w->dilation[axis] > MOST ||
            w->pad_before[axis] < 0 || w->pad_before[axis] > MOST || w->pad_after[axis] < 0 ||
            w->pad_after[axis] > MOST) {
            return false;
        }
    }
    return true;
}

static bool window_shape(const nsk_scope *s, int64_t channels) {
    const nsk_value *in = nsk_node_input(s->graph, s->node, 0);
    nsk_window_attributes *w = &s->node->attributes.window;
    if (!window_numbers_are_good(w)) {
        return nsk_complain(s, "a kernel, stride, dilation or pad is negative, zero or over 4096");
    }
    int64_t dims[4] = {in->dims[0], channels, slide(w, 0, nsk_value_rows(in)),
                       slide(w, 1, nsk_value_columns(in))};
    if (dims[2] < 1 || dims[3] < 1) {
        return nsk_complain_shape(s, 0,
                                  "smaller than the kernel; give a larger input size or pads");
    }
    w->auto_pad = NSK_AUTO_PAD_GIVEN;
    dims[2] = in->rank == 3 ? dims[3] : dims[2];
    return nsk_give(s, in->rank, dims);
}

/* A picture of four axes, or a line of three; its window of as many but two. */
static bool check_picture(const nsk_scope *s) {
    const nsk_value *in = nsk_node_input(s->graph, s->node, 0);
    nsk_window_attributes *w = &s->node->attributes.window;
    if (in->rank != 4 && in->rank != 3) {
        return nsk_complain_unsupported(s, "its input is no picture of four axes, nor a line of "
                                           "three");
    }
    if (w->axes != 0 && w->axes != in->rank - 2) {
        return nsk_complain_shape(s, 0, "its window has another number of axes");
    }
    w->kernel[0] = in->rank == 3 ? 1 : w->kernel[0];
    return true;
}

bool nsk_shape_conv(const nsk_scope *s) {
    const nsk_value *in = nsk_node_input(s->graph, s->node, 0);
    const nsk_value *weight = nsk_node_input(s->graph, s->node, 1);
    const nsk_value *bias = nsk_node_input(s->graph, s->node, 2);
    nsk_window_attributes *w = &s->node->attributes.window;
    if (!check_picture(s)) {
        return false;
    }
    if (weight->rank != in->rank) {
        return nsk_complain_shape(s, 1, "weights of as many axes as the input's are needed");
    }
    const int64_t size[2] = {nsk_value_rows(weight), nsk_value_columns(weight)};
    for (int axis = 0; axis < 2; axis++) {
        if (w->kernel[axis] != 0 && w->kernel[axis] != size[axis]) {
            return nsk_complain_shape(s, 1, "this contradicts kernel_shape");
        }
        w->kernel[axis] = size[axis];
    }
    if (w->groups < 1 || w->groups > in->dims[1]) {
        return nsk_complain_shape(s, 0,
                                  "as many groups as channels are the most, and one the least");
    }
    if (in->dims[1] % w->groups != 0 || weight->dims[0] % w->groups != 0 ||
        weight->dims[1] != in->dims[1] / w->groups) {
        char wanted[120];
        snprintf(wanted, sizeof wanted,
                 "its weights expect %" G_GINT64_FORMAT " channels in %" G_GINT64_FORMAT
                 " groups; check the layer before",
                 weight->dims[1] * w->groups, w->groups);
        return nsk_complain_shape(s, 0, wanted);
    }
    if (bias != NULL && (bias->rank != 1 || bias->dims[0] != weight->dims[0])) {
        return nsk_complain_shape(s, 2, "one bias an output channel is needed");
    }
    return window_shape(s, weight->dims[0]);
}

/* Output size along an axis, and the pads where the size is given or auto_pad asks for one. */
static int64_t spread(nsk_attributes *a, int axis, int64_t in) {
    nsk_window_attributes *w = &a->window;
    int64_t reach = (w->kernel[axis] - 1) * w->dilation[axis] + 1;
    int64_t full = (in - 1) * w->stride[axis] + reach + a->extra[axis];
    bool same = w->auto_pad == NSK_AUTO_PAD_SAME_UPPER || w->auto_pad == NSK_AUTO_PAD_SAME_LOWER;
    if (a->listed == 0 && !same) {
        return full - w->pad_before[axis] - w->pad_after[axis];
    }
    int64_t out = a->listed > 0 ? a->list[axis] : in * w->stride[axis];
    int64_t pad = full > out ? full - out : 0;
    a->extra[axis] += out > full ? out - full : 0;
    w->pad_before[axis] = w->auto_pad == NSK_AUTO_PAD_SAME_UPPER ? pad / 2 : pad - pad / 2;
    w->pad_after[axis] = pad - w->pad_before[axis];
    return out;
}

bool nsk_shape_conv_transpose(const nsk_scope *s) {
    const nsk_value *in = nsk_node_input(s->graph, s->node, 0);
    const nsk_value *weight = nsk_node_input(s->graph, s->node, 1);
    const nsk_value *bias = nsk_node_input(s->graph, s->node, 2);
    nsk_window_attributes *w = &s->node->attributes.window;
    if (in->rank != 4 || weight->rank != 4 || w->axes == 1) {
        return nsk_complain_unsupported(s, "its input is no picture of four axes");
    }
    w->kernel[0] = weight->dims[2];
    w->kernel[1] = weight->dims[3];
    if (!window_numbers_are_good(w) || w->groups < 1 || weight->dims[0] != in->dims[1] ||
        in->dims[1] % w->groups != 0) {
        return nsk_complain_shape(s, 1, "this does not fit its input, or a number is absurd");
    }
    int64_t channels = weight->dims[1] * w->groups;
    if (bias != NULL && (bias->rank != 1 || bias->dims[0] != channels)) {
        return nsk_complain_shape(s, 2, "one bias an output channel is needed");
    }
    const int64_t dims[4] = {in->dims[0], channels, spread(&s->node->attributes, 0, in->dims[2]),
                             spread(&s->node->attributes, 1, in->dims[3])};
    w->auto_pad = NSK_AUTO_PAD_GIVEN;
    s->node->attributes.listed = 0;
    return nsk_give(s, 4, dims);
}

bool nsk_shape_pool(const nsk_scope *s) {
    const nsk_value *in = nsk_node_input(s->graph, s->node, 0);
    return check_picture(s) && window_shape(s, in->dims[1]);
}

bool nsk_shape_global_pool(const nsk_scope *s) {
    const nsk_value *in = nsk_node_input(s->graph, s->node, 0);
    if (!check_picture(s)) {
        return false;
    }
    nsk_window_attributes *w = &s->node->attributes.window;
    *w = (nsk_window_attributes){.kernel = {nsk_value_rows(in), nsk_value_columns(in)},
                                 .stride = {1, 1},
                                 .dilation = {1, 1},
                                 .groups = 1};
    const int64_t dims[4] = {in->dims[0], in->dims[1], 1, 1};
    return nsk_give(s, in->rank, dims);
}

/* ---- the rest ---- */

/* Gives a constant second input the axes of one behind it, so that it meets the first from the last
 * axis on, as newer operator sets have it. */
static bool align_second(const nsk_scope *s) {
    const nsk_value *a = nsk_node_input(s->graph, s->node, 0);
    const nsk_value *b = nsk_node_input(s->graph, s->node, 1);
    nsk_attributes *at = &s->node->attributes;
    int axis = nsk_axis(at->axis, a->rank);
    if (axis != NSK_NONE && axis + b->rank == a->rank) {
        return true;
    }
    if (axis == NSK_NONE || axis + b->rank > a->rank || b->data == NULL || b->whole) {
        return nsk_complain(s, "its axis attribute needs a constant second input that fits there");
    }
    int64_t dims[NSK_MOST_RANK];
    for (int i = axis; i < a->rank; i++) {
        dims[i - axis] = i - axis < b->rank ? b->dims[i - axis] : 1;
    }
    float *data = g_memdup2(b->data, (nsk_value_count(b) + 1) * sizeof *data);
    char *name = g_strdup_printf("%s:second", s->node->name);
    s->node->input[1] = nsk_graph_add_constant(s->graph, name, a->rank - axis, dims, data);
    at->meets_at_axis = false;
    g_free(name);
    return true;
}

/* Spreads the shape of that input over `rank` axes of `dims`, which may grow. */
static bool meet(const nsk_scope *s, int input, int *rank, int64_t *dims) {
    const nsk_value *v = nsk_node_input(s->graph, s->node, input);
    int64_t met[NSK_MOST_RANK] = {0};
    int wide = v->rank > *rank ? v->rank : *rank;
    for (int i = 0; i < wide; i++) {
        int64_t da = i - (wide - *rank) >= 0 ? dims[i - (wide - *rank)] : 1;
        int64_t db = i - (wide - v->rank) >= 0 ? v->dims[i - (wide - v->rank)] : 1;
        if (da != db && da != 1 && db != 1) {
            char shape[160];
            char wanted[240];
            snprintf(wanted, sizeof wanted, "it cannot meet the other input's %s",
                     nsk_value_text(v, shape, sizeof shape));
            return nsk_complain_shape(s, 0, wanted);
        }
        met[i] = da > db ? da : db;
    }
    memcpy(dims, met, sizeof met);
    *rank = wide;
    return true;
}

static bool spread_over(const nsk_scope *s, int inputs) {
    int64_t dims[NSK_MOST_RANK] = {0};
    int rank = 0;
    for (int i = 0; i < inputs; i++) {
        if (!meet(s, i, &rank, dims)) {
            return false;
        }
    }
    return nsk_give(s, rank, dims);
}

bool nsk_shape_broadcast(const nsk_scope *s) {
    if (s->node->attributes.meets_at_axis && !align_second(s)) {
        return false;
    }
    const nsk_value *a = nsk_node_input(s->graph, s->node, 0);
    const nsk_value *b = nsk_node_input(s->graph, s->node, 1);
    if (a->whole != b->whole && s->node->op != NSK_OP_POW) {
        return nsk_complain(s, "one input is of integers, the other is not; add a Cast before");
    }
    return spread_over(s, 2);
}

/* Comparisons, and what joins their results: integers where all is constant, numbers 0 and 1 where
 * something is computed. */
bool nsk_shape_truth(const nsk_scope *s) {
    nsk_value *out = nsk_graph_value(s->graph, s->node->output);
    out->whole = nsk_is_of_constants(s->graph, s->node);
    out->truth = true;
    return spread_over(s, 2);
}

bool nsk_shape_where(const nsk_scope *s) {
    const nsk_value *then = nsk_node_input(s->graph, s->node, 1);
    const nsk_value *otherwise = nsk_node_input(s->graph, s->node, 2);
    nsk_value *out = nsk_graph_value(s->graph, s->node->output);
    if (then->whole != otherwise->whole && !then->truth && !otherwise->truth) {
        return nsk_complain(s, "one input is of integers, the other is not; add a Cast before");
    }
    out->whole = then->whole && otherwise->whole;
    out->truth = then->truth && otherwise->truth;
    return spread_over(s, 3);
}

bool nsk_shape_norm(const nsk_scope *s) {
    const nsk_value *in = nsk_node_input(s->graph, s->node, 0);
    if (in->rank < 2) {
        return nsk_complain_shape(s, 0, "two axes or more are needed");
    }
    for (int i = 1; i < 5; i++) {
        const nsk_value *each = nsk_node_input(s->graph, s->node, i);
        if (each == NULL || each->rank != 1 || each->dims[0] != in->dims[1]) {
            return nsk_complain_shape(s, 0, "its statistics are for another number of channels");
        }
    }
    return nsk_give_input(s);
}

bool nsk_shape_clip(const nsk_scope *s) {
    for (int i = 1; i < s->node->inputs; i++) {
        const nsk_value *bound = nsk_node_input(s->graph, s->node, i);
        bool constant = bound != NULL && nsk_graph_is_constant(s->graph, s->node->input[i]);
        if (bound != NULL && (!constant || nsk_value_count(bound) != 1)) {
            return nsk_complain_shape(s, i, "a bound must be one constant number");
        }
    }
    const nsk_value *low = nsk_node_input(s->graph, s->node, 1);
    const nsk_value *high = nsk_node_input(s->graph, s->node, 2);
    if (low != NULL && high != NULL && low->data[0] > high->data[0]) {
        return nsk_complain(s, "its lower bound is above its upper one");
    }
    return nsk_give_input(s);
}

bool nsk_shape_gemm(const nsk_scope *s) {
    const nsk_value *a = nsk_node_input(s->graph, s->node, 0);
    const nsk_value *b = nsk_node_input(s->graph, s->node, 1);
    const nsk_value *c = nsk_node_input(s->graph, s->node, 2);
    const nsk_attributes *at = &s->node->attributes;
    if (a->rank != 2 || b->rank != 2) {
        return nsk_complain_shape(s, a->rank != 2 ? 0 : 1,
                                  "two axes are needed; add a Flatten before");
    }
    const int64_t dims[2] = {a->dims[at->transpose_a ? 1 : 0], b->dims[at->transpose_b ? 0 : 1]};
    if (a->dims[at->transpose_a ? 0 : 1] != b->dims[at->transpose_b ? 1 : 0]) {
        char wanted[120];
        snprintf(wanted, sizeof wanted,
                 "its weights expect %" G_GINT64_FORMAT
                 " inputs; check the input size and the layer before",
                 b->dims[at->transpose_b ? 1 : 0]);
        return nsk_complain_shape(s, 0, wanted);
    }
    for (int i = 0; c != NULL && i < c->rank; i++) {
        int64_t want = dims[2 - c->rank + i < 0 ? 0 : 2 - c->rank + i];
        if (c->rank > 2 || (c->dims[i] != 1 && c->dims[i] != want)) {
            return nsk_complain_shape(s, 2, "it cannot be added to the product");
        }
    }
    return nsk_give(s, 2, dims);
}

/* Any number of leading axes, which are broadcast; a list is a row on the left and a column on the
 * right. */
bool nsk_shape_matmul(const nsk_scope *s) {
    const nsk_value *a = nsk_node_input(s->graph, s->node, 0);
    const nsk_value *b = nsk_node_input(s->graph, s->node, 1);
    if (a->rank < 2 || b->rank < 2) {
        return nsk_complain_unsupported(s, "two or more axes are needed on both sides");
    }
    if (a->dims[a->rank - 1] != b->dims[b->rank - 2]) {
        char wanted[120];
        snprintf(wanted, sizeof wanted,
                 "its weights expect %" G_GINT64_FORMAT
                 " inputs; check the input size and the layer before",
                 b->dims[b->rank - 2]);
        return nsk_complain_shape(s, 0, wanted);
    }
    int rank = a->rank > b->rank ? a->rank : b->rank;
    int64_t dims[NSK_MOST_RANK];
    for (int i = 0; i < rank - 2; i++) {
        int64_t da = i >= rank - a->rank ? a->dims[i - (rank - a->rank)] : 1;
        int64_t db = i >= rank - b->rank ? b->dims[i - (rank - b->rank)] : 1;
        if (da != db && da != 1 && db != 1) {
            return nsk_complain_shape(s, 0, "its leading axes do not fit the other input's");
        }
        dims[i] = da > db ? da : db;
    }
    dims[rank - 2] = a->dims[a->rank - 2];
    dims[rank - 1] = b->dims[b->rank - 1];
    return nsk_give(s, rank, dims);
}

/* The slope is spread over the input, never the other way round. */
bool nsk_shape_prelu(const nsk_scope *s) {
    const nsk_value *in = nsk_node_input(s->graph, s->node, 0);
    if (s->node->attributes.meets_at_axis &&
        nsk_value_count(nsk_node_input(s->graph, s->node, 1)) > 1 && !align_second(s)) {
        return false;
    }
    const nsk_value *slope = nsk_node_input(s->graph, s->node, 1);
    for (int i = 0; i < slope->rank; i++) {
        int axis = i + in->rank - slope->rank;
        if (axis < 0 || (slope->dims[i] != 1 && slope->dims[i] != in->dims[axis])) {
            return nsk_complain_shape(s, 1, "it cannot be spread over the input");
        }
    }
    return nsk_give_input(s);
}

bool nsk_shape_reduce(const nsk_scope *s) {
    const nsk_value *in = nsk_node_input(s->graph, s->node, 0);
    const nsk_attributes *a = &s->node->attributes;
    bool marked[NSK_MOST_RANK];
    int64_t dims[NSK_MOST_RANK];
    int rank = 0;
    if (!nsk_axes_of(s->graph, s->node, a->none_means_all, marked, s->error)) {
        return false;
    }
    for (int i = 0; i < in->rank; i++) {
        if (!marked[i] || a->keep_axes) {
            dims[rank++] = marked[i] ? 1 : in->dims[i];
        }
    }
    return nsk_give(s, rank, dims);
}

bool nsk_shape_lrn(const nsk_scope *s) {
    const nsk_value *in = nsk_node_input(s->graph, s->node, 0);
    if (in->rank != 4 || s->node->attributes.size < 1) {
        return nsk_complain_unsupported(s, "its input is no picture of four axes");
    }
    return nsk_give_input(s);
}

bool nsk_shape_softmax(const nsk_scope *s) {
    const nsk_value *in = nsk_node_input(s->graph, s->node, 0);
    int64_t axis = s->node->attributes.axis;
    axis += axis < 0 ? in->rank : 0;
    if (axis < 0 || axis >= in->rank) {
        return nsk_complain_shape(s, 0, "its axis attribute lies outside of that");
    }
    s->node->attributes.axis = axis;
    return nsk_give_input(s);
}

/* Computed levels are of 8 or 16 bits. Constant ones may be of 4, too; those of a bias are of 32,
 * the zero point being 0. */
static bool levels_are_read(const nsk_value *in, const nsk_value *zero) {
    int bits = in->bits != 0 ? in->bits : zero != NULL && zero->bits != 0 ? zero->bits : 8;
    bool good = bits == 8 || bits == 16 || (in->data != NULL && (bits == 4 || bits == 32));
    size_t count = zero != NULL ? nsk_value_count(zero) : 0;
    double least = zero == NULL || zero->is_unsigned ? 0.0 : -ldexp(1.0, bits - 1);
    double most = bits == 32 ? 0.0 : least + ldexp(1.0, bits) - 1.0;
    for (size_t i = 0; i < count && good; i++) {
        double level = (double)zero->data[i];
        good = zero->whole && (zero->bits == 0 || zero->bits == bits) &&
               level >= (bits == 32 ? 0.0 : least) && level <= most;
    }
    return good;
}

/* A scale for each block along the axis, all blocks but the last of block_size elements. */
static bool scales_are_blocks(const nsk_scope *s, const nsk_value *scale, int axis) {
    const nsk_value *in = nsk_node_input(s->graph, s->node, 0);
    int64_t block = s->node->attributes.size;
    bool good = block > 0 && axis != NSK_NONE && scale->rank == in->rank;
    for (int i = 0; i < in->rank && good; i++) {
        good = scale->dims[i] == (i == axis ? (in->dims[i] + block - 1) / block : in->dims[i]);
    }
    return good;
}

static bool scales_are_positive(const nsk_value *scale) {
    bool good = true;
    for (size_t i = 0; i < nsk_value_count(scale); i++) {
        good = good && scale->data[i] > 0.0F && isfinite(scale->data[i]);
    }
    return good;
}

/* Scale and zero point: one number, or one for each place along the axis. */
bool nsk_shape_levels(const nsk_scope *s) {
    const nsk_value *in = nsk_node_input(s->graph, s->node, 0);
    const nsk_value *scale = nsk_node_input(s->graph, s->node, 1);
    const nsk_value *zero = nsk_node_input(s->graph, s->node, 2);
    int64_t count = (int64_t)nsk_value_count(scale);
    int axis = nsk_axis(s->node->attributes.axis, in->rank);
    if (scale->data == NULL || (zero != NULL && zero->data == NULL)) {
        return nsk_complain_unsupported(s, "its scale and zero point must be constants");
    }
    bool blocks = s->node->attributes.size > 0;
    if (blocks ? !scales_are_blocks(s, scale, axis)
               : count != 1 && (axis == NSK_NONE || scale->rank != 1 || count != in->dims[axis])) {
        return nsk_complain_shape(s, 1,
                                  "one scale, one for each place along its axis, or one for each "
                                  "block of block_size is needed");
    }
    if (zero != NULL && (int64_t)nsk_value_count(zero) != count) {
        return nsk_complain_shape(s, 2, "as many zero points as scales are needed");
    }
    if (!scales_are_positive(scale)) {
        return nsk_complain_shape(s, 1, "a scale is zero, negative or not finite");
    }
    if (!levels_are_read(in, zero)) {
        return nsk_complain_shape(s, zero != NULL ? 2 : 0,
                                  "levels and zero point must be of 8 bits, those of constants of "
                                  "4, 8 or 16; or 32, the zero point being 0");
    }
    s->node->attributes.axis = axis;
    nsk_graph_value(s->graph, s->node->output)->whole = s->node->op == NSK_OP_QUANTIZE;
    return nsk_give_input(s);
}

static nsk_shape_function *const shapes[NSK_OPS] = {
#define NSK_OP_ROW(NAME, onnx, least, most, computed, reader, shape, kernel, lower)                \
    nsk_shape_##shape,
#include "graph/ops.def"
};

bool nsk_is_of_constants(const nsk_graph *graph, const nsk_node *node) {
    for (int i = 0; i < node->inputs; i++) {
        if (node->input[i] != NSK_NONE && !nsk_graph_is_constant(graph, node->input[i])) {
            return false;
        }
    }
    return true;
}

/* Adds to an error where each shape that the node met came from. */
static bool explain(const nsk_graph *graph, const nsk_node *node, nsk_error *error) {
    GString *text = g_string_new(" (it meets");
    for (int i = 0; i < node->inputs; i++) {
        const nsk_value *in = nsk_node_input(graph, node, i);
        char shape[160];
        if (in == NULL) {
            continue;
        }
        const nsk_node *maker = nsk_graph_producer(graph, node->input[i]);
        g_string_append_printf(text, "%s %s %s '%s'", i > 0 ? "," : "",
                               nsk_value_text(in, shape, sizeof shape),
                               maker != NULL      ? "out of"
                               : in->data != NULL ? "of the constant"
                                                  : "of the input",
                               maker != NULL ? maker->name : in->name);
    }
    g_strlcat(error->text, text->str, sizeof error->text);
    g_strlcat(error->text, ")", sizeof error->text);
    g_string_free(text, TRUE);
    return false;
}

bool nsk_op_keeps_elements(nsk_op op) {
    static const bool keeps[NSK_OPS] = {
        [NSK_OP_CAST] = true,     [NSK_OP_DROPOUT] = true, [NSK_OP_EXPAND] = true,
        [NSK_OP_FLATTEN] = true,  [NSK_OP_GATHER] = true,  [NSK_OP_IDENTITY] = true,
        [NSK_OP_RESHAPE] = true,  [NSK_OP_SLICE] = true,   [NSK_OP_SPLIT] = true,
        [NSK_OP_SQUEEZE] = true,  [NSK_OP_TILE] = true,    [NSK_OP_TRANSPOSE] = true,
        [NSK_OP_UNSQUEEZE] = true};
    return keeps[op];
}

bool nsk_node_answers(const nsk_node *node) {
    static const bool ask[NSK_OPS] = {[NSK_OP_AND] = true,     [NSK_OP_EQUAL] = true,
                                      [NSK_OP_GREATER] = true, [NSK_OP_GREATER_OR_EQUAL] = true,
                                      [NSK_OP_LESS] = true,    [NSK_OP_LESS_OR_EQUAL] = true,
                                      [NSK_OP_OR] = true,      [NSK_OP_XOR] = true};
    bool denies = node->op == NSK_OP_FUNCTION && node->program->count == 1 &&
                  node->program->steps[0].fn == NSK_FN_NOT;
    return ask[node->op] || denies || (node->op == NSK_OP_CAST && node->attributes.truth);
}

bool nsk_infer_node(nsk_graph *graph, nsk_node *node, nsk_evaluator *evaluate, nsk_error *error) {
    const nsk_scope s = {graph, node, error};
    for (int i = 0; i < node->inputs; i++) {
        const nsk_value *in = nsk_node_input(graph, node, i);
        if (in != NULL && !in->shaped) {
            return nsk_complain(&s, "an input has no shape");
        }
    }
    const nsk_value *first = nsk_node_input(graph, node, 0);
    nsk_value *out = nsk_graph_value(graph, node->output);
    out->whole = first->whole;
    out->truth = (first->truth && nsk_op_keeps_elements(node->op)) || nsk_node_answers(node);
    if (!shapes[node->op](&s)) {
        return error != NULL && error->code == NSK_ERROR_CODE_INPUT && explain(graph, node, error);
    }
    /* a node of constants is one itself */
    return node->dead || !nsk_is_of_constants(graph, node) || evaluate(graph, node, error);
}

bool nsk_graph_infer(nsk_graph *graph, nsk_evaluator *evaluate, nsk_error *error) {
    for (int i = 0; i < (int)graph->nodes->len; i++) {
        nsk_node *node = nsk_graph_node(graph, i);
        if (!node->dead && !nsk_infer_node(graph, node, evaluate, error)) {
            return false;
        }
    }
    return true;
}
