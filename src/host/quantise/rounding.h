/* quantise/rounding: weights rounded up or down so that their layer's output moves least. */
#ifndef NSK_ROUNDING_H
#define NSK_ROUNDING_H

#include "quantise/integer.h"
#include "quantise/lower.h"

/* For every layer with weights: how its inputs vary together is observed on the images, and then,
 * if `turn`, each output's weights are turned from the nearest level to the other neighbour one by
 * one while that lowers the expected squared error of the output. What the rounding of all weights
 * of an output adds on the average goes into its bias, if `biases`. Fills `levels` of the layers
 * and changes their biases. Layers of more than 1,280 taps, dense ones on more than one pixel, and
 * those whose input stands in an order of its own, are left as they are. */
bool nsk_fit_rounding(const nsk_graph *graph, nsk_lowered *lowered, const nsk_scale *scales,
                      const nsk_images *images, bool turn, bool biases, nsk_error *error);

#endif
