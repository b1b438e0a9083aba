#include "graph/rearrange.h"

#include <math.h>
#include <string.h>

#include "graph/infer.h"

static const int64_t MOST_ELEMENTS = (int64_t)1 << 26;

/* A constant list of integers among the inputs, or NULL. */
static const nsk_value *integers_at(const nsk_graph *graph, const nsk_node *node, int input) {
    const nsk_value *v = nsk_node_input(graph, node, input);
    return v != NULL && v->integers != NULL && v->rank <= 1 ? v : NULL;
}

static bool fail(const nsk_node *node, nsk_error *error, const char *text) {
    return nsk_fail(error, "node '%s' (%s): %s", node->name, nsk_op_name(node->op), text);
}

/* ---- Slice and Split ---- */

static int64_t clamp64(int64_t x, int64_t low, int64_t high) {
    return x < low ? low : x > high ? high : x;
}

/* One axis, as the operator's specification has it: ends are clamped, negative ones counted from
 * the back. */
static void cut_axis(nsk_cut *cut, int axis, int64_t size, int64_t start, int64_t end,
                     int64_t step) {
    start = start < 0 ? start + size : start;
    end = end < 0 && end >= -size ? end + size : end;
    if (step > 0) {
        start = clamp64(start, 0, size);
        end = clamp64(end, 0, size);
    } else {
        start = clamp64(start, 0, size - 1);
        end = clamp64(end, -1, size);
    }
    int64_t reach = step > 0 ? end - start : start - end;
    int64_t stride = step > 0 ? step : -step;
    cut->start[axis] = start;
    cut->step[axis] = step;
    cut->count[axis] = reach > 0 ? (reach + stride - 1) / stride : 0;
}

static bool cut_slice(const nsk_graph *graph, const nsk_node *node, nsk_cut *cut,
                      nsk_error *error) {
    const nsk_value *in = nsk_node_input(graph, node, 0);
    const nsk_value *given[5] = {NULL};
    for (int i = 1; i < 5; i++) {
        given[i] = integers_at(graph, node, i);
        if (nsk_node_input(graph, node, i) != NULL && given[i] == NULL) {
            return fail(node, error, "its starts, ends, axes and steps must be constant lists");
        }
    }
    if (given[1] == NULL || given[2] == NULL) {
        return fail(node, error, "starts or ends are missing");
    }
    size_t count = nsk_value_count(given[1]);
    for (int i = 2; i < 5; i++) {
        if (given[i] != NULL && nsk_value_count(given[i]) != count) {
            return fail(node, error, "its starts, ends, axes and steps differ in length");
        }
    }
    for (size_t i = 0; i < count; i++) {
        int axis = nsk_axis(given[3] != NULL ? given[3]->integers[i] : (int64_t)i, in->rank);
        int64_t step = given[4] != NULL ? given[4]->integers[i] : 1;
        if (axis == NSK_NONE || step == 0 || step < -MOST_ELEMENTS || step > MOST_ELEMENTS) {
            return fail(node, error, "an axis lies outside of its input, or a step makes no sense");
        }
        cut_axis(cut, axis, in->dims[axis], given[1]->integers[i], given[2]->integers[i], step);
    }
    return true;
}

