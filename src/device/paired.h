/* paired: the order of weights that cores with the DSP extension want. The rows of two outputs a
 * and b of a convolution take turns, a half word for each tap: h = a + 256 b. Of every four taps
 * those of bytes 0 and 2 come first, then 1 and 3, as such cores widen inputs. A kernel that
 * multiplies whole half words gets A + 256 B, and by their lower bytes A alone: B is their
 * difference / 256, as |B| is below 2^23. */
#ifndef NSK_DEVICE_PAIRED_H
#define NSK_DEVICE_PAIRED_H

#include "product.h"

/* nsk_multiply_out with such weights: an even number of outputs, clamped to int8, at least one
 * pixel. */
void nsk_multiply_paired(const nsk_matmul *product, const int8_t *in, int32_t pixels, int8_t *out);

#endif
