/* lowered/integer: the arithmetic that turns float layers into integer ones; docs/arithmetic.md
 * says why each choice is made. */
#ifndef NSK_LOWERED_INTEGER_H
#define NSK_LOWERED_INTEGER_H

#include "lowered/lowered.h"

/* The numbers that a tensor takes, zero among them. */
typedef struct nsk_range {
    float low, high;
} nsk_range;

/* value = scale x (q - zero) */
typedef struct nsk_scale {
    float scale;
    int zero;
} nsk_scale;

/* A multiplier of about m / 2^s: see src/device/arithmetic.h. */
typedef struct nsk_multiplier {
    int32_t multiplier;
    uint8_t shift;
} nsk_multiplier;

/* The numbers of one layer of the model file. */
typedef struct nsk_integer_layer {
    int8_t *weights;     /* in the device's order; NULL where there are none */
    int32_t *requantise; /* one a channel */
    size_t weight_bytes;
    int channels;
    nsk_multiplier *multipliers;
    int multiplier_count;
    int32_t factors[2]; /* sum: of both inputs */
    int factor_shift;
    uint8_t *table;  /* look-up: 256 bytes; softmax, scores, resize, normalise and a fine look-up:
                      * 16 bits little-endian */
    int table_count; /* entries */
    int32_t *moves;  /* move, normalise: its numbers */
    int move_count;
    int low, high;
} nsk_integer_layer;

/* The scale that covers the range, and zero, with 256 levels. */
nsk_scale nsk_scale_of(nsk_range range);
/* Of int16, whose zero is 0: twice the range, as what calibration has not shown is not to be cut
 * off; no finer than 2^-11, which tells logits apart that differ by half a thousandth: of what is
 * 2^15 levels below the highest nothing is left. */
#define NSK_LEAST_WIDE_SCALE 0x1p-11
nsk_scale nsk_wide_scale_of(nsk_range range);
/* The least scale of the layer's output at which its weights and biases can be told in integers; 0
 * where any will do. A tensor that calibration saw nothing in has a range next to none, and one
 * level of its scale would be less than the smallest part of a bias. */
double nsk_least_output_scale(const nsk_lowered_layer *layer, int channels, nsk_scale in);
/* That of the parts of a fine tensor's levels. */
nsk_scale nsk_fine_scale(nsk_scale levels);
/* That of a tensor of the device; of a fine one, of its parts. */
nsk_scale nsk_scale_of_tensor(const nsk_tensor *tensor);
/* The level of a value; what is no number gets that of zero. */
int nsk_level_of(double value, nsk_scale scale);
/* The same for many: levels.c. */
void nsk_levels_of(const float *numbers, size_t count, nsk_scale scale, int8_t *levels);
/* Each to its level and back; to one of int16. */
void nsk_round_to_levels(float *numbers, size_t count, nsk_scale scale);
void nsk_round_to_wide_levels(float *numbers, size_t count, nsk_scale scale);
/* The level of a value as int16; that of zero for what is no number. */
int16_t nsk_wide_level_of(double value, nsk_scale scale);
/* The multiplier of one output channel: the least at which the largest weight is within what its
 * bits can tell and sums and bias within what the device holds. It makes the scale of the weights,
 * multiplier x out / in; and the level of a weight at that. */
nsk_requantise_multiplier nsk_weight_multiplier(const nsk_lowered_layer *layer, int channel,
                                                int channels, nsk_scale in, nsk_scale out);
double nsk_weight_scale(const nsk_lowered_layer *layer, int channel, int channels, nsk_scale in,
                        nsk_scale out);
int nsk_weight_level(const nsk_lowered_layer *layer, double weight, double scale);
/* The next smaller multiplier, at which the largest weights are cut off; false where there is none,
 * or sums and bias would not be within what the device holds. */
bool nsk_multiplier_below(const nsk_lowered_layer *layer, int channel, int channels, nsk_scale in,
                          nsk_scale out, nsk_requantise_multiplier *multiplier);
double nsk_scale_at(nsk_requantise_multiplier multiplier, nsk_scale in, nsk_scale out);
/* False where the number is not positive, or out of a multiplier's reach. */
bool nsk_multiplier_of(double number, nsk_multiplier *to);
/* What a layer with a function of one number, or none, makes of x, the output's clamp included; x
 * itself where the layer is NULL. */
double nsk_lowered_function_at(const nsk_lowered_layer *layer, double x);
/* Quantises a layer. `in`, `second`, `out`: scales of its tensors. */
/* result->channels, and table_count of a resize (rows and columns of the output), are set before.
 */
bool nsk_integer_layer_make(const nsk_lowered_layer *layer, nsk_scale in, nsk_scale second,
                            nsk_scale out, nsk_integer_layer *result, nsk_error *error);
void nsk_integer_layer_clear(nsk_integer_layer *layer);

#endif