static bool cut_split(const nsk_graph *graph, const nsk_node *node, nsk_cut *cut,
                      nsk_error *error) {
    const nsk_value *in = nsk_node_input(graph, node, 0);
    const nsk_value *sizes = integers_at(graph, node, 1);
    const nsk_attributes *a = &node->attributes;
    int axis = nsk_axis(a->axis, in->rank);
    if (axis == NSK_NONE || (nsk_node_input(graph, node, 1) != NULL && sizes == NULL)) {
        return fail(node, error, "its axis lies outside of its input, or its sizes are computed");
    }
    if (sizes == NULL && !a->uneven && in->dims[axis] % a->parts != 0) {
        return fail(node, error, "its input cannot be split into so many equal parts");
    }
    if (sizes == NULL) { /* the last may be smaller since operator set 18 */
        int64_t each = (in->dims[axis] + a->parts - 1) / a->parts;
        int64_t start = each * a->part;
        cut_axis(cut, axis, in->dims[axis], start, start + each, 1);
        return true;
    }
    int64_t total = 0;
    for (int i = 0; i < (int)nsk_value_count(sizes); i++) {
        int64_t size = sizes->integers[i];
        if (size < 0 || size > in->dims[axis]) {
            return fail(node, error, "a part's size is negative or larger than its input");
        }
        if (i == a->part) {
            cut_axis(cut, axis, in->dims[axis], total, total + size, 1);
        }
        total += size;
    }
    return ((int)nsk_value_count(sizes) == a->parts && total == in->dims[axis]) ||
           fail(node, error, "its parts do not add up to its input");
}

bool nsk_cut_of(const nsk_graph *graph, const nsk_node *node, nsk_cut *cut, nsk_error *error) {
    const nsk_value *in = nsk_node_input(graph, node, 0);
    for (int i = 0; i < in->rank; i++) {
        cut->start[i] = 0;
        cut->step[i] = 1;
        cut->count[i] = in->dims[i];
    }
    return node->op == NSK_OP_SPLIT ? cut_split(graph, node, cut, error)
                                    : cut_slice(graph, node, cut, error);
}

bool nsk_shape_slice(const nsk_scope *s) {
    nsk_cut cut;
    return nsk_cut_of(s->graph, s->node, &cut, s->error) &&
           nsk_give(s, nsk_node_input(s->graph, s->node, 0)->rank, cut.count);
}

/* ---- Pad ---- */

bool nsk_margins_of(const nsk_graph *graph, const nsk_node *node, nsk_margins *margins,
                    nsk_error *error) {
    const nsk_value *in = nsk_node_input(graph, node, 0);
    const nsk_value *pads = integers_at(graph, node, 1);
    const nsk_value *axes = integers_at(graph, node, 3);
    int count = axes != NULL ? (int)nsk_value_count(axes) : in->rank;
    *margins = (nsk_margins){{0}, {0}};
    if (pads == NULL || (int)nsk_value_count(pads) != 2 * count) {
        return fail(node, error, "its pads must be constant, two for each axis");
    }
    for (int i = 0; i < count; i++) {
        int axis = nsk_axis(axes != NULL ? axes->integers[i] : i, in->rank);
        int64_t before = pads->integers[i];
        int64_t after = pads->integers[count + i];
        if (axis == NSK_NONE || before < -MOST_ELEMENTS || before > MOST_ELEMENTS ||
            after < -MOST_ELEMENTS || after > MOST_ELEMENTS) {
            return fail(node, error, "a pad or an axis makes no sense");
        }
        int64_t most = MAX(before, after);
        if ((node->attributes.mode == NSK_MODE_REFLECT && most >= in->dims[axis]) ||
            (node->attributes.mode == NSK_MODE_WRAP && most > in->dims[axis])) {
            return fail(node, error, "it reflects or wraps further than its input is wide");
        }
        margins->before[axis] = before;
        margins->after[axis] = after;
    }
    return true;
}

bool nsk_shape_pad(const nsk_scope *s) {
    const nsk_value *in = nsk_node_input(s->graph, s->node, 0);
    nsk_margins m;
    int64_t dims[NSK_MOST_RANK];
    if (!nsk_margins_of(s->graph, s->node, &m, s->error)) {
        return false;
    }
    for (int i = 0; i < in->rank; i++) {
        dims[i] = in->dims[i] + m.before[i] + m.after[i];
    }
    return nsk_give(s, in->rank, dims);
}

/* ---- axes ---- */

