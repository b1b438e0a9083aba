/* Shape inference, one function an operator. */
#include "graph/graph.h"

#include <stdio.h>
#include <string.h>

static const int64_t MOST_ELEMENTS = (int64_t)1 << 26;

typedef struct scope {
    nsk_graph *graph;
    nsk_node *node;
    nsk_error *error;
} scope;

static bool complain(const scope *s, const char *text) {
    return nsk_fail(s->error, "node '%s' (%s): %s", s->node->name, nsk_op_name(s->node->op), text);
}

static bool complain_shape(const scope *s, int input, const char *wanted) {
    char shape[160];
    return nsk_fail(s->error, "node '%s' (%s): input %d is %s; %s", s->node->name,
                    nsk_op_name(s->node->op), input + 1,
                    nsk_value_text(nsk_node_input(s->graph, s->node, input), shape, sizeof shape),
                    wanted);
}

static bool give(const scope *s, int rank, const int64_t *dims) {
    nsk_value *out = nsk_graph_value(s->graph, s->node->output);
    int64_t count = 1;
    out->rank = rank;
    for (int i = 0; i < rank; i++) {
        out->dims[i] = dims[i];
        if (dims[i] < 1 || dims[i] > MOST_ELEMENTS || (count *= dims[i]) > MOST_ELEMENTS) {
            char shape[160];
            out->rank = i + 1;
            return nsk_fail(
                s->error,
                "node '%s' (%s): its output would be %s ...; each axis needs 1 or more, "
                "all together at most 2^26",
                s->node->name, nsk_op_name(s->node->op), nsk_value_text(out, shape, sizeof shape));
        }
    }
    out->shaped = true;
    return true;
}

static bool same_as_input(const scope *s) {
    const nsk_value *in = nsk_node_input(s->graph, s->node, 0);
    return give(s, in->rank, in->dims);
}

/* ---- windows ---- */

