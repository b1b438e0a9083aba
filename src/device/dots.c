/* Two pixels by two, so that each byte is loaded for two products. */
#include "dots.h"

#include "arch.h"

#if !defined(NSK_ARCH_ARM_DSP) && !defined(NSK_HAS_VECTORS)

void nsk_four_dots(const nsk_dots *d, int32_t sum[4]) {
    const int8_t *left = d->left;
    const int8_t *right = d->right;
    const int8_t *const end = left + d->channels;
    const uint32_t left_apart = d->left_apart;
    const uint32_t right_apart = d->right_apart;
    const int32_t left_zero = d->left_zero;
    const int32_t right_zero = d->right_zero;
    int32_t first = 0;
    int32_t second = 0;
    int32_t third = 0;
    int32_t fourth = 0;
    while (left < end) {
        const int32_t a = left[0] - left_zero;
        const int32_t b = left[left_apart] - left_zero;
        const int32_t x = right[0] - right_zero;
        const int32_t y = right[right_apart] - right_zero;
        first += a * x;
        second += a * y;
        third += b * x;
        fourth += b * y;
        left++;
        right++;
    }
    sum[0] = first;
    sum[1] = second;
    sum[2] = third;
    sum[3] = fourth;
}

#endif
