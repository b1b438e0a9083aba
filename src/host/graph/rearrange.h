/* graph/rearrange: the meaning of operators that move elements, with every default and negative
 * number resolved, once for shapes, the float pass and the integer form. Valid after inference. */
#ifndef NSK_GRAPH_REARRANGE_H
#define NSK_GRAPH_REARRANGE_H

#include "graph/graph.h"

/* Slice and Split: along each axis of the first input, where to start, how far apart, how many. */
typedef struct nsk_cut {
    int64_t start[NSK_MOST_RANK], step[NSK_MOST_RANK], count[NSK_MOST_RANK];
} nsk_cut;
bool nsk_cut_of(const nsk_graph *graph, const nsk_node *node, nsk_cut *cut, nsk_error *error);

/* Pad: elements added before and behind, along each axis. */
typedef struct nsk_margins {
    int64_t before[NSK_MOST_RANK], after[NSK_MOST_RANK];
} nsk_margins;
bool nsk_margins_of(const nsk_graph *graph, const nsk_node *node, nsk_margins *margins,
                    nsk_error *error);

/* ReduceMean and its kin, Squeeze: which axes. Input 1 lists them; without it, `otherwise`. */
bool nsk_axes_of(const nsk_graph *graph, const nsk_node *node, bool otherwise, bool *marked,
                 nsk_error *error);

/* Transpose: for each axis of the output, the input's. */
void nsk_order_of(const nsk_graph *graph, const nsk_node *node, int *order);

/* DepthToSpace and SpaceToDepth are a reshape to six axes, a transposition and a reshape. */
typedef struct nsk_shuffle {
    int64_t dims[6];
    int order[6];
} nsk_shuffle;
void nsk_shuffle_of(const nsk_graph *graph, const nsk_node *node, nsk_shuffle *shuffle);

#endif
