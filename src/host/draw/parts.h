/* draw/parts: what people see in a network as one: residual blocks, attention, gates. */
#ifndef NSK_DRAW_PARTS_H
#define NSK_DRAW_PARTS_H

#include "graph/graph.h"

/* Nodes from `first` to `last`, in the order in which they run. */
typedef struct nsk_part {
    int first, last;
    const char *what;
} nsk_part;

/* Those that are in no other: `count` of them, the first first. g_free. */
nsk_part *nsk_parts_of(const nsk_graph *graph, int *count);

#endif
