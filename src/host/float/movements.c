/* Moving elements without computing, and interpolating between them. */
#include <string.h>

#include "float/kernel.h"
#include "graph/rearrange.h"
#include "graph/resize.h"

/* A way through the input: how far apart, in elements, neighbours along each output axis stand. */
typedef struct walk {
    int rank;
    int64_t dims[NSK_MOST_RANK + 2], stride[NSK_MOST_RANK + 2];
    int64_t origin;
} walk;

static void strides_of(int rank, const int64_t *dims, int64_t *strides) {
    int64_t step = 1;
    for (int i = rank - 1; i >= 0; i--) {
        strides[i] = step;
        step *= dims[i];
    }
}

static walk walk_transposed(const nsk_value *in, const int *order) {
    int64_t strides[NSK_MOST_RANK];
    walk w = {.rank = in->rank};
    strides_of(in->rank, in->dims, strides);
    for (int i = 0; i < in->rank; i++) {
        w.dims[i] = in->dims[order[i]];
        w.stride[i] = strides[order[i]];
    }
    return w;
}

static walk walk_cut(const nsk_graph *graph, const nsk_node *node) {
    const nsk_value *in = nsk_node_input(graph, node, 0);
    nsk_error error;
    nsk_cut cut = {.count = {0}};
    int64_t strides[NSK_MOST_RANK];
    walk w = {.rank = in->rank};
    nsk_cut_of(graph, node, &cut, &error);
    strides_of(in->rank, in->dims, strides);
    for (int i = 0; i < in->rank; i++) {
        w.dims[i] = cut.count[i];
        w.stride[i] = strides[i] * cut.step[i];
        w.origin += strides[i] * cut.start[i];
    }
    return w;
}

static walk walk_expanded(const nsk_graph *graph, const nsk_node *node) {
    const nsk_value *in = nsk_node_input(graph, node, 0);
    const nsk_value *out = nsk_graph_value(graph, node->output);
    int64_t strides[NSK_MOST_RANK];
    walk w = {.rank = out->rank};
    strides_of(in->rank, in->dims, strides);
    for (int i = 0; i < out->rank; i++) {
        int from = i - (out->rank - in->rank);
        w.dims[i] = out->dims[i];
        w.stride[i] = from >= 0 && in->dims[from] > 1 ? strides[from] : 0;
    }
    return w;
}

static walk walk_shuffled(const nsk_graph *graph, const nsk_node *node) {
    const nsk_value *in = nsk_node_input(graph, node, 0);
    nsk_shuffle shuffle;
    nsk_shuffle_of(graph, node, &shuffle);
    int64_t strides[6];
    walk w = {.rank = 7};
    strides_of(6, shuffle.dims, strides);
    w.dims[0] = in->dims[0];
    w.stride[0] = (int64_t)nsk_value_count(in) / in->dims[0];
    for (int i = 0; i < 6; i++) {
        w.dims[1 + i] = shuffle.dims[shuffle.order[i]];
        w.stride[1 + i] = strides[shuffle.order[i]];
    }
    return w;
}

static void follow(const walk *w, size_t count, int32_t *sources) {
    for (size_t i = 0; i < count; i++) {
        size_t rest = i;
        int64_t at = w->origin;
        for (int axis = w->rank - 1; axis >= 0; axis--) {
            /* NOLINTNEXTLINE(clang-analyzer-core.DivideZero): an empty axis makes count nothing */
            at += (int64_t)(rest % (size_t)w->dims[axis]) * w->stride[axis];
            rest /= (size_t)w->dims[axis];
        }
        sources[i] = (int32_t)at;
    }
}

/* The input's coordinate behind a margin, or -1 where Pad fills. */
static int64_t behind_margin(nsk_mode mode, int64_t at, int64_t size) {
    if (at >= 0 && at < size) {
        return at;
    }
    if (mode == NSK_MODE_EDGE) {
        return at < 0 ? 0 : size - 1;
    }
    if (mode == NSK_MODE_WRAP) {
        return at < 0 ? at + size : at - size;
    }
    return mode == NSK_MODE_REFLECT ? (at < 0 ? -at : 2 * (size - 1) - at) : -1;
}

