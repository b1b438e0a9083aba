/* channels/channels: which channels of a network go together, so that whole ones can be taken out:
 * those of sums, of depthwise layers and what they read, of what weighs channels, of groups. Found
 * from the graph: a channel is born where a convolution or a product with constant weights makes
 * it, and each operator passes on which of its elements are of which channel. */
#ifndef NSK_CHANNELS_CHANNELS_H
#define NSK_CHANNELS_CHANNELS_H

#include "graph/graph.h"

/* Of a value: for each axis NULL, or for each of its places the channel that stands there,
 * NSK_NONE for what has to stay. */
typedef struct nsk_channel_places {
    int *at[NSK_MOST_RANK];
} nsk_channel_places;

/* Channels that something ties are one: it is all of them that go. A set is of channels that have
 * the same places, each in its own. */
typedef struct nsk_channel_set {
    const char *name; /* of the first node that makes some of them */
    int size;         /* channels that can go */
    int stay;         /* and that cannot */
} nsk_channel_set;

typedef struct nsk_channels {
    int values;
    nsk_channel_places *places; /* one a value of the graph */
    int count;
    int *set; /* of each channel */
    int sets;
    nsk_channel_set *sets_of; /* one a set; the names are the graph's */
    const char *tied_by;      /* the first node that made channels stay; NULL: none did */
} nsk_channels;

/* The graph must have its constants to itself (nsk_graph_own_constants). */
nsk_channels *nsk_channels_find(const nsk_graph *graph);
void nsk_channels_free(nsk_channels *channels);

/* Each constant that several nodes read becomes one for each, and each convolution and product
 * with constant weights gets a bias of its own, one number a channel. The function stays the same.
 */
void nsk_graph_own_constants(nsk_graph *graph);

/* Whether a node has weights that are constant: its channels are born there. */
bool nsk_channels_are_born(const nsk_graph *graph, const nsk_node *node);
/* The axis of what such a node makes along which its channels stand. */
int nsk_channels_axis(const nsk_graph *graph, const nsk_node *node);

/* Takes those channels out for which gone[channel] says so: weights, biases and shapes. The rest of
 * the network computes what it did, had the channels been nothing everywhere. */
void nsk_graph_cut(nsk_graph *graph, const nsk_channels *channels, const bool *gone);

#endif
