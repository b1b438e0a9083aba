#include "lower/views.h"

#include <math.h>
#include <string.h>

#include "device/format.h"

enum { MOST_AXIS = 65535 };

bool nsk_no_integer_form(const nsk_translation *l, const nsk_node *node, const char *text) {
    return nsk_unsupported(l->error, "layer '%s' (%s) has no integer form: %s", node->name,
                           nsk_node_kind(node), text);
}

/* ---- layouts ---- */

static bool is_picture(const nsk_value *v) {
    return v->rank == 4 && v->dims[0] == 1;
}

bool nsk_plain_layout(const nsk_value *v, nsk_lowered_tensor *layout) {
    int64_t axis[3] = {1, 1, 1}; /* height, width, channels */
    if (is_picture(v)) {
        axis[0] = v->dims[2];
        axis[1] = v->dims[3];
        axis[2] = v->dims[1];
    } else {
        for (int i = v->rank - 1, k = 2; i >= 0; i--, k -= k > 0) {
            axis[k] *= v->dims[i];
        }
    }
    layout->height = (int)axis[0];
    layout->width = (int)axis[1];
    layout->channels = (int)axis[2];
    return axis[0] <= MOST_AXIS && axis[1] <= MOST_AXIS && axis[2] <= MOST_AXIS;
}

int32_t nsk_plain_place(const nsk_value *v, size_t element) {
    if (!is_picture(v)) {
        return (int32_t)element;
    }
    size_t plane = (size_t)(v->dims[2] * v->dims[3]);
    return (int32_t)(element % plane * (size_t)v->dims[1] + element / plane);
}

nsk_planes nsk_plain_planes(const nsk_value *v) {
    bool picture = is_picture(v);
    nsk_planes p = {picture ? (size_t)v->dims[1] : 1,
                    picture ? (size_t)(v->dims[2] * v->dims[3]) : nsk_value_count(v)};
    return p;
}

int32_t *nsk_own_order(size_t count) {
    int32_t *order = g_new0(int32_t, count);
    for (size_t i = 0; i < count; i++) {
        order[i] = (int32_t)i;
    }
    return order;
}

/* ---- tensors and layers ---- */

int nsk_translation_add_tensor(nsk_translation *l, const nsk_node *node, int value, int64_t height,
                               int64_t width, int64_t channels) {
    if (height > MOST_AXIS || width > MOST_AXIS || channels > MOST_AXIS) {
        nsk_no_integer_form(l, node, "an axis is longer than 65535");
        return NSK_NONE;
    }
    const nsk_lowered_tensor t = {.value = value,
                                  .height = (int)height,
                                  .width = (int)width,
                                  .channels = (int)channels,
                                  .shares = NSK_NONE,
                                  .alias_of = NSK_NONE};
    g_array_append_val(l->result->tensors, t);
    return (int)l->result->tensors->len - 1;
}

int nsk_view_new(nsk_translation *l, const nsk_node *node, int value) {
    nsk_lowered_tensor t;
    const nsk_value *v = nsk_graph_value(l->graph, value);
    if (!nsk_plain_layout(v, &t)) {
        nsk_no_integer_form(l, node, "an axis is longer than 65535");
        return NSK_NONE;
    }
    return l->views[value].tensor =
               nsk_translation_add_tensor(l, node, value, t.height, t.width, t.channels);
}

nsk_lowered_layer *nsk_translation_add_layer(nsk_translation *l, const nsk_node *node,
                                             nsk_kind kind, int in, int out) {
    nsk_lowered_layer layer = {.kind = kind,
                               .name = node->name,
                               .in = in,
                               .second = NSK_NONE,
                               .out = out,
                               .sign = {1, 1},
                               .joins_at = NSK_NONE,
                               .low = -INFINITY,
                               .high = INFINITY};
    g_array_append_val(l->result->layers, layer);
    return nsk_lowered_layer_at(l->result, (int)l->result->layers->len - 1);
}

/* ---- copies ---- */

/* How many of the first numbers are equally far apart in both lists, `apart` being how far. */
static size_t run_length(size_t count, const int32_t *in, const int32_t *out, size_t every,
                         int32_t *apart) {
    size_t length = 1;
    apart[0] = count > 1 ? in[every] - in[0] : 0;
    apart[1] = count > 1 ? out[every] - out[0] : 0;
    while (length < count && in[length * every] - in[(length - 1) * every] == apart[0] &&
           out[length * every] - out[(length - 1) * every] == apart[1]) {
        length++;
    }
    return length;
}

/* Whether all runs of that length are like the first. */
static bool runs_alike(size_t count, const int32_t *numbers, size_t every, size_t length,
                       int32_t apart) {
    for (size_t i = 0; i < count; i++) {
        if (i % length != 0 && numbers[i * every] - numbers[(i - 1) * every] != apart) {
            return false;
        }
    }
    return true;
}

