/* passes/equalise: rewrites that keep the function and even out what quantising sees. */
#ifndef NSK_PASSES_EQUALISE_H
#define NSK_PASSES_EQUALISE_H

#include "graph/graph.h"
#include "netsuke/images.h"

/* Between two layers with weights that nothing but pools and flattenings part, each channel may be
 * multiplied in the first and divided again in the second. The factors even out the numbers that
 * the channels take (one scale serves them all) at the cost of the second layer's weights (one
 * scale an output), half and half where those suffer; where they do not, as in depthwise layers,
 * all the way. The same network with channels multiplied and divided beforehand comes out the same.
 * Where channels are cut off above, only those that can be shown never to come there are changed,
 * and no further than to it. Before that, channels that stand far from zero are moved to it and the
 * second layer adds what is missing: to their middle where nothing is cut off; where zero cuts off,
 * as far as they can be shown never to come there; not where margins of zeroes would notice.
 * Of larger sets 256 images are looked at. Returns how many places were equalised out, or -1 and an
 * error. Changes the graph. */
int nsk_graph_equalise(nsk_graph *graph, const nsk_images *images, nsk_error *error);

#endif
