/* pipeline/pipeline: the steps from a graph to a model, for those who need what stands between
 * them. */
#ifndef NSK_PIPELINE_PIPELINE_H
#define NSK_PIPELINE_PIPELINE_H

#include "lowered/integer.h"
#include "lowered/lowered.h"
#include "netsuke/images.h"
#include "netsuke/network.h"

/* Operator by operator to the device's layers, concatenations joined. One without integer form is
 * an error that names the node and says what to change. */
nsk_lowered *nsk_lower_and_join(const nsk_graph *graph, nsk_error *error);

/* A network on its way to integers. */
typedef struct nsk_pipeline {
    nsk_network *own; /* the equalised copy, or NULL */
    const nsk_network *network;
    nsk_lowered *lowered;
    nsk_scale *scales;
    int moved;  /* copies of calibration images */
    int fitted; /* of calibration images */
} nsk_pipeline;

/* Up to the scales: channels evened out, layers, ranges. Levels of weights are open. To be cleared
 * whatever comes back; false and an error where it cannot be done. */
bool nsk_pipeline_start(nsk_pipeline *pipeline, const nsk_network *network,
                        const nsk_images *calibration, const nsk_recipe *recipe, nsk_error *error);
void nsk_pipeline_clear(nsk_pipeline *pipeline);

/* The network with the integer model's weights, and its levels beside each tensor, computed in
 * float: as the quantised ONNX is that the recipe gives. */
nsk_network *nsk_network_rounded(const nsk_network *network, const nsk_images *calibration,
                                 const nsk_recipe *recipe, nsk_error *error);

#endif
