/* The table of operators, and what a network needs around them. */
#include "lower/lower.h"

#include <math.h>

#include "device/layer.h"
#include "device/scratch.h"
#include "float/kernel.h"
#include "lower/translation.h"

bool nsk_lower_norm(nsk_translation *l, const nsk_node *node) {
    return nsk_no_integer_form(l, node,
                               "its statistics are computed; export the network for "
                               "inference");
}

bool nsk_lower_log_softmax(nsk_translation *l, const nsk_node *node) {
    return nsk_no_integer_form(l, node,
                               "only the network's last layer may be one; end in it, or "
                               "use Softmax");
}

bool nsk_lower_pow(nsk_translation *l, const nsk_node *node) {
    return nsk_no_integer_form(l, node,
                               "its exponent is not one constant number; multiply "
                               "instead, or use one exponent");
}

bool nsk_lower_prelu(nsk_translation *l, const nsk_node *node) {
    return nsk_no_integer_form(l, node, "its slopes are computed; export them as constants");
}

bool nsk_lower_lrn(nsk_translation *l, const nsk_node *node) {
    return nsk_no_integer_form(l, node, "more than 1024 channels; use batch normalisation instead");
}

bool nsk_lower_none(nsk_translation *l, const nsk_node *node) {
    return nsk_no_integer_form(l, node, "the device has no such layer");
}

static bool lower_node(nsk_translation *l, const nsk_node *node) {
    static nsk_lower_operator *const lowers[NSK_OPS] = {
#define NSK_OP_ROW(NAME, onnx, least, most, computed, reader, shape, kernel, lower)                \
    nsk_lower_##lower,
#include "graph/ops.def"
    };
    return lowers[node->op](l, node);
}

/* The output's tensor. A network that only looks at its input in another way gets a layer all the
 * same: one that copies it. */
static int output_tensor(nsk_translation *l, const nsk_node *last) {
    int tensor = nsk_view_plain(l, last, l->graph->output);
    if (tensor == NSK_NONE || l->result->layers->len > 0) {
        return tensor;
    }
    const nsk_lowered_tensor t = *nsk_lowered_tensor_at(l->result, tensor);
    int32_t count = t.height * t.width * t.channels;
    int32_t *order = nsk_own_order((size_t)count);
    int copy = nsk_translation_add_tensor(l, last, t.value, t.height, t.width, t.channels);
    nsk_lowered_tensor_at(l->result, copy)->shares = tensor;
    nsk_view_copy(l, last, tensor, copy, (size_t)count, order, order);
    g_free(order);
    return copy;
}

/* ---- what it ends in ---- */

/* The last layer that writes the tensor. */
static nsk_lowered_layer *maker_of(const nsk_lowered *lowered, int tensor) {
    nsk_lowered_layer *found = NULL;
    for (int i = 0; i < (int)lowered->layers->len; i++) {
        nsk_lowered_layer *l = nsk_lowered_layer_at(lowered, i);
        found = l->out == tensor ? l : found;
    }
    return found;
}

/* Whether anything but its last reader would notice that the tensor's elements are wider. */
static bool is_read_once(const nsk_lowered *lowered, int tensor) {
    int readers = 0;
    for (int i = 0; i < (int)lowered->layers->len; i++) {
        const nsk_lowered_layer *l = nsk_lowered_layer_at(lowered, i);
        readers += (l->in == tensor) + (l->second == tensor);
    }
    for (int i = 0; i < (int)lowered->tensors->len; i++) {
        const nsk_lowered_tensor *t = nsk_lowered_tensor_at(lowered, i);
        readers += t->alias_of == tensor || t->shares == tensor ? 2 : 0;
    }
    return readers == 1;
}

/* A convolution of one window, all of the picture: a dense layer, whose weights stand as its own.
 */
static void make_dense(const nsk_lowered *lowered, nsk_lowered_layer *l) {
    const nsk_lowered_tensor *in = nsk_lowered_tensor_at(lowered, l->in);
    const nsk_lowered_tensor *out = nsk_lowered_tensor_at(lowered, l->out);
    const nsk_window_attributes *w = &l->window;
    bool whole = w->groups == 1 && w->kernel[0] == in->height && w->kernel[1] == in->width &&
                 w->dilation[0] == 1 && w->dilation[1] == 1 && w->pad_before[0] == 0 &&
                 w->pad_before[1] == 0 && out->height * out->width == 1;
    l->kind = l->kind == NSK_KIND_CONV && whole ? NSK_KIND_DENSE : l->kind;
}

/* What scores are made of has 16 bits where the layer before can write them, so that classes do not
 * tie; unless the file itself has rounded it. */
static void widen(const nsk_translation *l, int tensor) {
    nsk_lowered_tensor *t = nsk_lowered_tensor_at(l->result, tensor);
    nsk_lowered_layer *maker = maker_of(l->result, tensor);
    if (maker != NULL) {
        make_dense(l->result, maker);
    }
    bool can = maker != NULL &&
               (maker->kind == NSK_KIND_DENSE || maker->kind == NSK_KIND_AVERAGE_POOL) &&
               isinf(maker->low) && isinf(maker->high);
    if (can && t->alias_of == NSK_NONE && t->shares == NSK_NONE &&
        is_read_once(l->result, tensor) && !nsk_graph_value(l->graph, t->value)->pinned) {
        t->element = NSK_ELEMENT_16;
    }
}

