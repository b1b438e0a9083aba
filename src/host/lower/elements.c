/* Lowering operators that go element by element, and those that move elements. */
#include "lower/translation.h"

#include <string.h>

#include "float/forward.h"
#include "float/kernel.h"
#include "graph/rearrange.h"

/* ---- element by element ---- */

static bool same_size(const nsk_lowered_tensor *a, const nsk_lowered_tensor *b) {
    return a->height == b->height && a->width == b->width && a->channels == b->channels;
}

/* The value spread to the size of the node's output. */
static int spread(nsk_translation *l, const nsk_node *node, int value) {
    const nsk_value *out = nsk_graph_value(l->graph, node->output);
    const nsk_value *in = nsk_graph_value(l->graph, value);
    nsk_lowered_tensor layout;
    int tensor = nsk_view_plain(l, node, value);
    if (tensor == NSK_NONE || !nsk_plain_layout(out, &layout)) {
        return NSK_NONE;
    }
    size_t count = nsk_value_count(out);
    int32_t *places = g_new(int32_t, count);
    for (size_t i = 0; i < count; i++) {
        places[nsk_plain_place(out, i)] = nsk_plain_place(in, nsk_broadcast_at(out, in, i));
    }
    int made = nsk_view_gather(l, node, value, tensor, places, &layout);
    g_free(places);
    return made;
}

/* Whether the value meets each pixel of the output alike: one number, or one a channel. */
static bool meets_each_pixel(const nsk_value *v, const nsk_value *out, int channels) {
    size_t count = nsk_value_count(v);
    if (count != 1 && count != (size_t)channels) {
        return false;
    }
    for (size_t i = 0; i < nsk_value_count(out) && count > 1; i++) {
        if ((int32_t)nsk_broadcast_at(out, v, i) != nsk_plain_place(out, i) % channels) {
            return false;
        }
    }
    return true;
}

/* A tensor of the value that can meet the output: as large, one pixel, or one number. */
static int operand(nsk_translation *l, const nsk_node *node, int value,
                   const nsk_lowered_tensor *layout) {
    const nsk_value *v = nsk_graph_value(l->graph, value);
    const nsk_value *out = nsk_graph_value(l->graph, node->output);
    if (v->rank == out->rank && nsk_value_count(v) == nsk_value_count(out)) {
        return nsk_view_plain(l, node, value);
    }
    if (!meets_each_pixel(v, out, layout->channels)) {
        return spread(l, node, value);
    }
    int tensor = nsk_view_plain(l, node, value);
    const nsk_lowered_tensor pixel = {.height = 1, .width = 1, .channels = (int)nsk_value_count(v)};
    int32_t *places = nsk_view_places(l, value);
    int made =
        tensor != NSK_NONE ? nsk_view_gather(l, node, value, tensor, places, &pixel) : NSK_NONE;
    g_free(places);
    return made;
}

/* A layer from the tensor to one like it, for the node's output, whose elements stand alike. */
static nsk_lowered_layer *add_alike(nsk_translation *l, const nsk_node *node, nsk_kind kind,
                                    int tensor, const int32_t *places) {
    const nsk_lowered_tensor in = *nsk_lowered_tensor_at(l->result, tensor);
    const size_t count = nsk_value_count(nsk_graph_value(l->graph, node->output));
    int out = nsk_translation_add_tensor(l, node, node->output, in.height, in.width, in.channels);
    if (out == NSK_NONE) {
        return NULL;
    }
    nsk_view_set(l, node->output, out, g_memdup2(places, count * sizeof *places));
    nsk_lowered_layer *layer = nsk_translation_add_layer(l, node, kind, tensor, out);
    layer->low = node->low;
    layer->high = node->high;
    return layer;
}

/* Whether the value is looked at in an order that is not the plain one. */
static bool is_turned(const nsk_translation *l, int value) {
    return l->views[value].tensor != NSK_NONE && l->views[value].source != NULL;
}

/* Two values of one shape whose elements stand alike, in an order of their own, meet as they stand;
 * NULL, and no error, where they do not. */
static nsk_lowered_layer *pair_as_they_stand(nsk_translation *l, const nsk_node *node,
                                             nsk_kind kind) {
    const nsk_value *a = nsk_graph_value(l->graph, node->input[0]);
    const nsk_value *b = nsk_graph_value(l->graph, node->input[1]);
    if (!is_turned(l, node->input[0]) || !is_turned(l, node->input[1]) || a->rank != b->rank ||
        memcmp(a->dims, b->dims, (size_t)a->rank * sizeof *a->dims) != 0) {
        return NULL;
    }
    int32_t *places[2];
    int side[2];
    nsk_lowered_layer *layer = NULL;
    for (int i = 0; i < 2; i++) {
        side[i] = nsk_view_whole(l, node, node->input[i], &places[i]);
    }
    if (side[0] != NSK_NONE && side[1] != NSK_NONE &&
        same_size(nsk_lowered_tensor_at(l->result, side[0]),
                  nsk_lowered_tensor_at(l->result, side[1])) &&
        memcmp(places[0], places[1], nsk_value_count(a) * sizeof *places[0]) == 0) {
        layer = add_alike(l, node, kind, side[0], places[0]);
    }
    if (layer != NULL) {
        layer->second = side[1];
    }
    g_free(places[0]);
    g_free(places[1]);
    return layer;
}

