/* blocked: the order of weights that cores with vectors want which meet a whole vector with one
 * number. The rows of sixteen outputs of a convolution take turns: of each tap, the sixteen weights
 * stand together. What is left at the end is a block of fewer. */
#ifndef NSK_DEVICE_BLOCKED_H
#define NSK_DEVICE_BLOCKED_H

#include "product.h"

/* nsk_multiply_out with such weights, clamped to int8. */
void nsk_multiply_blocked(const nsk_matmul *product, const int8_t *in, int32_t pixels, int8_t *out);

#endif
