/* Constants of a node's own; channels taken out. */
#include "channels/channels.h"

#include <string.h>

#include "graph/rearrange.h"

/* ---- a constant for each that reads it ---- */

static int copy_constant(nsk_graph *g, int value, const char *node) {
    const nsk_value from = *nsk_graph_value(g, value);
    const size_t count = nsk_value_count(&from);
    char *name = g_strdup_printf("%s (of %s)", from.name, node);
    const int made =
        from.data != NULL
            ? nsk_graph_add_constant(g, name, from.rank, from.dims,
                                     g_memdup2(from.data, count * sizeof *from.data))
            : nsk_graph_add_integers(g, name, from.rank, from.dims,
                                     g_memdup2(from.integers, count * sizeof *from.integers));
    g_free(name);
    return made;
}

static void own_bias(nsk_graph *g, nsk_node *node) {
    const int64_t channels = nsk_graph_value(g, node->output)->dims[nsk_channels_axis(g, node)];
    const nsk_value *old = nsk_node_input(g, node, 2);
    if (old != NULL && (old->data == NULL || (old->rank == 1 && old->dims[0] == channels))) {
        return;
    }
    float *numbers = g_new0(float, channels);
    for (int64_t c = 0; old != NULL && c < channels; c++) {
        numbers[c] = old->data[nsk_value_count(old) == 1 ? 0 : c];
    }
    char *name = g_strdup_printf("%s (bias)", node->name);
    node->input[2] = nsk_graph_add_constant(g, name, 1, &channels, numbers);
    node->inputs = MAX(node->inputs, 3);
    g_free(name);
}

void nsk_graph_own_constants(nsk_graph *g) {
    bool *taken = g_new0(bool, g->values->len);
    const int values = (int)g->values->len;
    for (int i = 0; i < (int)g->nodes->len; i++) {
        nsk_node *node = nsk_graph_node(g, i);
        for (int k = 0; !node->dead && k < node->inputs; k++) {
            const int v = node->input[k];
            const bool constant = v != NSK_NONE && v < values && nsk_graph_is_constant(g, v);
            if (constant && taken[v]) {
                node->input[k] = copy_constant(g, v, node->name);
            }
            if (constant) {
                taken[v] = true;
            }
        }
        if (!node->dead && nsk_channels_are_born(g, node)) {
            own_bias(g, node);
        }
    }
    g_free(taken);
}

/* ---- cutting ---- */

typedef struct cutter {
    nsk_graph *graph;
    const nsk_channels *channels;
    const bool *gone;
} cutter;

static bool stays(const cutter *c, const int *places, int64_t place) {
    return places == NULL || places[place] == NSK_NONE || !c->gone[places[place]];
}

/* How many of the first `end` places of an axis are left. */
static int64_t left_before(const cutter *c, int value, int axis, int64_t end) {
    const int *places = c->channels->places[value].at[axis];
    int64_t left = 0;
    for (int64_t p = 0; p < end; p++) {
        left += stays(c, places, p);
    }
    return left;
}

/* Slice and Split say where they cut: with the places that are left. */
static void write_cut(const cutter *c, nsk_node *node) {
    const nsk_value *in = nsk_node_input(c->graph, node, 0);
    const int rank = in->rank;
    nsk_error error;
    nsk_cut cut;
    int64_t numbers[4][NSK_MOST_RANK]; /* starts, ends, axes, steps */
    if (!nsk_cut_of(c->graph, node, &cut, &error)) {
        return;
    }
    for (int i = 0; i < rank; i++) {
        const bool plain = cut.step[i] == 1;
        const int64_t end = cut.start[i] + cut.count[i] * cut.step[i];
        numbers[0][i] = plain ? left_before(c, node->input[0], i, cut.start[i]) : cut.start[i];
        numbers[1][i] = plain     ? left_before(c, node->input[0], i, end)
                        : end < 0 ? INT64_MIN
                                  : end; /* backwards past the first */
        numbers[2][i] = i;
        numbers[3][i] = cut.step[i];
    }
    node->op = NSK_OP_SLICE;
    node->attributes = (nsk_attributes){0};
    node->inputs = 5;
    for (int k = 0; k < 4; k++) {
        char *name = g_strdup_printf("%s (cut %d)", node->name, k);
        node->input[1 + k] = nsk_graph_add_list(c->graph, name, rank, numbers[k]);
        g_free(name);
    }
}

/* The whole shape of the output, where an input says it. */
static void write_shape(const cutter *c, nsk_node *node, int input) {
    const nsk_value *out = nsk_graph_value(c->graph, node->output);
    const nsk_value *said = nsk_node_input(c->graph, node, input);
    int64_t dims[NSK_MOST_RANK];
    int count = 0;
    if (said == NULL || said->integers == NULL) {
        return;
    }
    for (int i = 0; i < (node->attributes.listed > 0 ? node->attributes.listed : out->rank); i++) {
        const int64_t listed = node->attributes.listed > 0 ? node->attributes.list[i] : i;
        const int axis = (int)(listed < 0 ? listed + out->rank : listed);
        dims[count++] = left_before(c, node->output, axis, out->dims[axis]);
    }
    char *name = g_strdup_printf("%s (shape)", node->name);
    node->input[input] = nsk_graph_add_list(c->graph, name, count, dims);
    g_free(name);
}

/* What a node says of shapes, before they change. */
static void write_node(const cutter *c, nsk_node *node) {
    if (node->op == NSK_OP_SLICE || node->op == NSK_OP_SPLIT) {
        write_cut(c, node);
    } else if (node->op == NSK_OP_RESHAPE || node->op == NSK_OP_EXPAND) {
        write_shape(c, node, 1);
    } else if (node->op == NSK_OP_RESIZE) {
        write_shape(c, node, 3);
    } else if ((node->op == NSK_OP_CONV || node->op == NSK_OP_CONV_TRANSPOSE) &&
               node->attributes.window.groups == nsk_node_input(c->graph, node, 0)->dims[1]) {
        node->attributes.window.groups =
            left_before(c, node->input[0], 1, node->attributes.window.groups);
    }
}

/* A constant's elements along an axis, those that are left. */
static void cut_elements(const cutter *c, nsk_value *v, const int *places, int axis) {
    size_t inner = 1;
    size_t left = 0;
    for (int i = axis + 1; i < v->rank; i++) {
        inner *= (size_t)v->dims[i];
    }
    for (size_t i = 0; i < nsk_value_count(v); i++) {
        if (stays(c, places, (int64_t)(i / inner) % v->dims[axis])) {
            v->data[left++] = v->data[i];
        }
    }
}

static void cut_value(const cutter *c, int value) {
    nsk_value *v = nsk_graph_value(c->graph, value);
    for (int axis = 0; axis < v->rank; axis++) {
        const int *places = c->channels->places[value].at[axis];
        if (places == NULL) {
            continue;
        }
        const int64_t left = left_before(c, value, axis, v->dims[axis]);
        if (v->data != NULL) {
            cut_elements(c, v, places, axis);
        }
        v->dims[axis] = left;
    }
}

void nsk_graph_cut(nsk_graph *graph, const nsk_channels *channels, const bool *gone) {
    const cutter c = {graph, channels, gone};
    for (int i = 0; i < (int)graph->nodes->len; i++) {
        nsk_node *node = nsk_graph_node(graph, i);
        if (!node->dead) {
            write_node(&c, node);
        }
    }
    for (int v = 0; v < channels->values; v++) {
        cut_value(&c, v);
    }
}
