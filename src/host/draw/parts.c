#include "draw/parts.h"

/* The node that computes an input, or NSK_NONE for the network's own input and constants. */
static int producer_of(const nsk_graph *g, const nsk_node *node, int input) {
    return nsk_graph_value(g, node->input[input])->producer;
}

static bool has_two_computed(const nsk_graph *g, const nsk_node *node) {
    return node->inputs == 2 && producer_of(g, node, 0) != NSK_NONE &&
           producer_of(g, node, 1) != NSK_NONE;
}

/* A sum with what came earlier, or a product of a picture with a number a channel: what lies
 * between the earlier of both sides and it. */
static bool join_of(const nsk_graph *g, int index, nsk_part *part) {
    const nsk_node *node = nsk_graph_node(g, index);
    if (!has_two_computed(g, node) || (node->op != NSK_OP_ADD && node->op != NSK_OP_MUL)) {
        return false;
    }
    const size_t left = nsk_value_count(nsk_node_input(g, node, 0));
    const size_t right = nsk_value_count(nsk_node_input(g, node, 1));
    const bool sum = node->op == NSK_OP_ADD && left == right;
    const bool gate = node->op == NSK_OP_MUL && left != right;
    const int earlier = MIN(producer_of(g, node, 0), producer_of(g, node, 1));
    *part = (nsk_part){earlier + 1, index, sum ? "residual" : "gate"};
    return (sum || gate) && earlier + 1 < index;
}

/* Shares that a product of two tensors makes, and that meet a third: from the first product on. */
static bool attends(const nsk_graph *g, int first, int last) {
    int products = 0;
    int shares = 0;
    for (int i = first; i <= last; i++) {
        const nsk_node *node = nsk_graph_node(g, i);
        products += node->op == NSK_OP_MATMUL && has_two_computed(g, node);
        shares += node->op == NSK_OP_SOFTMAX;
    }
    return products >= 2 && shares > 0;
}

static bool contains_gate(const nsk_graph *g, const nsk_part *part) {
    nsk_part inner;
    for (int i = part->first; i < part->last; i++) {
        if (join_of(g, i, &inner) && nsk_graph_node(g, i)->op == NSK_OP_MUL &&
            inner.first >= part->first) {
            return true;
        }
    }
    return false;
}

static void name_it(const nsk_graph *g, nsk_part *part) {
    if (nsk_graph_node(g, part->last)->op == NSK_OP_MUL) {
        return;
    }
    part->what = attends(g, part->first, part->last) ? "attention, residual"
                 : contains_gate(g, part)            ? "gated, residual"
                                                     : "residual";
}

nsk_part *nsk_parts_of(const nsk_graph *g, int *count) {
    GArray *all = g_array_new(FALSE, FALSE, sizeof(nsk_part));
    for (int i = 0; i < (int)g->nodes->len; i++) {
        nsk_part part;
        if (nsk_graph_node(g, i)->dead || !join_of(g, i, &part)) {
            continue;
        }
        while (all->len > 0 && g_array_index(all, nsk_part, all->len - 1).first >= part.first) {
            g_array_set_size(all, all->len - 1); /* it is within this one */
        }
        if (all->len > 0 && g_array_index(all, nsk_part, all->len - 1).last >= part.first) {
            continue; /* half in another: a network of another kind */
        }
        name_it(g, &part);
        g_array_append_val(all, part);
    }
    *count = (int)all->len;
    return (nsk_part *)(void *)g_array_free(all, FALSE);
}
