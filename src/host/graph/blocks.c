#include "graph/blocks.h"

static size_t product(const nsk_value *v, int from, int to) {
    size_t count = 1;
    for (int axis = from; axis < to; axis++) {
        count *= (size_t)v->dims[axis];
    }
    return count;
}

nsk_blocks nsk_blocks_of(const nsk_graph *graph, const nsk_node *node) {
    const nsk_value *in = nsk_node_input(graph, node, 0);
    const nsk_attributes *a = &node->attributes;
    const int first = (int)a->list[0];
    const int behind = (int)a->list[1];
    const size_t groups = (size_t)a->size;
    return (nsk_blocks){.outer = product(in, 0, first) * groups,
                        .run = product(in, first, behind) / groups,
                        .inner = product(in, behind, in->rank)};
}

size_t nsk_gain_place(const nsk_graph *graph, const nsk_node *node, const nsk_value *gains,
                      size_t element) {
    const nsk_value *in = nsk_node_input(graph, node, 0);
    const size_t count = nsk_value_count(gains);
    if (count == 1) {
        return 0;
    }
    if (node->attributes.by_channel) {
        return element / product(in, 2, in->rank) % count;
    }
    const nsk_blocks b = nsk_blocks_of(graph, node);
    return element / b.inner % b.run;
}