static void follow_pad(const nsk_graph *graph, const nsk_node *node, int32_t *sources) {
    const nsk_value *in = nsk_node_input(graph, node, 0);
    const nsk_value *out = nsk_graph_value(graph, node->output);
    nsk_error error;
    nsk_margins margins;
    nsk_margins_of(graph, node, &margins, &error);
    for (size_t i = 0; i < nsk_value_count(out); i++) {
        size_t rest = i;
        int64_t at = 0;
        int64_t step = 1;
        for (int axis = in->rank - 1; axis >= 0; axis--) {
            int64_t along = (int64_t)(rest % (size_t)out->dims[axis]) - margins.before[axis];
            int64_t from = behind_margin(node->attributes.mode, along, in->dims[axis]);
            at = from < 0 || at < 0 ? -1 : at + from * step;
            rest /= (size_t)out->dims[axis];
            step *= in->dims[axis];
        }
        sources[i] = (int32_t)at;
    }
}

static void follow_tile(const nsk_graph *graph, const nsk_node *node, int32_t *sources) {
    const nsk_value *in = nsk_node_input(graph, node, 0);
    const nsk_value *out = nsk_graph_value(graph, node->output);
    for (size_t i = 0; i < nsk_value_count(out); i++) {
        size_t rest = i;
        int64_t at = 0;
        int64_t step = 1;
        for (int axis = in->rank - 1; axis >= 0; axis--) {
            int64_t along = (int64_t)(rest % (size_t)out->dims[axis]);
            at += along % in->dims[axis] * step;
            rest /= (size_t)out->dims[axis];
            step *= in->dims[axis];
        }
        sources[i] = (int32_t)at;
    }
}

/* An index list picks whole blocks of what stands behind the axis. */
static void follow_gather(const nsk_graph *graph, const nsk_node *node, int32_t *sources) {
    const nsk_value *in = nsk_node_input(graph, node, 0);
    const nsk_value *at = nsk_node_input(graph, node, 1);
    const nsk_value *out = nsk_graph_value(graph, node->output);
    size_t block = 1;
    size_t along = (size_t)in->dims[node->attributes.axis];
    size_t picked = nsk_value_count(at);
    for (int i = (int)node->attributes.axis + 1; i < in->rank; i++) {
        block *= (size_t)in->dims[i];
    }
    for (size_t i = 0; i < nsk_value_count(out); i++) {
        int64_t index = at->integers[i / block % picked];
        size_t from = (size_t)(index < 0 ? index + (int64_t)along : index);
        sources[i] = (int32_t)((i / block / picked * along + from) * block + i % block);
    }
}

bool nsk_only_moves(nsk_op op) {
    switch (op) {
    case NSK_OP_DEPTH_TO_SPACE:
    case NSK_OP_EXPAND:
    case NSK_OP_GATHER:
    case NSK_OP_PAD:
    case NSK_OP_SLICE:
    case NSK_OP_SPACE_TO_DEPTH:
    case NSK_OP_SPLIT:
    case NSK_OP_TILE:
    case NSK_OP_TRANSPOSE:
        return true;
    default:
        return false;
    }
}

void nsk_sources_of(const nsk_graph *graph, const nsk_node *node, int32_t *sources) {
    size_t count = nsk_value_count(nsk_graph_value(graph, node->output));
    int order[NSK_MOST_RANK];
    walk w;
    switch (node->op) {
    case NSK_OP_PAD:
        follow_pad(graph, node, sources);
        return;
    case NSK_OP_TILE:
        follow_tile(graph, node, sources);
        return;
    case NSK_OP_GATHER:
        follow_gather(graph, node, sources);
        return;
    case NSK_OP_SLICE:
    case NSK_OP_SPLIT:
        w = walk_cut(graph, node);
        break;
    case NSK_OP_EXPAND:
        w = walk_expanded(graph, node);
        break;
    case NSK_OP_TRANSPOSE:
        nsk_order_of(graph, node, order);
        w = walk_transposed(nsk_node_input(graph, node, 0), order);
        break;
    default:
        w = walk_shuffled(graph, node);
        break;
    }
    follow(&w, count, sources);
}

void nsk_float_copy(const nsk_step *s) {
    memcpy(s->y, s->x, nsk_value_count(s->out) * sizeof *s->y);
}

