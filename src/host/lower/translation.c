#include "lower/translation.h"

/* A layer from tensor `in` to a new one of the node's output, with the node's clamp. */
nsk_lowered_layer *nsk_translation_add(nsk_translation *l, const nsk_node *node, nsk_kind kind,
                                       int in) {
    int out = in != NSK_NONE ? nsk_view_new(l, node, node->output) : NSK_NONE;
    if (out == NSK_NONE) {
        return NULL;
    }
    nsk_lowered_layer *layer = nsk_translation_add_layer(l, node, kind, in, out);
    layer->window = node->attributes.window;
    layer->low = node->low;
    layer->high = node->high;
    return layer;
}

/* The same, the new tensor being one pixel: its bytes stand as in the plain layout all the same. */
nsk_lowered_layer *nsk_translation_add_pixel(nsk_translation *l, const nsk_node *node,
                                             nsk_kind kind, int in) {
    const nsk_value *v = nsk_graph_value(l->graph, node->output);
    nsk_lowered_layer *layer = nsk_translation_add(l, node, kind, in);
    if (layer != NULL) {
        nsk_lowered_tensor *out = nsk_lowered_tensor_at(l->result, layer->out);
        if (out->height * out->width != 1) {
            l->views[node->output].source = nsk_view_places(l, node->output);
            out->height = out->width = 1;
            out->channels = (int)nsk_value_count(v);
        }
    }
    return layer;
}

/* The output takes the input's scale. */
bool nsk_translation_share_scale(const nsk_translation *l, const nsk_lowered_layer *layer) {
    if (layer != NULL) {
        nsk_lowered_tensor_at(l->result, layer->out)->shares = layer->in;
    }
    return layer != NULL;
}

const nsk_value *nsk_translation_input(const nsk_translation *l, const nsk_node *node, int input) {
    return nsk_node_input(l->graph, node, input);
}

bool nsk_translation_window_fits(const nsk_translation *l, const nsk_node *node) {
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

bool nsk_translation_is_batch(const nsk_translation *l, const nsk_node *node) {
    return nsk_translation_input(l, node, 0)->dims[0] != 1 &&
           !nsk_no_integer_form(l, node, "it runs on several pictures at once");
}
