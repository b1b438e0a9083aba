/* pipeline/pipeline: the steps from a graph to a model, for those who need what stands between
 * them. */
#ifndef NSK_PIPELINE_PIPELINE_H
#define NSK_PIPELINE_PIPELINE_H

#include "lowered/lowered.h"

/* Operator by operator to the device's layers, concatenations joined. One without integer form is
 * an error that names the node and says what to change. */
nsk_lowered *nsk_lower_and_join(const nsk_graph *graph, nsk_error *error);

#endif
