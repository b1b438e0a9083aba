/* graph/resize: the meaning of Resize, axis by axis. Valid after inference. */
#ifndef NSK_GRAPH_RESIZE_H
#define NSK_GRAPH_RESIZE_H

#include "graph/graph.h"

/* Whether only rows and columns of a picture change, freely, and an output has two neighbours along
 * an axis at most: what the device has a layer for. */
bool nsk_resize_blends(const nsk_graph *graph, const nsk_node *node);

/* Then: an output is (1 - part) x in[first] + part x in[second]. */
typedef struct nsk_blend {
    int64_t first, second;
    double part;
} nsk_blend;
nsk_blend nsk_blend_at(const nsk_graph *graph, const nsk_node *node, int axis, int64_t at);

/* Then: how much larger each of the four axes becomes. False where sizes are given instead. */
bool nsk_resize_scales(const nsk_graph *graph, const nsk_node *node, float *scales);

/* What each output along the axis has of each input, [output][input]; NULL where the axis stays as
 * it is. g_free. */
float *nsk_resize_shares(const nsk_graph *graph, const nsk_node *node, int axis);

#endif
