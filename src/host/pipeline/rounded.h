/* pipeline/rounded: the network with the integer model's weights, and its levels beside each
 * tensor: written as quantised ONNX and read again, which leaves what is computed in float. */
#ifndef NSK_PIPELINE_ROUNDED_H
#define NSK_PIPELINE_ROUNDED_H

#include "graph/graph.h"
#include "netsuke/images.h"
#include "netsuke/network.h"

nsk_network *nsk_network_rounded(const nsk_network *network, const nsk_images *calibration,
                                 const nsk_recipe *recipe, nsk_error *error);

#endif
