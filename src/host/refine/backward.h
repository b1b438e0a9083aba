/* refine/backward: one layer backwards: from the gradient of its output to those of its inputs and
 * weights. Tensors are height x width x channels. */
#ifndef NSK_REFINE_BACKWARD_H
#define NSK_REFINE_BACKWARD_H

#include "lowered/integer.h"
#include "lowered/lowered.h"

typedef struct nsk_backward_tensor {
    int height, width, channels;
    int step;        /* from a pixel to the next */
    float *value;    /* what the levels stand for */
    float *gradient; /* of the loss by the value */
    int8_t *level;
} nsk_backward_tensor;

/* One for each tensor of the network; those that stand in others have the others' memory. */
nsk_backward_tensor *nsk_backward_tensors_new(const nsk_lowered *lowered);
void nsk_backward_tensors_free(const nsk_lowered *lowered, nsk_backward_tensor *tensors);

typedef struct nsk_backward_step {
    const nsk_lowered_layer *layer;
    const nsk_backward_tensor *in, *second, *out; /* second: NULL where there is none */
    nsk_scale in_scale;
    int low, high;       /* the output's clamp, levels */
    const float *weight; /* what they stand for; NULL where there are none */
    float *weight_gradient, *bias_gradient;
    float *scratch; /* nsk_backward_scratch floats */
    bool input_counts;
} nsk_backward_step;

/* Adds to the gradients of inputs, weights and biases. Changes the output's gradient. */
void nsk_backward(const nsk_backward_step *step);
size_t nsk_backward_scratch(const nsk_lowered_layer *layer, const nsk_backward_tensor *out);

#endif
