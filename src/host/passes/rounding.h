/* passes/rounding: weights rounded up or down so that their layer's output moves least. */
#ifndef NSK_PASSES_ROUNDING_H
#define NSK_PASSES_ROUNDING_H

#include "lowered/integer.h"
#include "lowered/lowered.h"
#include "passes/moments.h"

/* Rounds the weights of every layer that was looked at: fills its `levels` and `multipliers`. Where
 * `turn`, each output takes the scale at which its expected squared error is least, its largest
 * weights being cut off where that is smaller than theirs, and its weights are turned from the
 * nearest level to the other neighbour one by one while that lowers the error. */
void nsk_fit_rounding(nsk_lowered *lowered, const nsk_scale *scales, const nsk_moments *moments,
                      bool turn);
/* Where a weight stands among a layer's. */
size_t nsk_weight_place(const nsk_lowered_layer *layer, int outputs, int output, int tap);

#endif
