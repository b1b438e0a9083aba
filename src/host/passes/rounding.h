/* passes/rounding: weights rounded up or down so that their layer's output moves least. */
#ifndef NSK_PASSES_ROUNDING_H
#define NSK_PASSES_ROUNDING_H

#include "lowered/integer.h"
#include "lowered/lowered.h"
#include "netsuke/images.h"

/* For every layer with weights: how its inputs vary together is observed on the images. Then, if
 * the recipe wants rounding, each output takes the scale at which its expected squared error is
 * least, its largest weights being cut off where that is smaller than theirs, and its weights are
 * turned from the nearest level to the other neighbour one by one while that lowers the error. What
 * the rounding of all weights of an output adds on the average goes into its bias, if the recipe
 * wants that. Fills `levels` and `multipliers` of the layers and changes their biases. Layers of
 * more than 1,280 taps, dense ones on more than one pixel, and those whose input stands in an order
 * of its own, are left as they are. */
bool nsk_fit_rounding(const nsk_graph *graph, nsk_lowered *lowered, const nsk_scale *scales,
                      const nsk_images *images, const nsk_recipe *recipe, nsk_error *error);

#endif