bool nsk_lower_pair(nsk_translation *l, const nsk_node *node) {
    static const nsk_kind kinds[NSK_OPS] = {[NSK_OP_ADD] = NSK_KIND_ADD,
                                            [NSK_OP_SUB] = NSK_KIND_ADD,
                                            [NSK_OP_MUL] = NSK_KIND_MULTIPLY,
                                            [NSK_OP_MAX] = NSK_KIND_MAX,
                                            [NSK_OP_MIN] = NSK_KIND_MIN};
    nsk_lowered_tensor out;
    nsk_lowered_layer *alike = pair_as_they_stand(l, node, kinds[node->op]);
    if (alike != NULL) {
        alike->sign[1] = node->op == NSK_OP_SUB ? -1 : 1;
        return true;
    }
    if (!nsk_plain_layout(nsk_graph_value(l->graph, node->output), &out)) {
        return nsk_no_integer_form(l, node, "an axis is longer than 65535");
    }
    int side[2];
    for (int i = 0; i < 2; i++) {
        side[i] = operand(l, node, node->input[i], &out);
        if (side[i] == NSK_NONE) {
            return false;
        }
    }
    if (!same_size(nsk_lowered_tensor_at(l->result, side[0]), &out) &&
        !same_size(nsk_lowered_tensor_at(l->result, side[1]), &out)) {
        side[0] = spread(l, node, node->input[0]);
    }
    int first =
        side[0] != NSK_NONE && same_size(nsk_lowered_tensor_at(l->result, side[0]), &out) ? 0 : 1;
    nsk_lowered_layer *layer = nsk_translation_add(l, node, kinds[node->op], side[first]);
    if (layer == NULL) {
        return false;
    }
    layer->second = side[1 - first];
    layer->sign[first == 0 ? 1 : 0] = node->op == NSK_OP_SUB ? -1 : 1;
    return true;
}

bool nsk_lower_table(nsk_translation *l, const nsk_node *node) {
    int32_t *places = NULL;
    int whole =
        is_turned(l, node->input[0]) ? nsk_view_whole(l, node, node->input[0], &places) : NSK_NONE;
    nsk_lowered_layer *layer =
        whole != NSK_NONE
            ? add_alike(l, node, NSK_KIND_LUT, whole, places)
            : nsk_translation_add(l, node, NSK_KIND_LUT, nsk_view_plain(l, node, node->input[0]));
    g_free(places);
    if (layer != NULL) {
        layer->program = node->program;
        nsk_clamp_of(l->graph, node, &layer->low, &layer->high);
    }
    return layer != NULL;
}

/* ---- moving elements ---- */

/* The same elements in the same order: a view. */
bool nsk_lower_reshape(nsk_translation *l, const nsk_node *node) {
    int32_t *places = nsk_view_places(l, node->input[0]);
    l->views[node->output] = (nsk_view){l->views[node->input[0]].tensor, places};
    return true;
}

bool nsk_lower_movement(nsk_translation *l, const nsk_node *node) {
    size_t count = nsk_value_count(nsk_graph_value(l->graph, node->output));
    int32_t *sources = g_new(int32_t, count);
    int32_t *places = nsk_view_places(l, node->input[0]);
    nsk_sources_of(l->graph, node, sources);
    for (size_t i = 0; i < count; i++) {
        sources[i] = places[sources[i]];
    }
    g_free(places);
    l->views[node->output] = (nsk_view){l->views[node->input[0]].tensor, sources};
    return true;
}

/* Copies the elements from[i] of one tensor to to[i] of another. */
static bool copy_part(nsk_translation *l, const nsk_node *node, int tensor, int out, GArray *from,
                      GArray *to) {
    return nsk_view_copy(l, node, tensor, out, from->len, (const int32_t *)(void *)from->data,
                         (const int32_t *)(void *)to->data) != NULL;
}