/* Finds the nested loops that walk both lists; 0 where there are none. A run of the innermost loop
 * goes on as far as it can: where it runs into the next, the two are one loop everywhere. */
static int find_loops(size_t count, const int32_t *in, const int32_t *out, int32_t *loops) {
    size_t every = 1;
    int found = 0;
    do {
        int32_t apart[2];
        size_t length = run_length(count, in, out, every, apart);
        if (found == NSK_MOST_LOOPS || count % length != 0 ||
            !runs_alike(count, in, every, length, apart[0]) ||
            !runs_alike(count, out, every, length, apart[1]) || (length == 1 && count > 1)) {
            return 0;
        }
        loops[3 * found] = (int32_t)length;
        loops[3 * found + 1] = apart[0];
        loops[3 * found + 2] = apart[1];
        found++;
        count /= length;
        every *= length;
    } while (count > 1);
    return found;
}

nsk_lowered_layer *nsk_view_copy(nsk_translation *l, const nsk_node *node, int from, int to,
                                 size_t count, const int32_t *in, const int32_t *out) {
    int32_t loops[3 * NSK_MOST_LOOPS] = {0};
    int found = find_loops(count, in, out, loops);
    if (found == 0) {
        nsk_no_integer_form(l, node,
                            "its elements move in no regular pattern; simplify it when "
                            "exporting");
        return NULL;
    }
    nsk_lowered_layer *layer = nsk_translation_add_layer(l, node, NSK_KIND_COPY, from, to);
    layer->loops = found;
    layer->moves = g_new0(int32_t, NSK_M_LOOPS + 3 * (gsize)found);
    layer->moves[NSK_M_IN_ORIGIN] = in[0];
    layer->moves[NSK_M_OUT_ORIGIN] = out[0];
    memcpy(layer->moves + NSK_M_LOOPS, loops, 3 * (size_t)found * sizeof *loops);
    return layer;
}

/* ---- views ---- */

/* What order it is where element i stands at at[i]. */
static nsk_order order_of(const nsk_value *v, const nsk_lowered_tensor *t, const int32_t *at) {
    nsk_lowered_tensor layout;
    bool onnx = true;
    bool plain = nsk_plain_layout(v, &layout) && layout.height == t->height &&
                 layout.width == t->width && layout.channels == t->channels;
    for (size_t i = 0; i < nsk_value_count(v) && (onnx || plain); i++) {
        onnx = onnx && at[i] == (int32_t)i;
        plain = plain && at[i] == nsk_plain_place(v, i);
    }
    return plain ? NSK_ORDER_PLAIN : onnx ? NSK_ORDER_OF_ONNX : NSK_ORDER_OTHER;
}

void nsk_view_set(nsk_translation *l, int value, int tensor, int32_t *source) {
    if (source != NULL) {
        nsk_lowered_tensor *t = nsk_lowered_tensor_at(l->result, tensor);
        t->order = order_of(nsk_graph_value(l->graph, value), t, source);
    }
    l->views[value] = (nsk_view){tensor, source};
}

/* The order of a tensor whose element i is what stands at places[i] where the value is seen now. */
static nsk_order order_gathered(const nsk_translation *l, int value, const nsk_lowered_tensor *t,
                                const int32_t *places) {
    const nsk_value *v = nsk_graph_value(l->graph, value);
    const size_t count = nsk_value_count(v);
    if (count != (size_t)t->height * (size_t)t->width * (size_t)t->channels) {
        return NSK_ORDER_OTHER;
    }
    int32_t *now = nsk_view_places(l, value);
    bool onnx = true;
    bool plain = true;
    for (size_t i = 0; i < count && (onnx || plain); i++) {
        onnx = onnx && places[i] == now[i];
        plain = plain && places[nsk_plain_place(v, i)] == now[i];
    }
    int32_t *order = nsk_own_order(count);
    for (size_t i = 0; i < count && plain; i++) {
        order[i] = nsk_plain_place(v, i);
    }
    nsk_order found = onnx || plain ? order_of(v, t, order) : NSK_ORDER_OTHER;
    g_free(order);
    g_free(now);
    return found;
}

int32_t *nsk_view_places(const nsk_translation *l, int value) {
    const nsk_value *v = nsk_graph_value(l->graph, value);
    const int32_t *source = l->views[value].source;
    size_t count = nsk_value_count(v);
    int32_t *places = g_new0(int32_t, count + 1);
    for (size_t i = 0; i < count; i++) {
        places[i] = source != NULL ? source[i] : nsk_plain_place(v, i);
    }
    return places;
}

