/* network/network: what is behind the handle of netsuke/network.h. */
#ifndef NSK_NETWORK_NETWORK_H
#define NSK_NETWORK_NETWORK_H

#include "graph/graph.h"
#include "netsuke/network.h"

struct nsk_network {
    nsk_graph *graph;
    char *path;
    char *facts[NSK_FACTS]; /* none is NULL */
};

#endif
