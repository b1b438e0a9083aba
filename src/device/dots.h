/* dots: what products of two tensors spend their time in. */
#ifndef NSK_DEVICE_DOTS_H
#define NSK_DEVICE_DOTS_H

#include "layer.h"

/* Two pixels of each side, `apart` bytes from one to the next; 0: the same one twice. */
typedef struct nsk_dots {
    const int8_t *left, *right;
    uint32_t channels, left_apart, right_apart;
    int32_t left_zero, right_zero;
} nsk_dots;

/* The sums, over the channels, of the levels' products, less their zero points: of the first on the
 * left with both on the right, then of the second. */
void nsk_four_dots(const nsk_dots *d, int32_t sum[4]);

#endif
