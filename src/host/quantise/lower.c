#include "quantise/lower.h"

#include <math.h>
#include <string.h>

#include "device/arithmetic.h"
#include "float/forward.h"
#include "float/kernel.h"
#include "graph/rearrange.h"
#include "quantise/views.h"

nsk_low_tensor *nsk_low_tensor_at(const nsk_lowered *lowered, int tensor) {
    return &g_array_index(lowered->tensors, nsk_low_tensor, tensor);
}

nsk_low_layer *nsk_low_layer_at(const nsk_lowered *lowered, int layer) {
    return &g_array_index(lowered->layers, nsk_low_layer, layer);
}

int nsk_low_tensor_root(const nsk_lowered *lowered, int tensor) {
    int in = nsk_low_tensor_at(lowered, tensor)->stands_in;
    return in == NSK_NONE ? tensor : nsk_low_tensor_root(lowered, in);
}

/* A layer from tensor `in` to a new one of the node's output, with the node's clamp. */
static nsk_low_layer *add_layer(nsk_lowering *l, const nsk_node *node, nsk_kind kind, int in) {
    int out = in != NSK_NONE ? nsk_view_new(l, node, node->output) : NSK_NONE;
    if (out == NSK_NONE) {
        return NULL;
    }
    nsk_low_layer *layer = nsk_low_layer_add(l, node, kind, in, out);
    layer->window = node->attributes.window;
    layer->low = node->low;
    layer->high = node->high;
    return layer;
}

/* The same, the new tensor being one pixel: its bytes stand as in the plain layout all the same. */
static nsk_low_layer *add_pixel_layer(nsk_lowering *l, const nsk_node *node, nsk_kind kind,
                                      int in) {
    const nsk_value *v = nsk_graph_value(l->graph, node->output);
    nsk_low_layer *layer = add_layer(l, node, kind, in);
    if (layer != NULL) {
        nsk_low_tensor *out = nsk_low_tensor_at(l->result, layer->out);
        if (out->height * out->width != 1) {
            l->views[node->output].source = nsk_view_places(l, node->output);
            out->height = out->width = 1;
            out->channels = (int)nsk_value_count(v);
        }
    }
    return layer;
}

/* The output takes the input's scale. */
static bool share_scale(const nsk_lowering *l, const nsk_low_layer *layer) {
    if (layer != NULL) {
        nsk_low_tensor_at(l->result, layer->out)->shares = layer->in;
    }
    return layer != NULL;
}

static const nsk_value *value_at(const nsk_lowering *l, const nsk_node *node, int input) {
    return nsk_node_input(l->graph, node, input);
}

/* ---- layers with weights ---- */

static float *bias_of(const nsk_lowering *l, const nsk_node *node, int channels) {
    const nsk_value *bias = value_at(l, node, 2);
    float *copy = g_new0(float, channels);
    for (int c = 0; bias != NULL && c < channels; c++) {
        copy[c] = bias->data[nsk_value_count(bias) == 1 ? 0 : c];
    }
    return copy;
}

/* The scales of weights that came out of int8, one an output channel; NULL where there are none. */
static float *steps_of(const nsk_lowering *l, const nsk_node *node, int axis, size_t channels) {
    const nsk_value *weight = value_at(l, node, 1);
    bool one = weight->step_count == 1;
    if (weight->steps == NULL ||
        (!one && (weight->step_axis != axis || (size_t)weight->step_count != channels))) {
        return NULL;
    }
    float *steps = g_new(float, channels);
    for (size_t c = 0; c < channels; c++) {
        steps[c] = weight->steps[one ? 0 : c];
        if (!(steps[c] > 0.0F)) {
            g_free(steps);
            return NULL;
        }
    }
    return steps;
}

static int product_axis(const nsk_node *node) {
    return node->op == NSK_OP_GEMM && node->attributes.transpose_b ? 0 : 1;
}