bool nsk_axes_of(const nsk_graph *graph, const nsk_node *node, bool otherwise, bool *marked,
                 nsk_error *error) {
    const nsk_value *in = nsk_node_input(graph, node, 0);
    const nsk_value *axes = integers_at(graph, node, 1);
    bool none = axes == NULL || nsk_value_count(axes) == 0;
    for (int i = 0; i < in->rank; i++) {
        marked[i] = none && otherwise;
    }
    if (nsk_node_input(graph, node, 1) != NULL && axes == NULL) {
        return fail(node, error, "its axes must be a constant list");
    }
    for (size_t i = 0; !none && i < nsk_value_count(axes); i++) {
        int axis = nsk_axis(axes->integers[i], in->rank);
        if (axis == NSK_NONE) {
            return fail(node, error, "an axis lies outside of its input");
        }
        marked[axis] = true;
    }
    return true;
}

bool nsk_shape_squeeze(const nsk_scope *s) {
    const nsk_value *in = nsk_node_input(s->graph, s->node, 0);
    bool listed = nsk_node_input(s->graph, s->node, 1) != NULL;
    bool marked[NSK_MOST_RANK] = {false};
    int64_t dims[NSK_MOST_RANK];
    int rank = 0;
    if (!nsk_axes_of(s->graph, s->node, true, marked, s->error)) {
        return false;
    }
    for (int i = 0; i < in->rank; i++) {
        if (marked[i] && listed && in->dims[i] != 1) {
            return nsk_complain_shape(s, 0, "an axis to be squeezed is not 1");
        }
        if (!marked[i] || in->dims[i] != 1) {
            dims[rank++] = in->dims[i];
        }
    }
    return nsk_give(s, rank, dims);
}

bool nsk_shape_unsqueeze(const nsk_scope *s) {
    const nsk_value *in = nsk_node_input(s->graph, s->node, 0);
    const nsk_value *axes = integers_at(s->graph, s->node, 1);
    if (axes == NULL || in->rank + (int)nsk_value_count(axes) > NSK_MOST_RANK) {
        return nsk_complain(s, "its axes must be constant, and the result have at most 8");
    }
    int rank = in->rank + (int)nsk_value_count(axes);
    int64_t dims[NSK_MOST_RANK] = {0};
    for (int i = 0; i < rank - in->rank; i++) {
        int axis = nsk_axis(axes->integers[i], rank);
        if (axis == NSK_NONE || dims[axis] == 1) {
            return nsk_complain(s, "an axis lies outside of the result, or comes twice");
        }
        dims[axis] = 1;
    }
    for (int i = 0, from = 0; i < rank; i++) {
        dims[i] = dims[i] == 1 ? 1 : in->dims[from++];
    }
    return nsk_give(s, rank, dims);
}

/* ---- Transpose, DepthToSpace, SpaceToDepth ---- */

void nsk_order_of(const nsk_graph *graph, const nsk_node *node, int *order) {
    int rank = nsk_node_input(graph, node, 0)->rank;
    for (int i = 0; i < rank; i++) {
        order[i] = node->attributes.listed > 0 ? (int)node->attributes.list[i] : rank - 1 - i;
    }
}

bool nsk_shape_transpose(const nsk_scope *s) {
    const nsk_value *in = nsk_node_input(s->graph, s->node, 0);
    const nsk_attributes *a = &s->node->attributes;
    bool seen[NSK_MOST_RANK] = {false};
    if (a->listed != 0 && a->listed != in->rank) {
        return nsk_complain_shape(s, 0, "its order is for another number of axes");
    }
    for (int i = 0; i < a->listed; i++) {
        if (a->list[i] < 0 || a->list[i] >= in->rank || seen[a->list[i]]) {
            return nsk_complain(s, "its order does not name each axis once");
        }
        seen[a->list[i]] = true;
    }
    int order[NSK_MOST_RANK] = {0};
    int64_t dims[NSK_MOST_RANK];
    nsk_order_of(s->graph, s->node, order);
    for (int i = 0; i < in->rank; i++) {
        dims[i] = in->dims[order[i]];
    }
    return nsk_give(s, in->rank, dims);
}

