/* Sixteen channels at a time. Vectors multiply levels as they stand; what their zero points change
 * follows from the sums of both sides. */
#include "../dots.h"

#include "../arch.h"

#if defined(NSK_ARCH_ARM_MVE)

#include "mve.h"

/* Of two sides: the products' sum, less what the zero points add. In 32 bits that may run over in
 * between: the result fits. */
static int32_t less_zeroes(const nsk_dots *d, int32_t products, int32_t left, int32_t right) {
    const uint32_t zeroes = (uint32_t)d->left_zero * (uint32_t)right +
                            (uint32_t)d->right_zero * (uint32_t)left -
                            (uint32_t)(d->left_zero * d->right_zero) * d->channels;
    return (int32_t)((uint32_t)products - zeroes);
}

void nsk_four_dots(const nsk_dots *d, int32_t sum[4]) {
    int32_t product[4] = {0, 0, 0, 0};
    int32_t a_sum = 0;
    int32_t b_sum = 0;
    int32_t x_sum = 0;
    int32_t y_sum = 0;
    for (uint32_t c = 0; c < d->channels; c += 16U) {
        const mve_pred16_t there = vctp8q(d->channels - c);
        const int8x16_t x = vldrbq_z_s8(d->right + c, there);
        const int8x16_t y = vldrbq_z_s8(d->right + d->right_apart + c, there);
        const int8x16_t a = vldrbq_z_s8(d->left + c, there);
        const int8x16_t b = vldrbq_z_s8(d->left + d->left_apart + c, there);
        product[0] = vmladavaq_s8(product[0], a, x);
        product[1] = vmladavaq_s8(product[1], a, y);
        product[2] = vmladavaq_s8(product[2], b, x);
        product[3] = vmladavaq_s8(product[3], b, y);
        a_sum = vaddvaq_s8(a_sum, a);
        b_sum = vaddvaq_s8(b_sum, b);
        x_sum = vaddvaq_s8(x_sum, x);
        y_sum = vaddvaq_s8(y_sum, y);
    }
    sum[0] = less_zeroes(d, product[0], a_sum, x_sum);
    sum[1] = less_zeroes(d, product[1], a_sum, y_sum);
    sum[2] = less_zeroes(d, product[2], b_sum, x_sum);
    sum[3] = less_zeroes(d, product[3], b_sum, y_sum);
}

#endif
