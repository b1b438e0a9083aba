/* refine/gradient: how a loss of the integer network's scores changes with its weights. Forward by
 * the device's own kernels, so that what is learned from is what ships; backward in float, straight
 * through every rounding (Y. Bengio, N. Leonard, A. Courville, arXiv 1308.3432, 2013), and not
 * through what a clamp or the range has cut off. */
#ifndef NSK_REFINE_GRADIENT_H
#define NSK_REFINE_GRADIENT_H

#include "lowered/integer.h"
#include "lowered/lowered.h"

/* What is learned of one layer: its weights, in the order of nsk_lowered_layer.weights, and biases.
 */
typedef struct nsk_learned {
    size_t weights; /* 0: nothing is learned of this layer */
    int channels;
    float *weight; /* as the device has them: level x scale */
} nsk_learned;

/* One runner's memory: what each tensor holds, and the gradients. */
typedef struct nsk_gradient nsk_gradient;

/* `learned` has an entry a layer. All three must outlive it. */
nsk_gradient *nsk_gradient_new(const nsk_lowered *lowered, const nsk_scale *scales,
                               const nsk_learned *learned);
void nsk_gradient_free(nsk_gradient *gradient);

/* Whether the network can be gone through backwards: it ends in a softmax or in
 * sigmoids. */
bool nsk_gradient_can(const nsk_lowered *lowered, nsk_error *error);

/* Sets what has been added up to nothing. */
void nsk_gradient_clear(nsk_gradient *gradient);
/* Runs a frame through `model`, made of the same layers with nothing streamed, and returns the
 * cross-entropy of its probabilities with `target`, one number a class. Adds its gradients where
 * `learn`. */
double nsk_gradient_add(nsk_gradient *gradient, const nsk_model *model, const uint8_t *frame,
                        const float *target, bool learn);
/* The scores that the last frame was given, until the next. */
const int32_t *nsk_gradient_scores(const nsk_gradient *gradient);

/* How much the last frame's loss would change, to the first order, were a channel of a tensor taken
 * away towards nothing: the sum of its numbers times their gradients, one a channel. */
void nsk_gradient_changes(const nsk_gradient *gradient, int tensor, double *changes);

/* What has been added up: by each weight, by each bias. */
const float *nsk_gradient_weights(const nsk_gradient *gradient, int layer);
const float *nsk_gradient_biases(const nsk_gradient *gradient, int layer);

#endif