/* Output size along an axis, and the pads that auto_pad means. */
static int64_t slide(nsk_window_attributes *w, int axis, int64_t in) {
    int64_t reach = (w->kernel[axis] - 1) * w->dilation[axis] + 1;
    int64_t stride = w->stride[axis];
    if (w->auto_pad == NSK_PAD_SAME_UPPER || w->auto_pad == NSK_PAD_SAME_LOWER) {
        int64_t out = (in + stride - 1) / stride;
        int64_t pad = (out - 1) * stride + reach - in;
        pad = pad > 0 ? pad : 0;
        w->pad_before[axis] = w->auto_pad == NSK_PAD_SAME_UPPER ? pad / 2 : pad - pad / 2;
        w->pad_after[axis] = pad - w->pad_before[axis];
        return out;
    }
    if (w->auto_pad == NSK_PAD_VALID) {
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

static bool window_shape(const scope *s, int64_t channels) {
    const nsk_value *in = nsk_node_input(s->graph, s->node, 0);
    nsk_window_attributes *w = &s->node->attributes.window;
    if (!window_numbers_are_good(w)) {
        return complain(s, "a kernel, stride, dilation or pad is negative, zero or over 4096");
    }
    int64_t dims[4] = {in->dims[0], channels, slide(w, 0, in->dims[2]), slide(w, 1, in->dims[3])};
    if (dims[2] < 1 || dims[3] < 1) {
        return complain_shape(s, 0, "smaller than the kernel; give a larger input size or pads");
    }
    w->auto_pad = NSK_PAD_GIVEN;
    return give(s, 4, dims);
}

static bool conv_shape(const scope *s) {
    const nsk_value *in = nsk_node_input(s->graph, s->node, 0);
    const nsk_value *weight = nsk_node_input(s->graph, s->node, 1);
    const nsk_value *bias = nsk_node_input(s->graph, s->node, 2);
    nsk_window_attributes *w = &s->node->attributes.window;
    if (in->rank != 4) {
        return complain_shape(s, 0, "a picture of four axes is needed (only 2-D convolution)");
    }
    if (weight->rank != 4) {
        return complain_shape(s, 1, "weights of four axes are needed");
    }
    for (int axis = 0; axis < 2; axis++) {
        if (w->kernel[axis] != 0 && w->kernel[axis] != weight->dims[2 + axis]) {
            return complain_shape(s, 1, "this contradicts kernel_shape");
        }
        w->kernel[axis] = weight->dims[2 + axis];
    }
    if (w->groups < 1 || in->dims[1] % w->groups != 0 || weight->dims[0] % w->groups != 0 ||
        weight->dims[1] != in->dims[1] / w->groups) {
        char wanted[120];
        snprintf(wanted, sizeof wanted,
                 "its weights expect %" G_GINT64_FORMAT " channels in %" G_GINT64_FORMAT
                 " groups; check the layer before",
                 weight->dims[1] * w->groups, w->groups);
        return complain_shape(s, 0, wanted);
    }
    if (bias != NULL && (bias->rank != 1 || bias->dims[0] != weight->dims[0])) {
        return complain_shape(s, 2, "one bias an output channel is needed");
    }
    return window_shape(s, weight->dims[0]);
}

static bool pool_shape(const scope *s) {
    const nsk_value *in = nsk_node_input(s->graph, s->node, 0);
    if (in->rank != 4) {
        return complain_shape(s, 0, "a picture of four axes is needed");
    }
    return window_shape(s, in->dims[1]);
}

static bool global_pool_shape(const scope *s) {
    const nsk_value *in = nsk_node_input(s->graph, s->node, 0);
    if (in->rank != 4) {
        return complain_shape(s, 0, "a picture of four axes is needed");
    }
    nsk_window_attributes *w = &s->node->attributes.window;
    *w = (nsk_window_attributes){
        .kernel = {in->dims[2], in->dims[3]}, .stride = {1, 1}, .dilation = {1, 1}, .groups = 1};
    const int64_t dims[4] = {in->dims[0], in->dims[1], 1, 1};
    return give(s, 4, dims);
}

static bool pad_shape(const scope *s) {
    const nsk_value *in = nsk_node_input(s->graph, s->node, 0);
    const nsk_value *pads = nsk_node_input(s->graph, s->node, 1);
    nsk_window_attributes *w = &s->node->attributes.window;
    if (in->rank != 4) {
        return complain_shape(s, 0, "a picture of four axes is needed");
    }
    if (pads != NULL) {
        if (pads->integers == NULL || nsk_value_count(pads) != 8) {
            return complain_shape(s, 1, "eight constant numbers are needed");
        }
        const int64_t *p = pads->integers;
        if (p[0] != 0 || p[1] != 0 || p[4] != 0 || p[5] != 0) {
            return complain(s, "only rows and columns can be padded");
        }
        w->pad_before[0] = p[2];
        w->pad_before[1] = p[3];
        w->pad_after[0] = p[6];
        w->pad_after[1] = p[7];
    }
    w->kernel[0] = w->kernel[1] = w->stride[0] = w->stride[1] = 1;
    w->dilation[0] = w->dilation[1] = 1;
    return window_shape(s, in->dims[1]);
}

/* ---- the rest ---- */

static bool broadcast_shape(const scope *s) {
    const nsk_value *a = nsk_node_input(s->graph, s->node, 0);
    const nsk_value *b = nsk_node_input(s->graph, s->node, 1);
    int rank = a->rank > b->rank ? a->rank : b->rank;
    int64_t dims[NSK_MOST_RANK];
    for (int i = 0; i < rank; i++) {
        int ia = i - (rank - a->rank);
        int ib = i - (rank - b->rank);
        int64_t da = ia >= 0 ? a->dims[ia] : 1;
        int64_t db = ib >= 0 ? b->dims[ib] : 1;
        if (da != db && da != 1 && db != 1) {
            char shape[160];
            char wanted[240];
            snprintf(wanted, sizeof wanted, "it cannot meet the other input's %s",
                     nsk_value_text(b, shape, sizeof shape));
            return complain_shape(s, 0, wanted);
        }
        dims[i] = da > db ? da : db;
    }
    return give(s, rank, dims);
}

static bool norm_shape(const scope *s) {
    const nsk_value *in = nsk_node_input(s->graph, s->node, 0);
    if (in->rank != 2 && in->rank != 4) {
        return complain_shape(s, 0, "two or four axes are needed");
    }
    for (int i = 1; i < 5; i++) {
        const nsk_value *each = nsk_node_input(s->graph, s->node, i);
        if (each == NULL || each->rank != 1 || each->dims[0] != in->dims[1]) {
            return complain_shape(s, 0, "its statistics are for another number of channels");
        }
    }
    return same_as_input(s);
}

static bool clip_shape(const scope *s) {
    for (int i = 1; i < s->node->inputs; i++) {
        const nsk_value *bound = nsk_node_input(s->graph, s->node, i);
        if (bound != NULL && (bound->data == NULL || nsk_value_count(bound) != 1)) {
            return complain_shape(s, i, "a bound must be one constant number");
        }
    }
    return same_as_input(s);
}

static bool flatten_shape(const scope *s) {
    const nsk_value *in = nsk_node_input(s->graph, s->node, 0);
    int64_t axis = s->node->attributes.axis;
    axis += axis < 0 ? in->rank : 0;
    if (axis < 0 || axis > in->rank) {
        return complain_shape(s, 0, "its axis attribute lies outside of that");
    }
    int64_t dims[2] = {1, 1};
    for (int i = 0; i < in->rank; i++) {
        dims[i >= axis] *= in->dims[i];
    }
    return give(s, 2, dims);
}

static bool reshape_shape(const scope *s) {
    const nsk_value *in = nsk_node_input(s->graph, s->node, 0);
    const nsk_value *shape = nsk_node_input(s->graph, s->node, 1);
    if (shape->integers == NULL || shape->rank != 1 || shape->dims[0] > NSK_MOST_RANK) {
        return complain(s, "its shape must be a constant list of at most 8 numbers");
    }
    int rank = (int)shape->dims[0];
    int64_t dims[NSK_MOST_RANK];
    int64_t known = 1;
    int open = NSK_NONE;
    for (int i = 0; i < rank; i++) {
        int64_t want = shape->integers[i];
        if (want == 0 && !s->node->attributes.allow_zero && i < in->rank) {
            want = in->dims[i];
        }
        if (want < -1 || want > MOST_ELEMENTS || (want == -1 && open != NSK_NONE)) {
            return complain(s, "its shape holds a number that makes no sense");
        }
        dims[i] = want;
        open = want == -1 ? i : open;
        known = want == -1 ? known : known * want;
        if (known > MOST_ELEMENTS) {
            return complain(s, "its shape is too large");
        }
    }
    int64_t count = (int64_t)nsk_value_count(in);
    if (open != NSK_NONE && known > 0) {
        dims[open] = count / known;
        known *= dims[open];
    }
    if (known != count) {
        return complain_shape(s, 0, "its elements do not fill the shape asked for");
    }
    return give(s, rank, dims);
}

static bool gemm_shape(const scope *s) {
    const nsk_value *a = nsk_node_input(s->graph, s->node, 0);
    const nsk_value *b = nsk_node_input(s->graph, s->node, 1);
    const nsk_value *c = nsk_node_input(s->graph, s->node, 2);
    const nsk_attributes *at = &s->node->attributes;
    if (a->rank != 2 || b->rank != 2) {
        return complain_shape(s, a->rank != 2 ? 0 : 1, "two axes are needed; add a Flatten before");
    }
    const int64_t dims[2] = {a->dims[at->transpose_a ? 1 : 0], b->dims[at->transpose_b ? 0 : 1]};
    if (a->dims[at->transpose_a ? 0 : 1] != b->dims[at->transpose_b ? 1 : 0]) {
        char wanted[120];
        snprintf(wanted, sizeof wanted,
                 "its weights expect %" G_GINT64_FORMAT
                 " inputs; check the input size and the layer before",
                 b->dims[at->transpose_b ? 1 : 0]);
        return complain_shape(s, 0, wanted);
    }
    for (int i = 0; c != NULL && i < c->rank; i++) {
        int64_t want = dims[2 - c->rank + i < 0 ? 0 : 2 - c->rank + i];
        if (c->rank > 2 || (c->dims[i] != 1 && c->dims[i] != want)) {
            return complain_shape(s, 2, "it cannot be added to the product");
        }
    }
    return give(s, 2, dims);
}

static bool matmul_shape(const scope *s) {
    const nsk_value *a = nsk_node_input(s->graph, s->node, 0);
    const nsk_value *b = nsk_node_input(s->graph, s->node, 1);
    if (a->rank != 2 || b->rank != 2 || a->dims[1] != b->dims[0]) {
        return complain_shape(s, 0,
                              "two matrices are needed, the first as wide as the second is "
                              "high");
    }
    const int64_t dims[2] = {a->dims[0], b->dims[1]};
    return give(s, 2, dims);
}

static bool softmax_shape(const scope *s) {
    const nsk_value *in = nsk_node_input(s->graph, s->node, 0);
    int64_t axis = s->node->attributes.axis;
    axis += axis < 0 ? in->rank : 0;
    if (axis < 0 || axis >= in->rank) {
        return complain_shape(s, 0, "its axis attribute lies outside of that");
    }
    s->node->attributes.axis = axis;
    return same_as_input(s);
}

static bool infer_node(const scope *s) {
    static bool (*const shapes[NSK_OPS])(const scope *) = {
        [NSK_OP_ADD] = broadcast_shape,
        [NSK_OP_AVERAGE_POOL] = pool_shape,
        [NSK_OP_BATCH_NORM] = norm_shape,
        [NSK_OP_CLIP] = clip_shape,
        [NSK_OP_CONV] = conv_shape,
        [NSK_OP_DROPOUT] = same_as_input,
        [NSK_OP_FLATTEN] = flatten_shape,
        [NSK_OP_GEMM] = gemm_shape,
        [NSK_OP_GLOBAL_AVERAGE_POOL] = global_pool_shape,
        [NSK_OP_GLOBAL_MAX_POOL] = global_pool_shape,
        [NSK_OP_IDENTITY] = same_as_input,
        [NSK_OP_MATMUL] = matmul_shape,
        [NSK_OP_MAX_POOL] = pool_shape,
        [NSK_OP_MUL] = broadcast_shape,
        [NSK_OP_PAD] = pad_shape,
        [NSK_OP_RELU] = same_as_input,
        [NSK_OP_RESHAPE] = reshape_shape,
        [NSK_OP_SOFTMAX] = softmax_shape,
    };
    for (int i = 0; i < s->node->inputs; i++) {
        const nsk_value *in = nsk_node_input(s->graph, s->node, i);
        if (in != NULL && !in->shaped) {
            return complain(s, "an input has no shape");
        }
    }
    return shapes[s->node->op](s);
}

bool nsk_graph_infer(nsk_graph *graph, nsk_error *error) {
    for (int i = 0; i < (int)graph->nodes->len; i++) {
        scope s = {graph, nsk_graph_node(graph, i), error};
        if (!s.node->dead && s.node->op != NSK_OP_CONSTANT && !infer_node(&s)) {
            return false;
        }
    }
    return true;
}
