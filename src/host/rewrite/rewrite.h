/* rewrite/rewrite: changes to a graph that leave its function the same. */
#ifndef NSK_REWRITE_REWRITE_H
#define NSK_REWRITE_REWRITE_H

#include "graph/graph.h"

/* Takes QuantizeLinear and DequantizeLinear out of the graph and keeps the levels that they give.
 */
bool nsk_graph_take_levels(nsk_graph *graph, nsk_error *error);
/* Makes a network that ends in levels end in the numbers that they stand for. */
bool nsk_graph_end_in_numbers(nsk_graph *graph, nsk_error *error);

/* Rewrites that leave the function the same; needs nsk_graph_infer first. In this order: operators
 * without a kernel of their own are written out in others, transpositions that meet cancel out
 * (write_out.c), pads, batch normalisation, per-channel constants and clamping activations go into
 * what stands before or behind them, arithmetic on the input into its preparation (fold.c), and
 * chains of element-wise operators become one function (fuse.c). */
bool nsk_graph_fold(nsk_graph *graph, nsk_error *error);
bool nsk_graph_rewrite(nsk_graph *graph, nsk_error *error);
void nsk_graph_fuse(nsk_graph *graph);
/* Comparisons and choices that are no function of one input, as sums and products of 0 and 1. */
bool nsk_graph_rewrite_choices(nsk_graph *graph, nsk_error *error);

#endif