void nsk_shuffle_of(const nsk_graph *graph, const nsk_node *node, nsk_shuffle *shuffle) {
    const nsk_value *in = nsk_node_input(graph, node, 0);
    int64_t b = node->attributes.size;
    int64_t c = in->dims[1];
    int64_t h = in->dims[2];
    int64_t w = in->dims[3];
    if (node->op == NSK_OP_SPACE_TO_DEPTH) {
        *shuffle = (nsk_shuffle){{c, h / b, b, w / b, b, 1}, {2, 4, 0, 1, 3, 5}};
    } else if (node->attributes.mode == NSK_MODE_COLUMN_FIRST) {
        *shuffle = (nsk_shuffle){{c / (b * b), b, b, h, w, 1}, {0, 3, 1, 4, 2, 5}};
    } else {
        *shuffle = (nsk_shuffle){{b, b, c / (b * b), h, w, 1}, {2, 3, 0, 4, 1, 5}};
    }
}

static bool shuffle_shape(const nsk_scope *s, bool deeper) {
    const nsk_value *in = nsk_node_input(s->graph, s->node, 0);
    int64_t b = s->node->attributes.size;
    if (in->rank != 4 || b < 1 || b > 4096) {
        return nsk_complain_shape(s, 0,
                                  "a picture of four axes and a block of 1 to 4096 are needed");
    }
    int64_t c = in->dims[1];
    if (deeper ? in->dims[2] % b != 0 || in->dims[3] % b != 0 : c % (b * b) != 0) {
        return nsk_complain_shape(s, 0, "its block does not divide that evenly");
    }
    const int64_t deep[4] = {in->dims[0], c * b * b, in->dims[2] / b, in->dims[3] / b};
    const int64_t wide[4] = {in->dims[0], c / (b * b), in->dims[2] * b, in->dims[3] * b};
    return nsk_give(s, 4, deeper ? deep : wide);
}

bool nsk_shape_depth_to_space(const nsk_scope *s) {
    return shuffle_shape(s, false);
}

bool nsk_shape_space_to_depth(const nsk_scope *s) {
    return shuffle_shape(s, true);
}

/* ---- reshaping ---- */

bool nsk_shape_flatten(const nsk_scope *s) {
    const nsk_value *in = nsk_node_input(s->graph, s->node, 0);
    int64_t axis = s->node->attributes.axis;
    axis += axis < 0 ? in->rank : 0;
    if (axis < 0 || axis > in->rank) {
        return nsk_complain_shape(s, 0, "its axis attribute lies outside of that");
    }
    int64_t dims[2] = {1, 1};
    for (int i = 0; i < in->rank; i++) {
        dims[i >= axis] *= in->dims[i];
    }
    return nsk_give(s, 2, dims);
}

/* Fills `dims`; the product of the sizes given goes to `known`, the place of a -1 to `open`. */
static bool reshape_sizes(const nsk_scope *s, const nsk_value *shape, int64_t *dims, int64_t *known,
                          int *open) {
    const nsk_value *in = nsk_node_input(s->graph, s->node, 0);
    *known = 1;
    *open = NSK_NONE;
    for (int i = 0; i < (int)nsk_value_count(shape); i++) {
        int64_t want = shape->integers[i];
        if (want == 0 && !s->node->attributes.allow_zero && i < in->rank) {
            want = in->dims[i];
        }
        if (want < -1 || want > MOST_ELEMENTS || (want == -1 && *open != NSK_NONE)) {
            return nsk_complain(s, "its shape holds a number that makes no sense");
        }
        dims[i] = want;
        *open = want == -1 ? i : *open;
        *known = want == -1 ? *known : *known * want;
        if (*known > MOST_ELEMENTS) {
            return nsk_complain(s, "its shape is too large");
        }
    }
    return true;
}

