/* refine/settle: biases that take what has become of the numbers on their way through the integer
 * layers. */
#ifndef NSK_REFINE_SETTLE_H
#define NSK_REFINE_SETTLE_H

#include "passes/moments.h"
#include "refine/refine.h"

/* How many images of a set rounding and settling look at: 256 or, where those are fewer, all of it;
 * and no more than there are workspaces of the network in 256 MiB. */
int nsk_settle_images(const nsk_lowered *lowered, const nsk_images *images);

/* Layer by layer, in order: the inputs that the integer layers before really give are observed at
 * the same windows of the same images as `moments`, and what an output is too high by on the
 * average, through the rounding of its weights and of everything before, is taken off its bias.
 * Layers that were not looked at, or have no levels yet, keep their biases. */
bool nsk_settle_biases(const nsk_refine_subject *subject, const nsk_moments *moments,
                       const nsk_images *images, nsk_error *error);

#endif
