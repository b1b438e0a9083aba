/* graph/blocks: what Normalise runs over. Its axes, `list[0]` up to before `list[1]`, hold `size`
 * groups of equal length, one behind the other: a block is a group at one place of the other axes.
 *
 *     y = (x - mean) / max(sqrt(variance + epsilon) + alpha, beta) x gain + offset
 *
 * with mean and variance those of the block; where it is not `centred` the mean is left out, and
 * the variance is the mean of the squares. */
#ifndef NSK_GRAPH_BLOCKS_H
#define NSK_GRAPH_BLOCKS_H

#include "graph/graph.h"

/* Element (outer x run + r) x inner + i is the r-th of its block. */
typedef struct nsk_blocks {
    size_t outer, run, inner;
} nsk_blocks;

nsk_blocks nsk_blocks_of(const nsk_graph *graph, const nsk_node *node);

/* Which block an element is of. */
static inline size_t nsk_block_at(const nsk_blocks *b, size_t element) {
    return element / (b->run * b->inner) * b->inner + element % b->inner;
}

/* Which number of a constant with gains, or offsets, meets an element: one for all, one for each
 * place in a block, or, `by_channel`, one for each place along axis 1. */
size_t nsk_gain_place(const nsk_graph *graph, const nsk_node *node, const nsk_value *gains,
                      size_t element);

#endif
