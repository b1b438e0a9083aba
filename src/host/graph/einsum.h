/* graph/einsum: the meaning of Einsum: a letter for each axis of its inputs and of its output.
 * Letters that the output lacks are summed over. Valid after inference. */
#ifndef NSK_GRAPH_EINSUM_H
#define NSK_GRAPH_EINSUM_H

#include "graph/graph.h"

enum { NSK_EINSUM_OUTPUT = 2, NSK_MOST_LETTERS = 2 * NSK_MOST_RANK };

/* Axes behind an ellipsis have the letters '0', '1', ... counted from the last one. */
typedef struct nsk_einsum {
    int inputs;
    int rank[3];                   /* of both inputs, and of the output */
    char letter[3][NSK_MOST_RANK]; /* of each axis */
    bool diagonal;                 /* an input has a letter twice */
    /* every letter, the output's first, in order */
    int letters;
    char name[NSK_MOST_LETTERS];
    int64_t size[NSK_MOST_LETTERS];
} nsk_einsum;

bool nsk_einsum_of(const nsk_graph *graph, const nsk_node *node, nsk_einsum *e, nsk_error *error);
/* The axis of an input or of the output that has the letter; NSK_NONE where none has. */
int nsk_einsum_axis(const nsk_einsum *e, int side, char letter);
/* Products an element of the output. */
double nsk_einsum_work(const nsk_graph *graph, const nsk_node *node);

#endif