void nsk_float_gather(const nsk_step *s) {
    size_t count = nsk_value_count(s->out);
    int32_t *sources = g_new0(int32_t, count);
    bool fills = s->node->op == NSK_OP_PAD && s->inputs[2] != NULL;
    float filler = fills ? s->inputs[2][0] : 0.0F;
    nsk_sources_of(s->graph, s->node, sources);
    for (size_t i = 0; i < count; i++) {
        s->y[i] = sources[i] < 0 ? filler : s->x[sources[i]];
    }
    g_free(sources);
}

void nsk_join(const nsk_step *s, const void *const *inputs, void *joined, size_t width) {
    int axis = (int)s->node->attributes.axis;
    size_t inner = width;
    for (int i = axis + 1; i < s->out->rank; i++) {
        inner *= (size_t)s->out->dims[i];
    }
    size_t line = inner * (size_t)s->out->dims[axis];
    size_t outer = nsk_value_count(s->out) * width / line;
    uint8_t *to = joined;
    for (int k = 0; k < s->node->inputs; k++) {
        size_t piece = inner * (size_t)nsk_node_input(s->graph, s->node, k)->dims[axis];
        for (size_t o = 0; o < outer; o++) {
            memcpy(to + o * line, (const uint8_t *)inputs[k] + o * piece, piece);
        }
        to += piece;
    }
}

void nsk_float_concat(const nsk_step *s) {
    nsk_join(s, (const void *const *)s->inputs, s->y, sizeof *s->y);
}

static void blend_picture(const nsk_step *s) {
    int64_t height = s->out->dims[2];
    int64_t width = s->out->dims[3];
    size_t in_plane = (size_t)(s->in->dims[2] * s->in->dims[3]);
    for (int64_t i = 0; i < height * width; i++) {
        nsk_blend down = nsk_blend_at(s->graph, s->node, 2, i / width);
        nsk_blend across = nsk_blend_at(s->graph, s->node, 3, i % width);
        for (int64_t p = 0; p < s->in->dims[0] * s->in->dims[1]; p++) {
            const float *upper = s->x + (size_t)p * in_plane + down.first * s->in->dims[3];
            const float *lower = s->x + (size_t)p * in_plane + down.second * s->in->dims[3];
            double above = (1.0 - across.part) * (double)upper[across.first] +
                           across.part * (double)upper[across.second];
            double below = (1.0 - across.part) * (double)lower[across.first] +
                           across.part * (double)lower[across.second];
            s->y[p * height * width + i] = (float)((1.0 - down.part) * above + down.part * below);
        }
    }
}

/* One axis after the other. */
static void share_out(const nsk_step *s) {
    int64_t dims[NSK_MOST_RANK];
    memcpy(dims, s->in->dims, sizeof dims);
    float *now = g_memdup2(s->x, nsk_value_count(s->in) * sizeof *now);
    for (int axis = 0; axis < s->in->rank; axis++) {
        float *shares = nsk_resize_shares(s->graph, s->node, axis);
        if (shares == NULL) {
            continue;
        }
        const int64_t in = dims[axis];
        const int64_t out = s->out->dims[axis];
        int64_t inner = 1;
        int64_t outer = 1;
        for (int i = 0; i < s->in->rank; i++) {
            *(i > axis ? &inner : &outer) *= i == axis ? 1 : dims[i];
        }
        float *next = g_new(float, (gsize)(outer * out * inner));
        for (int64_t i = 0; i < outer * out * inner; i++) {
            const float *from = now + i / (out * inner) * in * inner + i % inner;
            const float *share = shares + i / inner % out * in;
            double sum = 0.0;
            for (int64_t k = 0; k < in; k++) {
                sum += (double)share[k] * (double)from[k * inner];
            }
            next[i] = (float)sum;
        }
        dims[axis] = out;
        g_free(shares);
        g_free(now);
        now = next;
    }
    memcpy(s->y, now, nsk_value_count(s->out) * sizeof *now);
    g_free(now);
}

void nsk_float_resize(const nsk_step *s) {
    if (nsk_resize_blends(s->graph, s->node)) {
        blend_picture(s);
    } else {
        share_out(s);
    }
}
