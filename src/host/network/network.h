/* network/network: what is behind the handle of netsuke/network.h. */
#ifndef NSK_NETWORK_NETWORK_H
#define NSK_NETWORK_NETWORK_H

#include "graph/graph.h"
#include "netsuke/network.h"

/* What the file's own network ends in. */
typedef enum nsk_network_end {
    NSK_END_SCORES,  /* plain ones */
    NSK_END_SOFTMAX, /* or a logarithm of it */
    NSK_END_SIGMOIDS,
    NSK_END_ONE /* number, for two classes */
} nsk_network_end;

struct nsk_network {
    nsk_graph *graph;
    nsk_network_end end;
    char *path;
    char *facts[NSK_FACTS]; /* none is NULL */
};

/* The network of an ONNX file's bytes, as if they stood at `path`; input and output as
 * nsk_network_read takes them. */
nsk_network *nsk_network_from(const uint8_t *bytes, size_t size, const char *path, nsk_input *input,
                              const char *output, nsk_error *error);

/* A copy of its own. */
nsk_network *nsk_network_copy(const nsk_network *network);

#endif