bool nsk_shape_reshape(const nsk_scope *s) {
    const nsk_value *in = nsk_node_input(s->graph, s->node, 0);
    const nsk_value *shape = integers_at(s->graph, s->node, 1);
    if (shape == NULL || nsk_value_count(shape) > NSK_MOST_RANK) {
        return nsk_complain(s, "its shape must be a constant list of at most 8 numbers");
    }
    int64_t dims[NSK_MOST_RANK];
    int64_t known;
    int open;
    if (!reshape_sizes(s, shape, dims, &known, &open)) {
        return false;
    }
    int64_t count = (int64_t)nsk_value_count(in);
    if (open != NSK_NONE && known > 0) {
        dims[open] = count / known;
        known *= dims[open];
    }
    if (known != count) {
        return nsk_complain_shape(s, 0, "its elements do not fill the shape asked for");
    }
    return nsk_give(s, (int)nsk_value_count(shape), dims);
}

bool nsk_shape_expand(const nsk_scope *s) {
    const nsk_value *in = nsk_node_input(s->graph, s->node, 0);
    const nsk_value *shape = integers_at(s->graph, s->node, 1);
    if (shape == NULL || nsk_value_count(shape) > NSK_MOST_RANK) {
        return nsk_complain(s, "its shape must be a constant list of at most 8 numbers");
    }
    int asked = (int)nsk_value_count(shape);
    int rank = MAX(asked, in->rank);
    int64_t dims[NSK_MOST_RANK];
    for (int i = 0; i < rank; i++) {
        int64_t a = i - (rank - in->rank) >= 0 ? in->dims[i - (rank - in->rank)] : 1;
        int64_t b = i - (rank - asked) >= 0 ? shape->integers[i - (rank - asked)] : 1;
        if (a != b && a != 1 && b != 1) {
            return nsk_complain_shape(s, 0, "it cannot be spread to the shape asked for");
        }
        dims[i] = a == 1 ? b : a;
    }
    return nsk_give(s, rank, dims);
}

bool nsk_shape_tile(const nsk_scope *s) {
    const nsk_value *in = nsk_node_input(s->graph, s->node, 0);
    const nsk_value *times = integers_at(s->graph, s->node, 1);
    int64_t dims[NSK_MOST_RANK];
    if (times == NULL || (int)nsk_value_count(times) != in->rank) {
        return nsk_complain(s, "it needs one constant count for each axis");
    }
    for (int i = 0; i < in->rank; i++) {
        if (times->integers[i] < 1 || times->integers[i] > MOST_ELEMENTS) {
            return nsk_complain(s, "a count makes no sense");
        }
        dims[i] = in->dims[i] * times->integers[i];
    }
    return nsk_give(s, in->rank, dims);
}

/* ---- joining, picking, making ---- */

bool nsk_shape_concat(const nsk_scope *s) {
    const nsk_value *in = nsk_node_input(s->graph, s->node, 0);
    int axis = nsk_axis(s->node->attributes.axis, in->rank);
    int64_t dims[NSK_MOST_RANK];
    if (axis == NSK_NONE) {
        return nsk_complain_shape(s, 0, "its axis attribute lies outside of that");
    }
    memcpy(dims, in->dims, sizeof dims);
    dims[axis] = 0;
    for (int k = 0; k < s->node->inputs; k++) {
        const nsk_value *each = nsk_node_input(s->graph, s->node, k);
        for (int i = 0; i < in->rank; i++) {
            if (each->rank != in->rank || (i != axis && each->dims[i] != in->dims[i])) {
                char shape[160];
                char wanted[240];
                g_snprintf(wanted, sizeof wanted, "it cannot be joined to the first input's %s",
                           nsk_value_text(in, shape, sizeof shape));
                return nsk_complain_shape(s, k, wanted);
            }
        }
        dims[axis] += each->dims[axis];
    }
    s->node->attributes.axis = axis;
    return nsk_give(s, in->rank, dims);
}

