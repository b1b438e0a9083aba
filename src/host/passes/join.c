#include "passes/join.h"

#include "device/layer.h"
#include "passes/schedule.h"

static bool is_pinned_apart(const nsk_graph *graph, const nsk_lowered_tensor *a,
                            const nsk_lowered_tensor *b) {
    const nsk_value *v = nsk_graph_value(graph, a->value);
    const nsk_value *w = nsk_graph_value(graph, b->value);
    return (v->pinned || w->pinned) &&
           (v->pinned != w->pinned || v->pinned_scale != w->pinned_scale ||
            v->pinned_zero != w->pinned_zero);
}

/* Whether nobody but layer `move` reads what stands in the tensor. */
static bool is_read_only_by(const nsk_lowered *lowered, int tensor, int move) {
    for (int i = 0; i < (int)lowered->layers->len; i++) {
        const nsk_lowered_layer *l = nsk_lowered_layer_at(lowered, i);
        bool reads =
            nsk_lowered_tensor_root(lowered, l->in) == tensor ||
            (l->second != NSK_NONE && nsk_lowered_tensor_root(lowered, l->second) == tensor);
        if (reads && i != move) {
            return false;
        }
    }
    return nsk_lowered_tensor_root(lowered, lowered->output) != tensor;
}

/* Whether everything that writes it could write a slice, too. A maximum has no scale of its own,
 * and a softmax only one; kinds that may write finer numbers leave no gaps. */
static bool can_be_slice(const nsk_lowered *lowered, int tensor) {
    const nsk_lowered_tensor *t = nsk_lowered_tensor_at(lowered, tensor);
    bool pixel = t->height * t->width == 1;
    int writers = 0;
    for (int i = 0; i < (int)lowered->layers->len; i++) {
        const nsk_lowered_layer *l = nsk_lowered_layer_at(lowered, i);
        if (nsk_lowered_tensor_root(lowered, l->out) == tensor) {
            writers++;
            if (l->kind == NSK_KIND_SOFTMAX || nsk_kind_is_fine(l->kind) ||
                (!pixel && !nsk_kind_writes_slices(l->kind))) {
                return false;
            }
        }
    }
    return writers > 0 && t->alias_of == NSK_NONE && t->shares == NSK_NONE;
}

static uint32_t bound_of(const nsk_lowered *lowered) {
    nsk_schedule *s = nsk_schedule_of(lowered, 0, 1);
    uint32_t bound = s->lower_bound;
    nsk_schedule_free(s);
    return bound;
}

/* Whether the input of layer `move` can become a slice of its output. */
static bool can_join(const nsk_lowered *lowered, const nsk_graph *graph, int move) {
    const nsk_lowered_layer *l = nsk_lowered_layer_at(lowered, move);
    return l->kind == NSK_KIND_COPY && l->joins_at != NSK_NONE && can_be_slice(lowered, l->in) &&
           is_read_only_by(lowered, l->in, move) &&
           !is_pinned_apart(graph, nsk_lowered_tensor_at(lowered, l->in),
                            nsk_lowered_tensor_at(lowered, l->out));
}

/* It does; the layer goes into `gone`. */
static void join(nsk_lowered *lowered, int move, GArray *gone) {
    nsk_lowered_layer l = *nsk_lowered_layer_at(lowered, move);
    nsk_lowered_tensor *part = nsk_lowered_tensor_at(lowered, l.in);
    part->alias_of = l.out;
    part->slice = true;
    part->first_channel = l.joins_at;
    g_array_remove_index(lowered->layers, (guint)move);
    g_array_append_val(gone, l);
}

/* Joins the layers from `first` to before `end` that write tensor `whole`, where that takes no more
 * RAM. Returns how many. */
static int join_some(nsk_lowered *lowered, const nsk_graph *graph, int first, int end, int whole) {
    uint32_t bound = bound_of(lowered);
    GArray *before = g_array_copy(lowered->layers);
    GArray *gone = g_array_new(FALSE, FALSE, sizeof(nsk_lowered_layer));
    for (int i = first; i < end - (int)gone->len;) {
        if (nsk_lowered_layer_at(lowered, i)->out == whole && can_join(lowered, graph, i)) {
            join(lowered, i, gone);
        } else {
            i++;
        }
    }
    int joined = (int)gone->len;
    bool good = bound_of(lowered) <= bound;
    for (guint i = 0; i < gone->len; i++) {
        const nsk_lowered_layer *l = &g_array_index(gone, nsk_lowered_layer, i);
        nsk_lowered_tensor *part = nsk_lowered_tensor_at(lowered, l->in);
        if (good) {
            g_free(l->moves);
        } else {
            part->alias_of = NSK_NONE;
            part->slice = false;
        }
    }
    if (!good) {
        GArray *after = lowered->layers;
        lowered->layers = before;
        before = after;
        joined = 0;
    }
    g_array_free(before, TRUE);
    g_array_free(gone, TRUE);
    return joined;
}

/* Slices of what became a slice itself are slices of the same whole. */
static void flatten(const nsk_lowered *lowered) {
    for (int i = 0; i < (int)lowered->tensors->len; i++) {
        nsk_lowered_tensor *t = nsk_lowered_tensor_at(lowered, i);
        while (t->slice && nsk_lowered_tensor_at(lowered, t->alias_of)->slice) {
            const nsk_lowered_tensor *whole = nsk_lowered_tensor_at(lowered, t->alias_of);
            t->first_channel += whole->first_channel;
            t->alias_of = whole->alias_of;
        }
    }
}

void nsk_join_concatenations(nsk_lowered *lowered, const nsk_graph *graph) {
    for (int i = 0; i < (int)lowered->layers->len; i++) {
        const nsk_lowered_layer *l = nsk_lowered_layer_at(lowered, i);
        if (l->kind != NSK_KIND_COPY || l->joins_at == NSK_NONE) {
            continue;
        }
        int whole = l->out;
        int joined = join_some(lowered, graph, i, (int)lowered->layers->len, whole);
        for (int k = i; joined == 0 && k < (int)lowered->layers->len; k++) {
            k -= join_some(lowered, graph, k, k + 1, whole);
        }
        i -= joined;
    }
    flatten(lowered);
}
