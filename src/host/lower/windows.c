/* Lowering windows without weights, and operators along axes. */
#include "lower/translation.h"

#include <math.h>

#include "device/arithmetic.h"
#include "graph/rearrange.h"
#include "graph/resize.h"

/* ---- windows without weights ---- */

bool nsk_lower_average_pool(nsk_translation *l, const nsk_node *node) {
    return !nsk_translation_is_batch(l, node) && nsk_translation_window_fits(l, node) &&
           nsk_translation_add(l, node, NSK_KIND_AVERAGE_POOL,
                               nsk_view_plain(l, node, node->input[0])) != NULL;
}

bool nsk_lower_max_pool(nsk_translation *l, const nsk_node *node) {
    return !nsk_translation_is_batch(l, node) && nsk_translation_window_fits(l, node) &&
           nsk_translation_share_scale(
               l, nsk_translation_add(l, node, NSK_KIND_MAX_POOL,
                                      nsk_view_plain(l, node, node->input[0])));
}

bool nsk_lower_resize(nsk_translation *l, const nsk_node *node) {
    if (nsk_translation_is_batch(l, node)) {
        return false;
    }
    nsk_lowered_layer *layer =
        nsk_translation_add(l, node, NSK_KIND_RESIZE, nsk_view_plain(l, node, node->input[0]));
    if (!nsk_translation_share_scale(l, layer)) {
        return false;
    }
    const nsk_value *out = nsk_graph_value(l->graph, node->output);
    layer->blends = g_new(uint16_t, 3 * (gsize)(out->dims[2] + out->dims[3]));
    for (int64_t i = 0; i < out->dims[2] + out->dims[3]; i++) {
        bool row = i < out->dims[2];
        nsk_blend b = nsk_blend_at(l->graph, node, row ? 2 : 3, row ? i : i - out->dims[2]);
        layer->blends[3 * i] = (uint16_t)b.first;
        layer->blends[3 * i + 1] = (uint16_t)b.second;
        layer->blends[3 * i + 2] = (uint16_t)floor(b.part * NSK_BLEND_ONE + 0.5);
    }
    return true;
}

/* ---- along axes ---- */

/* Two factors of `count` that a window can have as height and width. */
static bool window_of(int64_t count, int64_t *height, int64_t *width) {
    for (*width = MIN(count, 255); *width > 0; (*width)--) {
        *height = count / *width;
        if (count % *width == 0) {
            return *height <= 255;
        }
    }
    return false;
}

/* Where an element of the input stands once the axes that are reduced come first, and what remains
 * behind them in the output's plain layout. */
static int32_t reduced_place(const nsk_value *in, const nsk_value *out, const bool *marked,
                             size_t element, size_t outputs) {
    size_t at = 0; /* among the reduced, and in the output */
    size_t rest = 0;
    size_t at_step = 1;
    size_t rest_step = 1;
    for (int axis = in->rank - 1; axis >= 0; axis--) {
        size_t size = (size_t)in->dims[axis];
        size_t along = element % size;
        element /= size;
        *(marked[axis] ? &at : &rest) += along * (marked[axis] ? at_step : rest_step);
        *(marked[axis] ? &at_step : &rest_step) *= size;
    }
    return (int32_t)(at * outputs) + nsk_plain_place(out, rest);
}

bool nsk_lower_reduce(nsk_translation *l, const nsk_node *node) {
    const nsk_value *in = nsk_translation_input(l, node, 0);
    const nsk_value *out = nsk_graph_value(l->graph, node->output);
    bool marked[NSK_MOST_RANK];
    size_t outputs = nsk_value_count(out);
    int64_t each = (int64_t)(nsk_value_count(in) / outputs);
    nsk_lowered_tensor layout = {.channels = (int)outputs};
    int64_t height;
    int64_t width;
    if (outputs > 65535 || !window_of(each, &height, &width) ||
        !nsk_axes_of(l->graph, node, node->attributes.none_means_all, marked, l->error)) {
        return nsk_no_integer_form(l, node,
                                   "it has too many results, or spans more elements than a "
                                   "window of 255 x 255");
    }
    bool picture = in->rank == 4 && in->dims[0] == 1 && marked[2] && marked[3] && !marked[1] &&
                   in->dims[2] <= 255 && in->dims[3] <= 255;
    layout.height = (int)(picture ? in->dims[2] : height);
    layout.width = (int)(picture ? in->dims[3] : width);
    int32_t *sources = nsk_view_places(l, node->input[0]);
    int32_t *places = g_new(int32_t, nsk_value_count(in));
    for (size_t i = 0; i < nsk_value_count(in); i++) {
        places[reduced_place(in, out, marked, i, outputs)] = sources[i];
    }
    int from =
        nsk_view_gather(l, node, node->input[0], l->views[node->input[0]].tensor, places, &layout);
    g_free(sources);
    g_free(places);
    bool peak = node->op == NSK_OP_REDUCE_MAX || node->op == NSK_OP_REDUCE_MIN;
    nsk_lowered_layer *layer =
        nsk_translation_add_pixel(l, node, peak ? NSK_KIND_MAX_POOL : NSK_KIND_AVERAGE_POOL, from);
    if (layer == NULL) {
        return false;
    }
    layer->window = (nsk_window_attributes){
        .kernel = {layout.height, layout.width}, .stride = {1, 1}, .dilation = {1, 1}, .groups = 1};
    layer->total = node->op == NSK_OP_REDUCE_SUM;
    layer->least = node->op == NSK_OP_REDUCE_MIN;
    return !peak || nsk_translation_share_scale(l, layer);
}

/* Softmax runs over the channels: the axes that it covers are brought there. */
bool nsk_lower_softmax(nsk_translation *l, const nsk_node *node) {
    const nsk_value *in = nsk_translation_input(l, node, 0);
    size_t count = nsk_value_count(in);
    size_t along = 1;
    size_t behind = 1;
    for (int i = (int)node->attributes.axis; i < in->rank; i++) {
        bool part = i == node->attributes.axis || node->attributes.flatten_from_axis;
        *(part ? &along : &behind) *= (size_t)in->dims[i];
    }
    nsk_lowered_tensor layout = {
        .height = 1, .channels = (int)along, .width = (int)(count / along)};
    if (in->rank == 4 && in->dims[0] == 1 && node->attributes.axis == 1 && behind > 1) {
        layout.height = (int)in->dims[2];
        layout.width = (int)(count / along) / layout.height;
    }
    if (layout.channels > 65535 || layout.width > 65535) {
        return nsk_no_integer_form(l, node, "an axis is longer than 65535");
    }
    int32_t *sources = nsk_view_places(l, node->input[0]);
    int32_t *places = g_new(int32_t, count);
    int32_t *back = g_new(int32_t, count);
    for (size_t i = 0; i < count; i++) {
        size_t line = i / (along * behind) * behind + i % behind;
        back[i] = (int32_t)(line * along + i / behind % along);
        places[back[i]] = sources[i];
    }
    int from =
        nsk_view_gather(l, node, node->input[0], l->views[node->input[0]].tensor, places, &layout);
    int to = from == NSK_NONE ? NSK_NONE
                              : nsk_translation_add_tensor(l, node, node->output, layout.height,
                                                           layout.width, layout.channels);
    g_free(sources);
    g_free(places);
    if (to == NSK_NONE) {
        g_free(back);
        return false;
    }
    nsk_translation_add_layer(l, node, NSK_KIND_SOFTMAX, from, to);
    nsk_view_set(l, node->output, to, back);
    return true;
}