bool nsk_shape_gather(const nsk_scope *s) {
    const nsk_value *in = nsk_node_input(s->graph, s->node, 0);
    const nsk_value *at = nsk_node_input(s->graph, s->node, 1);
    int axis = nsk_axis(s->node->attributes.axis, in->rank);
    int64_t dims[NSK_MOST_RANK];
    if (axis == NSK_NONE || at->integers == NULL || in->rank - 1 + at->rank > NSK_MOST_RANK) {
        return nsk_complain(s, "its indices must be constant and its axis inside of its input");
    }
    for (size_t i = 0; i < nsk_value_count(at); i++) {
        if (at->integers[i] < -in->dims[axis] || at->integers[i] >= in->dims[axis]) {
            return nsk_complain_shape(s, 0, "an index lies outside of that");
        }
    }
    int rank = 0;
    for (int i = 0; i < in->rank; i++) {
        if (i != axis) {
            dims[rank++] = in->dims[i];
            continue;
        }
        for (int k = 0; k < at->rank; k++) {
            dims[rank++] = at->dims[k];
        }
    }
    s->node->attributes.axis = axis;
    return nsk_give(s, rank, dims);
}

bool nsk_shape_cast(const nsk_scope *s) {
    nsk_value *out = nsk_graph_value(s->graph, s->node->output);
    out->whole = s->node->attributes.whole;
    out->truth = out->truth || s->node->attributes.truth;
    return nsk_give_input(s);
}

bool nsk_shape_shape(const nsk_scope *s) {
    const nsk_value *in = nsk_node_input(s->graph, s->node, 0);
    const nsk_attributes *a = &s->node->attributes;
    int64_t first = a->list[0] + (a->list[0] < 0 ? in->rank : 0);
    int64_t last = a->list[1] + (a->list[1] < 0 ? in->rank : 0);
    first = clamp64(first, 0, in->rank);
    last = clamp64(last, 0, in->rank);
    int64_t count = last > first ? last - first : 0;
    nsk_value *out = nsk_graph_value(s->graph, s->node->output);
    if (count == 0) {
        return nsk_complain_unsupported(s, "it asks for no axis at all");
    }
    if (out->integers == NULL) {
        out->integers = g_new(int64_t, (gsize)count);
        out->data = g_new(float, (gsize)count);
        for (int64_t i = 0; i < count; i++) {
            out->integers[i] = in->dims[first + i];
            out->data[i] = (float)out->integers[i];
        }
    }
    out->whole = true;
    s->node->dead = true;
    return nsk_give(s, 1, &count);
}

bool nsk_shape_constant_of_shape(const nsk_scope *s) {
    const nsk_value *shape = integers_at(s->graph, s->node, 0);
    if (shape == NULL || nsk_value_count(shape) > NSK_MOST_RANK) {
        return nsk_complain(s, "its shape must be a constant list of at most 8 numbers");
    }
    nsk_graph_value(s->graph, s->node->output)->whole = s->node->attributes.whole;
    return nsk_give(s, (int)nsk_value_count(shape), shape->integers);
}

static double number_at(const nsk_value *v) {
    return v->integers != NULL ? (double)v->integers[0]
           : v->data != NULL   ? (double)v->data[0]
                               : NAN;
}

bool nsk_shape_range(const nsk_scope *s) {
    double number[3];
    for (int i = 0; i < 3; i++) {
        number[i] = number_at(nsk_node_input(s->graph, s->node, i));
    }
    double count = ceil((number[1] - number[0]) / number[2]);
    if (!(count >= 1.0 && count <= (double)MOST_ELEMENTS)) {
        return nsk_complain(s, "its start, limit and delta must be constants that make a list");
    }
    const int64_t dims[1] = {(int64_t)count};
    return nsk_give(s, 1, dims);
}
