/* Tensors whose levels have parts: those that were asked for, where all that touch them can. */
#include <string.h>

#include "lower/translation.h"

/* What a kind is called where tensors are fine; 0 where it takes none. A dense layer is a
 * convolution of the whole picture. */
static nsk_kind fine_kind(nsk_kind kind) {
    static const struct {
        nsk_kind from, to;
    } kinds[] = {{NSK_KIND_CONV, NSK_KIND_CONV_FINE},
                 {NSK_KIND_DENSE, NSK_KIND_CONV_FINE},
                 {NSK_KIND_DEPTHWISE, NSK_KIND_DEPTHWISE_FINE},
                 {NSK_KIND_LUT, NSK_KIND_LUT_FINE},
                 {NSK_KIND_ADD, NSK_KIND_ADD_FINE},
                 {NSK_KIND_NORMALISE, NSK_KIND_NORMALISE_FINE}};
    for (size_t i = 0; i < G_N_ELEMENTS(kinds); i++) {
        if (kind == kinds[i].from || kind == kinds[i].to) {
            return kinds[i].to;
        }
    }
    return (nsk_kind)0;
}

static bool reads(const nsk_lowered_layer *l, int tensor) {
    return l->in == tensor || l->second == tensor;
}

/* Numbers in a block: see device/normalise_fine.c. */
enum { MOST_NORMALISED = 4096 };

/* Whether a window can be as large as that. */
static bool is_window(const nsk_lowered_tensor *t) {
    return t->height <= 255 && t->width <= 255;
}

/* The layer that cannot take the tensor as a fine one, or NULL. */
static const nsk_lowered_layer *who_cannot(const nsk_lowered *lowered, int tensor) {
    for (int i = 0; i < (int)lowered->layers->len; i++) {
        const nsk_lowered_layer *l = nsk_lowered_layer_at(lowered, i);
        const nsk_lowered_tensor *out = nsk_lowered_tensor_at(lowered, l->out);
        bool logits = out->element != NSK_ELEMENT_8 && !out->fine;
        bool parted = out->slice || out->alias_of != NSK_NONE;
        bool large = l->kind == NSK_KIND_DENSE && !is_window(nsk_lowered_tensor_at(lowered, l->in));
        bool normalises = fine_kind(l->kind) == NSK_KIND_NORMALISE_FINE;
        bool coarse = normalises && (l->out == tensor || l->block > MOST_NORMALISED);
        if ((reads(l, tensor) || l->out == tensor) &&
            (fine_kind(l->kind) == 0 || logits || parted || large || coarse)) {
            return l;
        }
    }
    return NULL;
}

/* Whether other tensors stand in its bytes, or it in another's. */
static bool is_alone(const nsk_lowered *lowered, int tensor) {
    bool alone = nsk_lowered_tensor_at(lowered, tensor)->alias_of == NSK_NONE;
    for (int i = 0; i < (int)lowered->tensors->len && alone; i++) {
        alone = nsk_lowered_tensor_at(lowered, i)->alias_of != tensor;
    }
    return alone;
}

static void take_kind(const nsk_lowered *lowered, nsk_lowered_layer *l) {
    const nsk_lowered_tensor *in = nsk_lowered_tensor_at(lowered, l->in);
    if (l->kind == NSK_KIND_DENSE) {
        l->window = (nsk_window_attributes){
            .kernel = {in->height, in->width}, .stride = {1, 1}, .dilation = {1, 1}, .groups = 1};
    }
    l->kind = fine_kind(l->kind);
}

/* False, with a reason, where it cannot be; what the file itself rounded may stay as it is then. */
static bool make_fine(const nsk_translation *l, int tensor) {
    const nsk_lowered *lowered = l->result;
    const nsk_lowered_layer *other = who_cannot(lowered, tensor);
    nsk_lowered_tensor *t = nsk_lowered_tensor_at(lowered, tensor);
    const nsk_value *v = nsk_graph_value(l->graph, t->value);
    if (other != NULL || !is_alone(lowered, tensor)) {
        return v->pinned || nsk_fail(l->error,
                                     "[ranges] %s = fine: '%s', which writes or reads it, takes "
                                     "levels of 8 bits only; convolutions, dense layers but the "
                                     "last, functions and sums take finer ones",
                                     nsk_graph_producer(l->graph, t->value)->name,
                                     other != NULL ? other->name : "a reshape");
    }
    t->element = NSK_ELEMENT_16;
    t->fine = true;
    for (int i = 0; i < (int)lowered->layers->len; i++) {
        nsk_lowered_layer *layer = nsk_lowered_layer_at(lowered, i);
        if (reads(layer, tensor) || layer->out == tensor) {
            take_kind(lowered, layer);
        }
    }
    return true;
}

/* A value that no layer writes as it is (it is a view of another, or part of the layer behind it)
 * cannot be finer than that. */
static bool has_layer(const nsk_translation *l, int value) {
    bool found = false;
    for (int i = 0; i < (int)l->result->layers->len && !found; i++) {
        int tensor = nsk_lowered_layer_at(l->result, i)->out;
        found = nsk_lowered_tensor_at(l->result, tensor)->value == value;
    }
    return found;
}

static bool all_have_layers(const nsk_translation *l) {
    for (int i = 0; i < (int)l->graph->values->len; i++) {
        const nsk_value *v = nsk_graph_value(l->graph, i);
        bool asked = v->fine && !v->pinned && v->producer != NSK_NONE;
        if (asked && !has_layer(l, i)) {
            return nsk_fail(l->error,
                            "[ranges] %s = fine: it is no layer of its own in integers; name the "
                            "one before or behind it",
                            nsk_graph_producer(l->graph, i)->name);
        }
    }
    return true;
}

bool nsk_translation_make_fine(nsk_translation *l) {
    bool good = all_have_layers(l);
    for (int i = 0; i < (int)l->result->layers->len && good; i++) {
        int tensor = nsk_lowered_layer_at(l->result, i)->out;
        const nsk_lowered_tensor *t = nsk_lowered_tensor_at(l->result, tensor);
        if (nsk_graph_value(l->graph, t->value)->fine && !t->fine) {
            good = make_fine(l, tensor);
        }
    }
    return good;
}