static bool weights_are_constant(const nsk_lowering *l, const nsk_node *node) {
    const nsk_value *bias = value_at(l, node, 2);
    return (value_at(l, node, 1)->data != NULL && (bias == NULL || bias->data != NULL)) ||
           nsk_no_integer_form(l, node, "its weights are computed; export them as constants");
}

static bool window_fits(const nsk_lowering *l, const nsk_node *node) {
    const nsk_window_attributes *w = &node->attributes.window;
    for (int axis = 0; axis < 2; axis++) {
        bool far = node->op != NSK_OP_CONV_TRANSPOSE &&
                   w->pad_before[axis] > (w->kernel[axis] - 1) * w->dilation[axis];
        if (w->kernel[axis] > 255 || w->stride[axis] > 255 || w->dilation[axis] > 255 ||
            w->pad_before[axis] > 255 || far) {
            return nsk_no_integer_form(l, node,
                                       "a kernel, stride, dilation or pad is over 255, or "
                                       "pads reach further than the kernel");
        }
    }
    return true;
}

static bool is_batch(const nsk_lowering *l, const nsk_node *node) {
    return value_at(l, node, 0)->dims[0] != 1 &&
           !nsk_no_integer_form(l, node, "it runs on several pictures at once");
}

/* From ONNX's [out][in][row][column] to the device's [out][row][column][in], or to
 * [row][column][out] for a depthwise convolution. */
static void turn_weights(nsk_low_layer *layer, const float *from, size_t outputs, size_t inputs,
                         size_t area) {
    bool depthwise = layer->kind == NSK_DEPTHWISE;
    layer->taps = (int)(inputs * area);
    layer->weights = g_new(float, outputs *inputs *area);
    for (size_t o = 0; o < outputs; o++) {
        for (size_t i = 0; i < inputs; i++) {
            for (size_t k = 0; k < area; k++) {
                size_t to = depthwise ? k * outputs + o : (o * area + k) * inputs + i;
                layer->weights[to] = from[(o * inputs + i) * area + k];
            }
        }
    }
}

static bool lower_conv(nsk_lowering *l, const nsk_node *node) {
    if (is_batch(l, node) || !weights_are_constant(l, node) || !window_fits(l, node)) {
        return false;
    }
    const nsk_value *weight = value_at(l, node, 1);
    bool depthwise = node->attributes.window.groups > 1 && weight->dims[1] == 1;
    nsk_low_layer *layer = add_layer(l, node, depthwise ? NSK_DEPTHWISE : NSK_CONV,
                                     nsk_view_plain(l, node, node->input[0]));
    if (layer != NULL) {
        layer->bias = bias_of(l, node, (int)weight->dims[0]);
        layer->steps = steps_of(l, node, 0, (size_t)weight->dims[0]);
        turn_weights(layer, weight->data, (size_t)weight->dims[0], (size_t)weight->dims[1],
                     (size_t)(weight->dims[2] * weight->dims[3]));
    }
    return layer != NULL;
}

/* ONNX keeps these weights as [in][out of the group][row][column]. */
static bool lower_conv_transpose(nsk_lowering *l, const nsk_node *node) {
    if (is_batch(l, node) || !weights_are_constant(l, node) || !window_fits(l, node)) {
        return false;
    }
    const nsk_value *weight = value_at(l, node, 1);
    nsk_low_layer *layer =
        add_layer(l, node, NSK_TRANSPOSED, nsk_view_plain(l, node, node->input[0]));
    if (layer == NULL) {
        return false;
    }
    size_t groups = (size_t)node->attributes.window.groups;
    size_t inputs = (size_t)weight->dims[0] / groups;
    size_t outputs = (size_t)weight->dims[1];
    size_t area = (size_t)(weight->dims[2] * weight->dims[3]);
    float *turned = g_new0(float, groups *outputs *inputs *area);
    for (size_t i = 0; i < groups * inputs; i++) {
        for (size_t o = 0; o < outputs; o++) {
            size_t to = ((i / inputs * outputs + o) * inputs + i % inputs) * area;
            memcpy(turned + to, weight->data + (i * outputs + o) * area, area * sizeof *turned);
        }
    }
    layer->bias = bias_of(l, node, (int)(groups * outputs));
    layer->steps = groups == 1 ? steps_of(l, node, 1, outputs) : NULL;
    turn_weights(layer, turned, groups * outputs, inputs, area);
    g_free(turned);
    return true;
}

