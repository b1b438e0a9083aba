/* Four channels of two pixels by two at a time: bytes are widened to halves of 16 bits, less their
 * zero points, in one instruction. */
#include "../dots.h"

#include "../arch.h"

#if defined(NSK_ARCH_ARM_DSP)

#include "dsp.h"

/* Four bytes as halves of 16 bits: the first and third, the second and fourth. */
typedef struct wide {
    uint32_t even, odd;
} wide;

static inline wide widen(const int8_t *at, uint32_t less_zero) {
    const uint32_t word = nsk_four_anywhere(at);
    const wide four = {nsk_even_bytes_and(less_zero, word), nsk_odd_bytes_and(less_zero, word)};
    return four;
}

static inline int32_t add_four(wide a, wide b, int32_t acc) {
    return nsk_add_both(a.odd, b.odd, nsk_add_both(a.even, b.even, acc));
}

/* A zero point below zero in both halves. */
static uint32_t halves_of(int32_t zero) {
    const uint32_t half = (uint32_t)-zero & 0xffffU;
    return half << 16 | half;
}

/* The channels from `from` on, which do not fill a word. */
static void add_rest(const nsk_dots *d, uint32_t from, int32_t sum[4]) {
    for (uint32_t c = from; c < d->channels; c++) {
        const int32_t a = d->left[c] - d->left_zero;
        const int32_t b = d->left[c + d->left_apart] - d->left_zero;
        const int32_t x = d->right[c] - d->right_zero;
        const int32_t y = d->right[c + d->right_apart] - d->right_zero;
        sum[0] += a * x;
        sum[1] += a * y;
        sum[2] += b * x;
        sum[3] += b * y;
    }
}

void nsk_four_dots(const nsk_dots *d, int32_t sum[4]) {
    const int8_t *left = d->left;
    const int8_t *right = d->right;
    const int8_t *const end = left + d->channels / 4U * 4U;
    const uint32_t left_apart = d->left_apart;
    const uint32_t right_apart = d->right_apart;
    const uint32_t left_less = halves_of(d->left_zero);
    const uint32_t right_less = halves_of(d->right_zero);
    int32_t first = 0;
    int32_t second = 0;
    int32_t third = 0;
    int32_t fourth = 0;
    for (; left < end; left += 4, right += 4) {
        const wide x = widen(right, right_less);
        const wide y = widen(right + right_apart, right_less);
        const wide a = widen(left, left_less);
        first = add_four(a, x, first);
        second = add_four(a, y, second);
        const wide b = widen(left + left_apart, left_less);
        third = add_four(b, x, third);
        fourth = add_four(b, y, fourth);
    }
    sum[0] = first;
    sum[1] = second;
    sum[2] = third;
    sum[3] = fourth;
    add_rest(d, d->channels / 4U * 4U, sum);
}

#endif
