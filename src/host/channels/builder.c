#include "channels/builder.h"

#include <string.h>

/* ---- channels: what is tied is one ---- */

/* The first of those that are tied to it. The very first, 0, is what has to stay. */
static int root_of(int *parent, int i) {
    while (parent[i] != i) {
        parent[i] = parent[parent[i]];
        i = parent[i];
    }
    return i;
}

static void join(int *parent, int a, int b) {
    a = root_of(parent, a);
    b = root_of(parent, b);
    parent[MAX(a, b)] = MIN(a, b);
}

static int *numbers(const GArray *array) {
    return (int *)(void *)array->data;
}

int nsk_channel_root(const nsk_channel_builder *b, int channel) {
    return root_of(numbers(b->parent), channel);
}

int nsk_channel_family(const nsk_channel_builder *b, int channel) {
    return root_of(numbers(b->family_parent), numbers(b->family)[channel]);
}

void nsk_channel_tie(nsk_channel_builder *b, int one, int other) {
    if (nsk_channel_root(b, one) == NSK_STAYS || nsk_channel_root(b, other) == NSK_STAYS) {
        b->tied_by = b->tied_by == NULL && one != other ? b->node->name : b->tied_by;
    } else {
        join(numbers(b->family_parent), nsk_channel_family(b, one), nsk_channel_family(b, other));
    }
    join(numbers(b->parent), one, other);
}

int *nsk_channels_new(nsk_channel_builder *b, int count) {
    int *made = g_new(int, count);
    const int family = (int)b->family_parent->len;
    g_array_append_val(b->family_parent, family);
    g_ptr_array_add(b->family_names, b->node->name);
    for (int i = 0; i < count; i++) {
        made[i] = (int)b->parent->len;
        g_array_append_val(b->parent, made[i]);
        g_array_append_val(b->family, family);
    }
    return made;
}

/* ---- places ---- */

int *nsk_places_at(const nsk_channel_builder *b, int value, int axis) {
    return value != NSK_NONE ? b->places[value].at[axis] : NULL;
}

int *nsk_places_copy(const int *places, int64_t count) {
    return places != NULL ? g_memdup2(places, (gsize)count * sizeof *places) : NULL;
}

void nsk_places_stay(nsk_channel_builder *b, int value, int axis) {
    int *places = nsk_places_at(b, value, axis);
    for (int64_t i = 0; places != NULL && i < nsk_graph_value(b->graph, value)->dims[axis]; i++) {
        nsk_channel_tie(b, places[i], NSK_STAYS);
    }
}

void nsk_places_all_stay(nsk_channel_builder *b, int value) {
    for (int axis = 0; value != NSK_NONE && axis < NSK_MOST_RANK; axis++) {
        nsk_places_stay(b, value, axis);
    }
}

void nsk_places_tie(nsk_channel_builder *b, const int *one, const int *other, int64_t count) {
    for (int64_t i = 0; i < count; i++) {
        nsk_channel_tie(b, one[i], other != NULL ? other[i] : NSK_STAYS);
    }
}

void nsk_places_give(nsk_channel_builder *b, int value, int axis, int *places) {
    int **to = &b->places[value].at[axis];
    if (places == NULL) {
        return;
    }
    if (*to != NULL) {
        nsk_places_tie(b, *to, places, nsk_graph_value(b->graph, value)->dims[axis]);
        g_free(places);
        return;
    }
    *to = places;
}

/* ---- elements that move ---- */

enum { FREE = -1 }; /* an element of no channel, that comes and goes with others */

static int64_t inner_of(const nsk_value *v, int axis) {
    int64_t inner = 1;
    for (int i = axis + 1; i < v->rank; i++) {
        inner *= v->dims[i];
    }
    return inner;
}

typedef void tie(void *with, int one, int other);

static void tie_on_trial(void *parent, int one, int other) {
    join(parent, one, other);
}

static void tie_for_good(void *builder, int one, int other) {
    nsk_channel_tie(builder, one, other);
}

/* Ties what stands at the same place of an axis; `first` gets one of each place, or FREE. */
static void tie_along(tie *how, void *with, const nsk_value *v, int axis, const int *labels,
                      int *first) {
    const int64_t inner = inner_of(v, axis);
    for (int64_t p = 0; p < v->dims[axis]; p++) {
        first[p] = FREE;
    }
    for (size_t i = 0; i < nsk_value_count(v); i++) {
        int *at = &first[(int64_t)i / inner % v->dims[axis]];
        if (labels[i] != FREE && *at != FREE && *at != labels[i]) {
            how(with, *at, labels[i]);
        }
        *at = *at == FREE ? labels[i] : *at;
    }
}

/* How many channels would be left, were the axis the one that they stand along. */
static int left_along(const nsk_channel_builder *b, const nsk_value *v, int axis,
                      const int *labels) {
    const guint count = b->parent->len;
    int *trial = g_memdup2(b->parent->data, count * sizeof *trial);
    int *first = g_new(int, v->dims[axis]);
    bool *seen = g_new0(bool, count);
    int left = 0;
    tie_along(tie_on_trial, trial, v, axis, labels, first);
    for (int64_t p = 0; p < v->dims[axis]; p++) {
        const int root = first[p] != FREE ? root_of(trial, first[p]) : NSK_STAYS;
        left += root != NSK_STAYS && !seen[root];
        seen[root] = true;
    }
    g_free(trial);
    g_free(first);
    g_free(seen);
    return left;
}

/* Labels of a value's elements, as places along the axis that leaves most channels: where rows and
 * columns hold parts of the same channels, those are tied. Whole values are not to disappear. */
static void settle(nsk_channel_builder *b, int value, const int *labels) {
    const nsk_value *v = nsk_graph_value(b->graph, value);
    int axis = NSK_NONE;
    int most = 1;
    for (int i = 0; i < v->rank; i++) {
        const int left = v->dims[i] > 1 ? left_along(b, v, i, labels) : 0;
        axis = left > most ? i : axis;
        most = MAX(left, most);
    }
    if (axis == NSK_NONE) {
        for (size_t i = 0; i < nsk_value_count(v); i++) {
            nsk_channel_tie(b, MAX(labels[i], NSK_STAYS), NSK_STAYS);
        }
        return;
    }
    int *first = g_new(int, v->dims[axis]);
    tie_along(tie_for_good, b, v, axis, labels, first);
    for (int64_t p = 0; p < v->dims[axis]; p++) {
        first[p] = MAX(first[p], NSK_STAYS);
    }
    nsk_places_give(b, value, axis, first);
}

void nsk_places_move(nsk_channel_builder *b, int from, int to, const int32_t *sources) {
    const nsk_value *in = nsk_graph_value(b->graph, from);
    const size_t count = nsk_value_count(nsk_graph_value(b->graph, to));
    for (int axis = 0; axis < in->rank; axis++) {
        const int *places = nsk_places_at(b, from, axis);
        if (places == NULL) {
            continue;
        }
        const int64_t inner = inner_of(in, axis);
        int *labels = g_new(int, count);
        for (size_t i = 0; i < count; i++) {
            const int64_t source = sources != NULL ? sources[i] : (int64_t)i;
            labels[i] = source >= 0 ? places[source / inner % in->dims[axis]] : FREE;
        }
        settle(b, to, labels);
        g_free(labels);
    }
}