/* A tensor that holds the value's elements in whatever order, and where each stands in it: a dense
 * layer's weights can follow any order. */
static int any_order(nsk_lowering *l, const nsk_node *node, int value, int32_t **places) {
    const nsk_view *view = &l->views[value];
    size_t count = nsk_value_count(nsk_graph_value(l->graph, value));
    if (view->source != NULL) {
        const nsk_low_tensor *t = nsk_low_tensor_at(l->result, view->tensor);
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

/* The weight of output `o` for input `i` of a product of matrices. */
static float product_weight(const nsk_node *node, const nsk_value *weight, size_t o, size_t i,
                            size_t outputs, size_t inputs) {
    bool turned = node->op == NSK_OP_GEMM && node->attributes.transpose_b;
    return weight->data[turned ? o * inputs + i : i * outputs + o];
}

/* One line of inputs. */
static bool lower_dense(nsk_lowering *l, const nsk_node *node, size_t outputs, size_t inputs) {
    int32_t *places;
    int in = any_order(l, node, node->input[0], &places);
    nsk_low_layer *layer = add_pixel_layer(l, node, NSK_DENSE, in);
    if (layer != NULL) {
        layer->taps = (int)inputs;
        layer->bias = bias_of(l, node, (int)outputs);
        layer->steps = steps_of(l, node, product_axis(node), outputs);
        layer->weights = g_new(float, outputs *inputs);
        for (size_t k = 0; k < outputs * inputs; k++) {
            size_t i = k % inputs;
            layer->weights[k / inputs * inputs + (size_t)places[i]] =
                product_weight(node, value_at(l, node, 1), k / inputs, i, outputs, inputs);
        }
    }
    g_free(places);
    return layer != NULL;
}

/* 0, 1, 2, ...: ONNX's own order. g_free. */
static int32_t *own_order(size_t count) {
    int32_t *order = g_new0(int32_t, count);
    for (size_t i = 0; i < count; i++) {
        order[i] = (int32_t)i;
    }
    return order;
}

/* Many lines: a convolution of one pixel, the lines being its pixels, in ONNX's order whatever the
 * plain layout is. */
static bool lower_lines(nsk_lowering *l, const nsk_node *node, size_t outputs, size_t inputs) {
    const nsk_value *in = value_at(l, node, 0);
    size_t lines = nsk_value_count(in) / inputs;
    size_t width = (size_t)in->dims[in->rank - 2];
    nsk_low_tensor layout = {
        .height = (int)(lines / width), .width = (int)width, .channels = (int)inputs};
    if (nsk_view_plain(l, node, node->input[0]) == NSK_NONE) {
        return false;
    }
    int32_t *places = nsk_view_places(l, node->input[0]);
    int from =
        nsk_view_gather(l, node, node->input[0], l->views[node->input[0]].tensor, places, &layout);
    g_free(places);
    int to = from != NSK_NONE ? nsk_low_tensor_add(l, node, node->output, layout.height,
                                                   layout.width, (int64_t)outputs)
                              : NSK_NONE;
    if (to == NSK_NONE) {
        return false;
    }
    l->views[node->output] = (nsk_view){to, own_order(lines * outputs)};
    nsk_low_layer *layer = nsk_low_layer_add(l, node, NSK_CONV, from, to);
    layer->low = node->low;
    layer->high = node->high;
    layer->window = (nsk_window_attributes){
        .kernel = {1, 1}, .stride = {1, 1}, .dilation = {1, 1}, .groups = 1};
    layer->taps = (int)inputs;
    layer->bias = bias_of(l, node, (int)outputs);
    layer->steps = steps_of(l, node, product_axis(node), outputs);
    layer->weights = g_new(float, outputs *inputs);
    for (size_t k = 0; k < outputs * inputs; k++) {
        layer->weights[k] =
            product_weight(node, value_at(l, node, 1), k / inputs, k % inputs, outputs, inputs);
    }
    return true;
}

static bool lower_product(nsk_lowering *l, const nsk_node *node) {
    const nsk_value *in = value_at(l, node, 0);
    const nsk_value *weight = value_at(l, node, 1);
    if (in->data != NULL || weight->data == NULL || weight->rank != 2) {
        return nsk_no_integer_form(l, node,
                                   "the right side must be a constant matrix; both of its "
                                   "inputs are computed, or the left is constant");
    }
    if (node->op == NSK_OP_GEMM && !weights_are_constant(l, node)) {
        return false;
    }
    size_t outputs = nsk_value_count(nsk_graph_value(l->graph, node->output));
    size_t inputs = (size_t)in->dims[in->rank - 1];
    size_t lines = nsk_value_count(in) / inputs;
    outputs /= lines;
    return lines == 1 ? lower_dense(l, node, outputs, inputs)
                      : lower_lines(l, node, outputs, inputs);
}

/* ---- windows without weights ---- */

static bool lower_average_pool(nsk_lowering *l, const nsk_node *node) {
    return !is_batch(l, node) && window_fits(l, node) &&
           add_layer(l, node, NSK_AVERAGE_POOL, nsk_view_plain(l, node, node->input[0])) != NULL;
}

static bool lower_max_pool(nsk_lowering *l, const nsk_node *node) {
    return !is_batch(l, node) && window_fits(l, node) &&
           share_scale(l,
                       add_layer(l, node, NSK_MAX_POOL, nsk_view_plain(l, node, node->input[0])));
}

static bool lower_resize(nsk_lowering *l, const nsk_node *node) {
    if (is_batch(l, node)) {
        return false;
    }
    nsk_low_layer *layer = add_layer(l, node, NSK_RESIZE, nsk_view_plain(l, node, node->input[0]));
    if (!share_scale(l, layer)) {
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

static bool lower_reduce(nsk_lowering *l, const nsk_node *node) {
    const nsk_value *in = value_at(l, node, 0);
    const nsk_value *out = nsk_graph_value(l->graph, node->output);
    bool marked[NSK_MOST_RANK];
    size_t outputs = nsk_value_count(out);
    int64_t each = (int64_t)(nsk_value_count(in) / outputs);
    nsk_low_tensor layout = {.channels = (int)outputs};
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
    nsk_low_layer *layer = add_pixel_layer(l, node, peak ? NSK_MAX_POOL : NSK_AVERAGE_POOL, from);
    if (layer == NULL) {
        return false;
    }
    layer->window = (nsk_window_attributes){
        .kernel = {layout.height, layout.width}, .stride = {1, 1}, .dilation = {1, 1}, .groups = 1};
    layer->total = node->op == NSK_OP_REDUCE_SUM;
    layer->least = node->op == NSK_OP_REDUCE_MIN;
    return !peak || share_scale(l, layer);
}

/* Softmax runs over the channels: the axes that it covers are brought there. */
static bool lower_softmax(nsk_lowering *l, const nsk_node *node) {
    const nsk_value *in = value_at(l, node, 0);
    size_t count = nsk_value_count(in);
    size_t along = 1;
    size_t behind = 1;
    for (int i = (int)node->attributes.axis; i < in->rank; i++) {
        bool part = i == node->attributes.axis || node->attributes.flatten_from_axis;
        *(part ? &along : &behind) *= (size_t)in->dims[i];
    }
    nsk_low_tensor layout = {.height = 1, .channels = (int)along, .width = (int)(count / along)};
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
                              : nsk_low_tensor_add(l, node, node->output, layout.height,
                                                   layout.width, layout.channels);
    g_free(sources);
    g_free(places);
    if (to == NSK_NONE) {
        g_free(back);
        return false;
    }
    nsk_low_layer_add(l, node, NSK_SOFTMAX, from, to);
    l->views[node->output] = (nsk_view){to, back};
    return true;
}

/* ---- element by element ---- */

static bool same_size(const nsk_low_tensor *a, const nsk_low_tensor *b) {
    return a->height == b->height && a->width == b->width && a->channels == b->channels;
}

/* The value spread to the size of the node's output. */
static int spread(nsk_lowering *l, const nsk_node *node, int value) {
    const nsk_value *out = nsk_graph_value(l->graph, node->output);
    const nsk_value *in = nsk_graph_value(l->graph, value);
    nsk_low_tensor layout;
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
static int operand(nsk_lowering *l, const nsk_node *node, int value, const nsk_low_tensor *layout) {
    const nsk_value *v = nsk_graph_value(l->graph, value);
    const nsk_value *out = nsk_graph_value(l->graph, node->output);
    if (v->rank == out->rank && nsk_value_count(v) == nsk_value_count(out)) {
        return nsk_view_plain(l, node, value);
    }
    if (!meets_each_pixel(v, out, layout->channels)) {
        return spread(l, node, value);
    }
    int tensor = nsk_view_plain(l, node, value);
    const nsk_low_tensor pixel = {.height = 1, .width = 1, .channels = (int)nsk_value_count(v)};
    int32_t *places = nsk_view_places(l, value);
    int made =
        tensor != NSK_NONE ? nsk_view_gather(l, node, value, tensor, places, &pixel) : NSK_NONE;
    g_free(places);
    return made;
}

static bool lower_pair(nsk_lowering *l, const nsk_node *node) {
    static const nsk_kind kinds[NSK_OPS] = {[NSK_OP_ADD] = NSK_ADD,
                                            [NSK_OP_SUB] = NSK_ADD,
                                            [NSK_OP_MUL] = NSK_MULTIPLY,
                                            [NSK_OP_MAX] = NSK_LARGER,
                                            [NSK_OP_MIN] = NSK_SMALLER};
    nsk_low_tensor out;
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
    if (!same_size(nsk_low_tensor_at(l->result, side[0]), &out) &&
        !same_size(nsk_low_tensor_at(l->result, side[1]), &out)) {
        side[0] = spread(l, node, node->input[0]);
    }
    int first =
        side[0] != NSK_NONE && same_size(nsk_low_tensor_at(l->result, side[0]), &out) ? 0 : 1;
    nsk_low_layer *layer = add_layer(l, node, kinds[node->op], side[first]);
    if (layer == NULL) {
        return false;
    }
    layer->second = side[1 - first];
    layer->sign[first == 0 ? 1 : 0] = node->op == NSK_OP_SUB ? -1 : 1;
    return true;
}

static bool lower_table(nsk_lowering *l, const nsk_node *node) {
    nsk_low_layer *layer = add_layer(l, node, NSK_TABLE, nsk_view_plain(l, node, node->input[0]));
    if (layer != NULL) {
        layer->program = node->program;
        nsk_clamp_of(l->graph, node, &layer->low, &layer->high);
    }
    return layer != NULL;
}

/* ---- moving elements ---- */

/* The same elements in the same order: a view. */
static bool lower_reshape(nsk_lowering *l, const nsk_node *node) {
    int32_t *places = nsk_view_places(l, node->input[0]);
    l->views[node->output] = (nsk_view){l->views[node->input[0]].tensor, places};
    return true;
}

static bool lower_movement(nsk_lowering *l, const nsk_node *node) {
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
static bool copy_part(nsk_lowering *l, const nsk_node *node, int tensor, int out, GArray *from,
                      GArray *to) {
    return nsk_view_copy(l, node, tensor, out, from->len, (const int32_t *)(void *)from->data,
                         (const int32_t *)(void *)to->data) != NULL;
}

/* Everything of the output that comes from the input; the rest is filled. */
static bool lower_pad(nsk_lowering *l, const nsk_node *node) {
    const nsk_value *filler = value_at(l, node, 2);
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
        nsk_low_layer *layer = nsk_low_layer_at(l->result, (int)l->result->layers->len - 1);
        layer->fills = true;
        layer->filler = filler != NULL && filler->data != NULL ? (double)filler->data[0] : 0.0;
        if (layer->filler == 0.0) {
            share_scale(l, layer);
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

/* One input of a concatenation: in the order in which it stands in the output. */
static bool lower_part(nsk_lowering *l, const nsk_node *node, int input, int64_t before,
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
    g_array_free(from, TRUE);
    g_array_free(to, TRUE);
    g_free(places);
    g_free(at);
    return good;
}

static bool lower_concat(nsk_lowering *l, const nsk_node *node) {
    int tensor = nsk_view_new(l, node, node->output);
    int64_t before = 0;
    bool good = tensor != NSK_NONE;
    for (int k = 0; k < node->inputs && good; k++) {
        good = lower_part(l, node, k, before, tensor);
        before += value_at(l, node, k)->dims[node->attributes.axis];
    }
    return good;
}

/* ---- what the device cannot do ---- */

static bool lower_norm(nsk_lowering *l, const nsk_node *node) {
    return nsk_no_integer_form(l, node,
                               "its statistics are computed; export the network for "
                               "inference");
}

static bool lower_log_softmax(nsk_lowering *l, const nsk_node *node) {
    return nsk_no_integer_form(l, node,
                               "only the network's last layer may be one; end in it, or "
                               "use Softmax");
}

static bool lower_pow(nsk_lowering *l, const nsk_node *node) {
    return nsk_no_integer_form(l, node,
                               "its exponent is not one constant number; multiply "
                               "instead, or use one exponent");
}

static bool lower_prelu(nsk_lowering *l, const nsk_node *node) {
    return nsk_no_integer_form(l, node, "its slopes are computed; export them as constants");
}

static bool lower_lrn(nsk_lowering *l, const nsk_node *node) {
    return nsk_no_integer_form(l, node, "more than 1024 channels; use batch normalisation instead");
}

static bool lower_node(nsk_lowering *l, const nsk_node *node) {
    static bool (*const lowers[NSK_OPS])(nsk_lowering *, const nsk_node *) = {
        [NSK_OP_ADD] = lower_pair,
        [NSK_OP_AVERAGE_POOL] = lower_average_pool,
        [NSK_OP_BATCH_NORM] = lower_norm,
        [NSK_OP_CLIP] = lower_table,
        [NSK_OP_CONCAT] = lower_concat,
        [NSK_OP_CONV] = lower_conv,
        [NSK_OP_CONV_TRANSPOSE] = lower_conv_transpose,
        [NSK_OP_FLATTEN] = lower_reshape,
        [NSK_OP_FUNCTION] = lower_table,
        [NSK_OP_GEMM] = lower_product,
        [NSK_OP_GLOBAL_AVERAGE_POOL] = lower_average_pool,
        [NSK_OP_GLOBAL_MAX_POOL] = lower_max_pool,
        [NSK_OP_LOG_SOFTMAX] = lower_log_softmax,
        [NSK_OP_LRN] = lower_lrn,
        [NSK_OP_MATMUL] = lower_product,
        [NSK_OP_MAX] = lower_pair,
        [NSK_OP_MAX_POOL] = lower_max_pool,
        [NSK_OP_MIN] = lower_pair,
        [NSK_OP_MUL] = lower_pair,
        [NSK_OP_PAD] = lower_pad,
        [NSK_OP_POW] = lower_pow,
        [NSK_OP_PRELU] = lower_prelu,
        [NSK_OP_REDUCE_MAX] = lower_reduce,
        [NSK_OP_REDUCE_MEAN] = lower_reduce,
        [NSK_OP_REDUCE_MIN] = lower_reduce,
        [NSK_OP_REDUCE_SUM] = lower_reduce,
        [NSK_OP_RELU] = lower_table,
        [NSK_OP_RESHAPE] = lower_reshape,
        [NSK_OP_RESIZE] = lower_resize,
        [NSK_OP_SOFTMAX] = lower_softmax,
        [NSK_OP_SQUEEZE] = lower_reshape,
        [NSK_OP_SUB] = lower_pair,
        [NSK_OP_UNSQUEEZE] = lower_reshape,
    };
    if (lowers[node->op] != NULL) {
        return lowers[node->op](l, node);
    }
    return nsk_only_moves(node->op) ? lower_movement(l, node)
                                    : nsk_no_integer_form(l, node, "the device has no such layer");
}

/* The output's tensor. A network that only looks at its input in another way gets a layer all the
 * same: one that copies it. */
static int output_tensor(nsk_lowering *l, const nsk_node *last) {
    int tensor = nsk_view_plain(l, last, l->graph->output);
    if (tensor == NSK_NONE || l->result->layers->len > 0) {
        return tensor;
    }
    const nsk_low_tensor t = *nsk_low_tensor_at(l->result, tensor);
    int32_t count = t.height * t.width * t.channels;
    int32_t *order = own_order((size_t)count);
    int copy = nsk_low_tensor_add(l, last, t.value, t.height, t.width, t.channels);
    nsk_low_tensor_at(l->result, copy)->shares = tensor;
    nsk_view_copy(l, last, tensor, copy, (size_t)count, order, order);
    g_free(order);
    return copy;
}

/* Larger ones would not open on the device, and take long to look at. */
static bool fits_device(const nsk_lowering *l, const nsk_node *node) {
    const size_t MOST_ELEMENTS = (size_t)1 << 24;
    return nsk_value_count(nsk_graph_value(l->graph, node->output)) <= MOST_ELEMENTS ||
           nsk_no_integer_form(l, node,
                               "its output has more than 2^24 elements; use smaller "
                               "pictures or fewer channels");
}

nsk_lowered *nsk_lower(const nsk_graph *graph, nsk_error *error) {
    nsk_lowered *lowered = g_new0(nsk_lowered, 1);
    lowered->tensors = g_array_new(FALSE, TRUE, sizeof(nsk_low_tensor));
    lowered->layers = g_array_new(FALSE, TRUE, sizeof(nsk_low_layer));
    nsk_lowering l = {graph, lowered, g_new0(nsk_view, graph->values->len), error};
    for (guint i = 0; i < graph->values->len; i++) {
        l.views[i].tensor = NSK_NONE;
    }
    const nsk_node *last = nsk_graph_producer(graph, graph->output);
    bool good = (last != NULL && !nsk_graph_is_constant(graph, graph->output)) ||
                nsk_fail(error, "the graph does nothing with its input");
    good = good && nsk_view_new(&l, last, graph->input) != NSK_NONE;
    for (int i = 0; i < (int)graph->nodes->len && good; i++) {
        const nsk_node *node = nsk_graph_node(graph, i);
        good = node->dead || (fits_device(&l, node) && lower_node(&l, node));
    }
    lowered->output = good ? output_tensor(&l, last) : NSK_NONE;
    good = lowered->output != NSK_NONE;
    for (guint i = 0; i < graph->values->len; i++) {
        g_free(l.views[i].source);
    }
    g_free(l.views);
    if (!good) {
        nsk_lowered_free(lowered);
        return NULL;
    }
    return lowered;
}

void nsk_lowered_free(nsk_lowered *lowered) {
    if (lowered == NULL) {
        return;
    }
    for (int i = 0; i < (int)lowered->layers->len; i++) {
        const nsk_low_layer *layer = nsk_low_layer_at(lowered, i);
        g_free(layer->weights);
        g_free(layer->bias);
        g_free(layer->steps);
        g_free(layer->moves);
        g_free(layer->blends);
    }
    g_array_free(lowered->tensors, TRUE);
    g_array_free(lowered->layers, TRUE);
    g_free(lowered);
}