/* A sigmoid alone, whose input may have more than 8 bits. */
static bool is_sigmoid(const nsk_lowered_layer *l) {
    return l->kind == NSK_KIND_LUT && l->program != NULL && l->program->count == 1 &&
           l->program->steps[0].fn == NSK_FN_SIGMOID && isinf(l->low) && isinf(l->high);
}

/* The last layer gives scores: a softmax and sigmoids become that layer, all else is taken as it
 * is. */
static bool end_in_scores(nsk_translation *l, const nsk_node *last) {
    int output = l->result->output;
    nsk_lowered_layer *maker = maker_of(l->result, output);
    const nsk_lowered_tensor *t = nsk_lowered_tensor_at(l->result, output);
    bool pixel = t->height * t->width == 1 && t->alias_of == NSK_NONE;
    bool softmax = maker != NULL && maker->kind == NSK_KIND_SOFTMAX && pixel;
    bool sigmoid =
        maker != NULL && is_sigmoid(maker) && pixel && !nsk_graph_value(l->graph, t->value)->pinned;
    if (softmax || sigmoid) {
        maker->kind = NSK_KIND_SCORES;
        maker->shares = softmax;
        maker->each = sigmoid;
        maker->program = NULL;
        widen(l, maker->in);
    } else {
        int scores =
            nsk_translation_add_tensor(l, last, t->value, 1, 1, t->height * t->width * t->channels);
        if (scores == NSK_NONE) {
            return false;
        }
        nsk_translation_add_layer(l, last, NSK_KIND_SCORES, output, scores);
        l->result->output = scores;
    }
    nsk_lowered_tensor_at(l->result, l->result->output)->element = NSK_ELEMENT_32;
    return true;
}

/* Larger ones would not open on the device, and take long to look at. */
static bool fits_device(const nsk_translation *l, const nsk_node *node) {
    const size_t MOST_ELEMENTS = (size_t)1 << 24;
    return nsk_value_count(nsk_graph_value(l->graph, node->output)) <= MOST_ELEMENTS ||
           nsk_no_integer_form(l, node,
                               "its output has more than 2^24 elements; use smaller "
                               "pictures or fewer channels");
}

/* What the device will ask of the layer. */
static int64_t scratch_bytes(const nsk_lowered *lowered, const nsk_lowered_layer *l) {
    const nsk_lowered_tensor *in = nsk_lowered_tensor_at(lowered, l->in);
    const nsk_lowered_tensor *out = nsk_lowered_tensor_at(lowered, l->out);
    const nsk_layer layer = {
        .kind = nsk_lowered_device_kind(l),
        .count = (uint32_t)l->window.groups,
        .in = {.height = (uint16_t)in->height,
               .width = (uint16_t)in->width,
               .channels = (uint16_t)in->channels},
        .out = {.height = (uint16_t)out->height,
                .width = (uint16_t)out->width,
                .channels = (uint16_t)out->channels},
        .kernel_height = (int32_t)l->window.kernel[0],
        .kernel_width = (int32_t)l->window.kernel[1],
        .stride_down = (int32_t)l->window.stride[0],
        .stride_across = (int32_t)l->window.stride[1],
        .dilate_down = (int32_t)l->window.dilation[0],
        .dilate_across = (int32_t)l->window.dilation[1],
    };
    return (int64_t)nsk_layer_scratch(&layer);
}

static bool fit_scratch_of(nsk_lowered *lowered, nsk_lowered_layer *l, nsk_error *error) {
    int64_t words = scratch_bytes(lowered, l) / 4;
    if (words > UINT16_MAX) {
        return nsk_fail(error,
                        "layer '%s' has no integer form: it would need more than 256 KiB of "
                        "scratch; give it a smaller kernel or fewer channels",
                        l->name);
    }
    if (nsk_lowered_has_scratch(l)) {
        nsk_lowered_tensor_at(lowered, l->second)->width = (int)words;
    } else if (words > 0) {
        const nsk_lowered_tensor scratch = {.value = nsk_lowered_tensor_at(lowered, l->in)->value,
                                            .height = 1,
                                            .width = (int)words,
                                            .channels = 4,
                                            .shares = l->in,
                                            .alias_of = NSK_NONE};
        l->second = (int)lowered->tensors->len;
        g_array_append_val(lowered->tensors, scratch);
    }
    return true;
}

bool nsk_lowered_fit_scratch(nsk_lowered *lowered, nsk_error *error) {
    bool good = true;
    for (int i = 0; i < (int)lowered->layers->len && good; i++) {
        good = fit_scratch_of(lowered, nsk_lowered_layer_at(lowered, i), error);
    }
    return good;
}

nsk_lowered *nsk_lower(const nsk_graph *graph, nsk_error *error) {
    nsk_lowered *lowered = g_new0(nsk_lowered, 1);
    lowered->tensors = g_array_new(FALSE, TRUE, sizeof(nsk_lowered_tensor));
    lowered->layers = g_array_new(FALSE, TRUE, sizeof(nsk_lowered_layer));
    nsk_translation l = {graph, lowered, g_new0(nsk_view, graph->values->len), error};
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
    good = lowered->output != NSK_NONE && end_in_scores(&l, last);
    good = good && nsk_translation_make_fine(&l) && nsk_lowered_fit_scratch(lowered, error);
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