/* Everything of the output that comes from the input; the rest is filled. */
bool nsk_lower_pad(nsk_translation *l, const nsk_node *node) {
    const nsk_value *filler = nsk_translation_input(l, node, 2);
    const nsk_value *out = nsk_graph_value(l->graph, node->output);
    size_t count = nsk_value_count(out);
    int32_t *sources = g_new(int32_t, count);
    int32_t *order = g_new0(int32_t, count); /* the output's elements as they stand in its tensor */
    int32_t *places = nsk_view_places(l, node->input[0]);
    GArray *from = g_array_new(FALSE, FALSE, sizeof(int32_t));
    GArray *to = g_array_new(FALSE, FALSE, sizeof(int32_t));
    nsk_sources_of(l->graph, node, sources);
    for (size_t i = 0; i < count; i++) {
        order[nsk_plain_place(out, i)] = (int32_t)i;
    }
    for (int32_t at = 0; at < (int32_t)count; at++) {
        int32_t source = sources[order[at]];
        if (source >= 0) {
            g_array_append_val(from, places[source]);
            g_array_append_val(to, at);
        }
    }
    int tensor = from->len > 0 ? nsk_view_new(l, node, node->output) : NSK_NONE;
    bool good =
        tensor != NSK_NONE && copy_part(l, node, l->views[node->input[0]].tensor, tensor, from, to);
    if (good) {
        nsk_lowered_layer *layer = nsk_lowered_layer_at(l->result, (int)l->result->layers->len - 1);
        layer->fills = true;
        layer->filler = filler != NULL && filler->data != NULL ? (double)filler->data[0] : 0.0;
        if (layer->filler == 0.0) {
            nsk_translation_share_scale(l, layer);
        }
    } else if (from->len == 0) {
        nsk_no_integer_form(l, node, "nothing of its input is left");
    }
    g_array_free(from, TRUE);
    g_array_free(to, TRUE);
    g_free(sources);
    g_free(order);
    g_free(places);
    return good;
}

/* Where element `element` of input `part`, `before` along the axis behind those before it, stands
 * in the output. */
static size_t joined_element(const nsk_value *in, const nsk_value *out, int axis, int64_t before,
                             size_t element) {
    size_t inner = 1;
    for (int i = axis + 1; i < in->rank; i++) {
        inner *= (size_t)in->dims[i];
    }
    size_t line = inner * (size_t)in->dims[axis];
    return element / line * inner * (size_t)out->dims[axis] + (size_t)before * inner +
           element % line;
}

/* Whether the input's pixels become some of the output's channels as they stand. */
static bool joins_channels(const nsk_translation *l, const nsk_node *node, int value) {
    nsk_lowered_tensor in;
    nsk_lowered_tensor out;
    return l->views[value].source == NULL &&
           nsk_plain_layout(nsk_graph_value(l->graph, value), &in) &&
           nsk_plain_layout(nsk_graph_value(l->graph, node->output), &out) &&
           in.height == out.height && in.width == out.width && in.channels < out.channels;
}

/* One input of a concatenation: in the order in which it stands in the output. */
static bool lower_part(nsk_translation *l, const nsk_node *node, int input, int64_t before,
                       int tensor) {
    int value = node->input[input];
    const nsk_value *in = nsk_graph_value(l->graph, value);
    const nsk_value *out = nsk_graph_value(l->graph, node->output);
    if (l->views[value].tensor == NSK_NONE && nsk_view_plain(l, node, value) == NSK_NONE) {
        return false;
    }
    size_t count = nsk_value_count(in);
    int32_t *places = nsk_view_places(l, value);
    int32_t *at = g_new(int32_t, nsk_value_count(out));
    memset(at, 0xff, nsk_value_count(out) * sizeof *at);
    GArray *from = g_array_new(FALSE, FALSE, sizeof(int32_t));
    GArray *to = g_array_new(FALSE, FALSE, sizeof(int32_t));
    for (size_t i = 0; i < count; i++) {
        size_t element = joined_element(in, out, (int)node->attributes.axis, before, i);
        at[nsk_plain_place(out, element)] = places[i];
    }
    for (int32_t i = 0; i < (int32_t)nsk_value_count(out); i++) {
        if (at[i] >= 0) {
            g_array_append_val(from, at[i]);
            g_array_append_val(to, i);
        }
    }
    bool good = copy_part(l, node, l->views[value].tensor, tensor, from, to);
    if (good && joins_channels(l, node, value)) {
        nsk_lowered_layer_at(l->result, (int)l->result->layers->len - 1)->joins_at = (int)before;
    }
    g_array_free(from, TRUE);
    g_array_free(to, TRUE);
    g_free(places);
    g_free(at);
    return good;
}

bool nsk_lower_concat(nsk_translation *l, const nsk_node *node) {
    int tensor = nsk_view_new(l, node, node->output);
    int64_t before = 0;
    bool good = tensor != NSK_NONE;
    for (int k = 0; k < node->inputs && good; k++) {
        good = lower_part(l, node, k, before, tensor);
        before += nsk_translation_input(l, node, k)->dims[node->attributes.axis];
    }
    return good;
}
