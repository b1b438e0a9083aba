/* pipeline/homes: where each weight and bias of the layers stands in the graph that they were made
 * from, so that what is learned of the layers can be brought back. */
#ifndef NSK_PIPELINE_HOMES_H
#define NSK_PIPELINE_HOMES_H

#include "lowered/lowered.h"

typedef struct nsk_homes nsk_homes;

/* Of the layers that nsk_lower_and_join makes of the graph. NULL and an error where it has more
 * than 16 million numbers. */
nsk_homes *nsk_homes_find(const nsk_graph *graph, nsk_error *error);
void nsk_homes_free(nsk_homes *homes);
/* Of each layer whether its weights are computed from the graph's, not taken over one by one: what
 * is learned of those cannot be brought back. */
const bool *nsk_homes_none(const nsk_homes *homes);
/* The layers' weights and biases become the graph's. */
void nsk_homes_bring_back(const nsk_homes *homes, const nsk_lowered *lowered, nsk_graph *graph);

#endif