int nsk_view_gather(nsk_translation *l, const nsk_node *node, int value, int tensor,
                    const int32_t *places, const nsk_lowered_tensor *layout) {
    size_t count = (size_t)layout->height * (size_t)layout->width * (size_t)layout->channels;
    const nsk_lowered_tensor *old = nsk_lowered_tensor_at(l->result, tensor);
    bool still = count == (size_t)old->height * (size_t)old->width * (size_t)old->channels;
    int32_t *order = g_new0(int32_t, count);
    for (size_t i = 0; i < count; i++) {
        order[i] = (int32_t)i;
        still = still && places[i] == order[i];
    }
    bool same = still && old->height == layout->height && old->width == layout->width;
    int made = same ? tensor
                    : nsk_translation_add_tensor(l, node, value, layout->height, layout->width,
                                                 layout->channels);
    if (!same && made != NSK_NONE) {
        nsk_lowered_tensor *t = nsk_lowered_tensor_at(l->result, made);
        t->shares = tensor;
        t->order = order_gathered(l, value, t, places);
        if (still) {
            nsk_lowered_tensor_at(l->result, made)->alias_of = tensor;
        } else if (nsk_view_copy(l, node, tensor, made, count, places, order) == NULL) {
            made = NSK_NONE;
        }
    }
    g_free(order);
    return made;
}

static bool is_finite(const nsk_value *v) {
    for (size_t i = 0; i < nsk_value_count(v); i++) {
        if (!isfinite(v->data[i])) {
            return false;
        }
    }
    return true;
}

static int constant_tensor(nsk_translation *l, const nsk_node *node, int value) {
    const nsk_value *v = nsk_graph_value(l->graph, value);
    if (!is_finite(v)) {
        nsk_no_integer_form(l, node,
                            "a constant that it meets holds infinite numbers, as masks do; "
                            "-10 for minus infinity shuts as well before a Softmax");
        return NSK_NONE;
    }
    int tensor = nsk_view_new(l, node, value);
    if (tensor == NSK_NONE) {
        return NSK_NONE;
    }
    size_t count = nsk_value_count(v);
    nsk_lowered_layer *layer =
        nsk_translation_add_layer(l, node, NSK_KIND_CONSTANT, tensor, tensor);
    layer->values = g_new(float, count);
    layer->value_count = (int)count;
    for (size_t i = 0; i < count; i++) {
        layer->values[nsk_plain_place(v, i)] = v->data[i];
    }
    return tensor;
}

int nsk_view_any(nsk_translation *l, const nsk_node *node, int value) {
    int tensor = l->views[value].tensor;
    return tensor != NSK_NONE ? tensor : nsk_view_plain(l, node, value);
}

int nsk_view_plain(nsk_translation *l, const nsk_node *node, int value) {
    nsk_view *view = &l->views[value];
    const nsk_value *v = nsk_graph_value(l->graph, value);
    if (view->tensor == NSK_NONE && v->data != NULL) {
        return constant_tensor(l, node, value);
    }
    if (view->tensor == NSK_NONE || view->source == NULL) {
        return view->tensor;
    }
    nsk_lowered_tensor layout;
    if (!nsk_plain_layout(v, &layout)) {
        nsk_no_integer_form(l, node, "an axis is longer than 65535");
        return NSK_NONE;
    }
    size_t count = nsk_value_count(v);
    int32_t *places = g_new0(int32_t, count + 1);
    for (size_t i = 0; i < count; i++) {
        places[nsk_plain_place(v, i)] = view->source[i];
    }
    int tensor = nsk_view_gather(l, node, value, view->tensor, places, &layout);
    g_free(places);
    if (tensor != NSK_NONE) {
        g_free(view->source);
        *view = (nsk_view){tensor, NULL};
    }
    return tensor;
}

int nsk_view_whole(nsk_translation *l, const nsk_node *node, int value, int32_t **places) {
    const nsk_view *view = &l->views[value];
    size_t count = nsk_value_count(nsk_graph_value(l->graph, value));
    if (view->source != NULL) {
        const nsk_lowered_tensor *t = nsk_lowered_tensor_at(l->result, view->tensor);
        bool all = count == (size_t)t->height * (size_t)t->width * (size_t)t->channels;
        bool *seen = g_new0(bool, count);
        for (size_t i = 0; i < count && all; i++) {
            all = !seen[view->source[i]];
            seen[view->source[i]] = true;
        }
        g_free(seen);
        if (!all) {
            nsk_view_plain(l, node, value);
        }
    }
    int tensor = view->tensor != NSK_NONE ? view->tensor : nsk_view_plain(l, node, value);
    *places = tensor != NSK_NONE ? nsk_view_places(l, value) : NULL;
    return tensor;
}
