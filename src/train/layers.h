/* train/layers: forward and backward of each kind of layer, for one shard. */
#ifndef NSK_TRAIN_LAYERS_H
#define NSK_TRAIN_LAYERS_H

#include "train/net.h"

typedef struct nsk_train_step {
    const nsk_train_layer *layer;
    nsk_train_cache *cache;
    const float *input, *earlier; /* of the layer before, and of the earlier one of a join */
    float *input_gradient;        /* NULL where nobody wants it */
    float *earlier_gradient;
    float *gradients; /* of all parameters */
    int pictures;
    bool training;
} nsk_train_step;

typedef struct nsk_train_operation {
    void (*forward)(const nsk_train_step *step);
    /* Reads cache->gradient; adds to the parameters' gradients and to the inputs'. */
    void (*backward)(const nsk_train_step *step);
} nsk_train_operation;

extern const nsk_train_operation nsk_train_operations[NSK_TRAIN_KINDS];

/* Those of branches.c, and of tokens.c. */
void nsk_train_from_forward(const nsk_train_step *step);
void nsk_train_from_backward(const nsk_train_step *step);
void nsk_train_concat_forward(const nsk_train_step *step);
void nsk_train_concat_backward(const nsk_train_step *step);
void nsk_train_half_forward(const nsk_train_step *step);
void nsk_train_half_backward(const nsk_train_step *step);
void nsk_train_shuffle_forward(const nsk_train_step *step);
void nsk_train_shuffle_backward(const nsk_train_step *step);
void nsk_train_layer_norm_forward(const nsk_train_step *step);
void nsk_train_layer_norm_backward(const nsk_train_step *step);
void nsk_train_gelu_forward(const nsk_train_step *step);
void nsk_train_gelu_backward(const nsk_train_step *step);
void nsk_train_offset_forward(const nsk_train_step *step);
void nsk_train_offset_backward(const nsk_train_step *step);
void nsk_train_same_forward(const nsk_train_step *step);
void nsk_train_same_backward(const nsk_train_step *step);
void nsk_train_turn_forward(const nsk_train_step *step);
void nsk_train_turn_backward(const nsk_train_step *step);
void nsk_train_token_forward(const nsk_train_step *step);
void nsk_train_token_backward(const nsk_train_step *step);
void nsk_train_first_forward(const nsk_train_step *step);
void nsk_train_first_backward(const nsk_train_step *step);
void nsk_train_attention_forward(const nsk_train_step *step);
void nsk_train_attention_backward(const nsk_train_step *step);

#endif
