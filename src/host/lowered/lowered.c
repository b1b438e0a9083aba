#include "lowered/lowered.h"

nsk_lowered_tensor *nsk_lowered_tensor_at(const nsk_lowered *lowered, int tensor) {
    return &g_array_index(lowered->tensors, nsk_lowered_tensor, tensor);
}

nsk_lowered_layer *nsk_lowered_layer_at(const nsk_lowered *lowered, int layer) {
    return &g_array_index(lowered->layers, nsk_lowered_layer, layer);
}

int nsk_lowered_row_bytes(const nsk_lowered_tensor *tensor) {
    return (tensor->width * tensor->channels) << tensor->element;
}

int nsk_lowered_tensor_root(const nsk_lowered *lowered, int tensor) {
    int in = nsk_lowered_tensor_at(lowered, tensor)->alias_of;
    return in == NSK_NONE ? tensor : nsk_lowered_tensor_root(lowered, in);
}

void nsk_lowered_free(nsk_lowered *lowered) {
    if (lowered == NULL) {
        return;
    }
    for (int i = 0; i < (int)lowered->layers->len; i++) {
        const nsk_lowered_layer *layer = nsk_lowered_layer_at(lowered, i);
        g_free(layer->weights);
        g_free(layer->bias);
        g_free(layer->levels);
        g_free(layer->multipliers);
        g_free(layer->steps);
        g_free(layer->gains);
        g_free(layer->offsets);
        g_free(layer->moves);
        g_free(layer->values);
        g_free(layer->blends);
    }
    g_array_free(lowered->tensors, TRUE);
    g_array_free(lowered->layers, TRUE);
    g_free(lowered);
}

/* Whether another tensor stands in its bytes or has its scale, or it in another's. */
static bool is_tied(const nsk_lowered *lowered, int tensor) {
    for (int i = 0; i < (int)lowered->tensors->len; i++) {
        const nsk_lowered_tensor *t = nsk_lowered_tensor_at(lowered, i);
        if (i == tensor ? t->alias_of != NSK_NONE || t->shares != NSK_NONE
                        : t->alias_of == tensor || t->shares == tensor) {
            return true;
        }
    }
    return false;
}

nsk_kind nsk_lowered_device_kind(const nsk_lowered_layer *l) {
    return l->bits == 0               ? l->kind
           : l->kind == NSK_KIND_CONV ? NSK_KIND_CONV_PACKED
                                      : NSK_KIND_DENSE_PACKED;
}

bool nsk_lowered_has_scratch(const nsk_lowered_layer *l) {
    return l->second != NSK_NONE && (l->kind == NSK_KIND_CONV || l->kind == NSK_KIND_DEPTHWISE ||
                                     l->kind == NSK_KIND_CONV_FINE || l->bits > 0);
}

int nsk_lowered_most_level(const nsk_lowered_layer *l) {
    return l->bits > 0 ? (1 << (l->bits - 1)) - 1 : 127;
}

bool nsk_lowered_is_depthwise(const nsk_lowered_layer *l) {
    return l->kind == NSK_KIND_DEPTHWISE || l->kind == NSK_KIND_DEPTHWISE_FINE;
}

const nsk_lowered_layer *nsk_lowered_reader(const nsk_lowered *lowered, int tensor) {
    const nsk_lowered_layer *reader = NULL;
    if (is_tied(lowered, tensor) || lowered->output == tensor) {
        return NULL;
    }
    for (int i = 0; i < (int)lowered->layers->len; i++) {
        const nsk_lowered_layer *l = nsk_lowered_layer_at(lowered, i);
        if (l->in == tensor || l->second == tensor) {
            if (reader != NULL || (l->kind != NSK_KIND_LUT && l->kind != NSK_KIND_LUT_FINE)) {
                return NULL;
            }
            reader = l;
        }
    }
    return reader;
}
