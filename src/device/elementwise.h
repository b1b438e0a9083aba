/* elementwise: sums and products of two tensors, which cores have their own kernels of. */
#ifndef NSK_DEVICE_ELEMENTWISE_H
#define NSK_DEVICE_ELEMENTWISE_H

#include "layer.h"

/* Of a layer, but for its clamp: a, and b once for all of it, for each pixel, or for each element.
 */
typedef struct nsk_elements {
    const int8_t *a, *b;
    int8_t *out;
    uint32_t count;
    uint32_t b_step; /* 0: b is one number */
    int32_t a_zero, b_zero, zero;
    int32_t a_factor, b_factor; /* of a sum; of a product, a_factor is the multiplier */
    int32_t shift;
} nsk_elements;

/* What they write is clamped to an int8. */
void nsk_add_elements(const nsk_elements *elements);
void nsk_multiply_elements(const nsk_elements *elements);

/* The portable one, for what a core's own leaves. */
void nsk_multiply_elements_plain(const nsk_elements *elements);

#endif
