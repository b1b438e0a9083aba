/* pipeline/pipeline: the steps from a graph to a model, for those who need what stands between
 * them. */
#ifndef NSK_PIPELINE_PIPELINE_H
#define NSK_PIPELINE_PIPELINE_H

#include "lowered/lowered.h"
#include "netsuke/images.h"
#include "netsuke/network.h"

/* Operator by operator to the device's layers, concatenations joined. One without integer form is
 * an error that names the node and says what to change. */
nsk_lowered *nsk_lower_and_join(const nsk_graph *graph, nsk_error *error);

/* The network with the integer model's weights, and its levels beside each tensor, computed in
 * float: as the quantised ONNX is that the recipe gives. */
nsk_network *nsk_network_rounded(const nsk_network *network, const nsk_images *calibration,
                                 const nsk_recipe *recipe, nsk_error *error);

#endif
