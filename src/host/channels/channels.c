/* All operators, in order; then numbers for what is left. */
#include "channels/builder.h"

/* Channels by number, in the order in which they were born; sets likewise. */
static void number_all(nsk_channel_builder *b, nsk_channels *c) {
    const int count = (int)b->parent->len;
    int *number = g_new(int, count);
    int *set = g_new(int, b->family_parent->len);
    for (guint i = 0; i < b->family_parent->len; i++) {
        set[i] = NSK_NONE;
    }
    c->set = g_new(int, count);
    c->sets_of = g_new0(nsk_channel_set, b->family_parent->len);
    for (int i = 1; i < count; i++) {
        const int family = nsk_channel_family(b, i);
        if (nsk_channel_root(b, i) != i) {
            continue;
        }
        if (set[family] == NSK_NONE) {
            c->sets_of[c->sets].name = g_ptr_array_index(b->family_names, family);
            set[family] = c->sets++;
        }
        number[i] = c->count;
        c->set[c->count++] = set[family];
        c->sets_of[set[family]].size++;
    }
    for (int i = 1; i < count; i++) {
        const int own = set[nsk_channel_family(b, i)];
        if (own != NSK_NONE && nsk_channel_root(b, i) == NSK_STAYS) {
            c->sets_of[own].stay++;
        }
    }
    for (int v = 0; v < c->values; v++) {
        for (int axis = 0; axis < NSK_MOST_RANK; axis++) {
            int *places = c->places[v].at[axis];
            for (int64_t p = 0; places != NULL && p < nsk_graph_value(b->graph, v)->dims[axis];
                 p++) {
                const int root = nsk_channel_root(b, places[p]);
                places[p] = root == NSK_STAYS ? NSK_NONE : number[root];
            }
        }
    }
    g_free(number);
    g_free(set);
}

nsk_channels *nsk_channels_find(const nsk_graph *graph) {
    nsk_channels *c = g_new0(nsk_channels, 1);
    c->values = (int)graph->values->len;
    c->places = g_new0(nsk_channel_places, c->values);
    nsk_channel_builder b = {.graph = graph,
                             .places = c->places,
                             .parent = g_array_new(FALSE, FALSE, sizeof(int)),
                             .family = g_array_new(FALSE, FALSE, sizeof(int)),
                             .family_parent = g_array_new(FALSE, FALSE, sizeof(int)),
                             .family_names = g_ptr_array_new()};
    const int none = 0;
    g_array_append_val(b.parent, none); /* NSK_STAYS */
    g_array_append_val(b.family, none);
    g_array_append_val(b.family_parent, none);
    g_ptr_array_add(b.family_names, NULL);
    for (int i = 0; i < (int)graph->nodes->len; i++) {
        b.node = nsk_graph_node(graph, i);
        if (!b.node->dead) {
            nsk_channels_pass(&b);
        }
    }
    const char *tied_by = b.tied_by; /* that the classes stay is no wonder */
    nsk_places_all_stay(&b, graph->output);
    number_all(&b, c);
    c->tied_by = tied_by;
    g_array_free(b.parent, TRUE);
    g_array_free(b.family, TRUE);
    g_array_free(b.family_parent, TRUE);
    g_ptr_array_free(b.family_names, TRUE);
    return c;
}

void nsk_channels_free(nsk_channels *c) {
    for (int v = 0; c != NULL && v < c->values; v++) {
        for (int axis = 0; axis < NSK_MOST_RANK; axis++) {
            g_free(c->places[v].at[axis]);
        }
    }
    if (c != NULL) {
        g_free(c->places);
        g_free(c->set);
        g_free(c->sets_of);
        g_free(c);
    }
}
