/* The portable product for processors with thirty registers or so: four pixels by two outputs.
 *
 * One product of 32 bits is made to hold two of 8: a pair of pixels' inputs a and b stand in one
 * word as a + 2^16 b, whose product with a weight w is a w + 2^16 b w. Two such products, and HALF,
 * can be added before the lower part overflows (2 x 128 x 127 < 2^15). Of each such sum S, T adds
 * up all of it and H what the upper part holds, S / 2^16: then the sum of all b w is H, and that of
 * all a w is T - 2^16 H, less the HALF of each sum. What wraps around in T is gone again. Both
 * begin with the bias, T less all HALFs. */
#include "product.h"

#include "arch.h"
#include "format.h"

#if defined(NSK_PLAIN_HALVES)

#define HALF UINT32_C(0x8000)
enum { PIXELS = 4, TAPS = 2 }; /* at a time: two pairs; in one sum */

/* An output's sums, of both pairs. */
typedef struct halves {
    uint32_t all[2];
    int32_t upper[2];
} halves;

static inline uint32_t word_of(int8_t level) {
    return (uint32_t)(int32_t)level;
}

/* Both pairs' words of each tap. */
NSK_WRAPS static NSK_NOINLINE void pair_up(const int8_t *const *in, int32_t row, uint32_t *to) {
    const int8_t *a = in[0];
    const int8_t *b = in[1];
    const int8_t *c = in[2];
    const int8_t *d = in[3];
    for (const int8_t *end = a + row; a < end; a++, b++, c++, d++, to += 2) {
        to[0] = word_of(*a) + (word_of(*b) << 16);
        to[1] = word_of(*c) + (word_of(*d) << 16);
    }
}

/* The bias in both halves, less the HALFs that will be added to the lower ones. */
NSK_WRAPS static inline halves begin(int32_t bias, int32_t row) {
    const uint32_t both = (uint32_t)bias + ((uint32_t)bias << 16);
    const uint32_t all = both - (uint32_t)row / TAPS * HALF;
    return (halves){{all, all}, {bias, bias}};
}

/* Output c of four pixels, from where their outputs begin. */
NSK_WRAPS static inline void write_four(const nsk_matmul *p, halves s, int32_t requantise,
                                        int8_t *const *out, uint32_t c) {
    const int32_t zero = p->zero;
    const int32_t low = p->low;
    const int32_t high = p->high;
    const uint32_t first = s.all[0] - ((uint32_t)s.upper[0] << 16);
    const uint32_t third = s.all[1] - ((uint32_t)s.upper[1] << 16);
    out[3][c] = nsk_requantise(s.upper[1], requantise, zero, low, high);
    out[2][c] = nsk_requantise((int32_t)third, requantise, zero, low, high);
    out[1][c] = nsk_requantise(s.upper[0], requantise, zero, low, high);
    out[0][c] = nsk_requantise((int32_t)first, requantise, zero, low, high);
}

/* Outputs c and `other` of four pixels, whose rows of weights are v and w. */
NSK_WRAPS static NSK_NOINLINE void two_outputs(const nsk_matmul *p, const uint32_t *pairs,
                                               const int8_t *v, const int8_t *w, uint32_t c,
                                               uint32_t other, int8_t *const *out) {
    const int32_t requantise = nsk_word(p->requantise, c);
    const int32_t other_requantise = nsk_word(p->requantise, other);
    halves a = begin(nsk_requantise_bias(requantise), p->row);
    halves b = begin(nsk_requantise_bias(other_requantise), p->row);
    for (const int8_t *end = v + p->row; v < end; v += TAPS, w += TAPS, pairs += 2 * TAPS) {
        uint32_t s;
#define MEET(sums, pair, weights)                                                                  \
    s = HALF + pairs[pair] * word_of((weights)[0]);                                                \
    s += pairs[2 + (pair)] * word_of((weights)[1]);                                                \
    (sums).all[pair] += s;                                                                         \
    (sums).upper[pair] += (int32_t)s >> 16
        MEET(a, 0, v);
        MEET(a, 1, v);
        MEET(b, 0, w);
        MEET(b, 1, w);
#undef MEET
    }
    write_four(p, b, other_requantise, out, other);
    write_four(p, a, requantise, out, c);
}

/* Up to four pixels; the last one stands in for those that are not there. */
static void four_pixels(const nsk_matmul *p, const int8_t *in, int32_t pixels, int8_t *first_out) {
    uint32_t *pairs = (uint32_t *)(void *)p->scratch;
    const int8_t *from[PIXELS];
    int8_t *out[PIXELS];
    for (int32_t i = 0; i < PIXELS; i++) {
        const int32_t k = i < pixels ? i : pixels - 1;
        from[i] = in + k * p->in_step;
        out[i] = first_out + k * p->out_step;
    }
    pair_up(from, p->row, pairs);
    const int8_t *weights = p->weights;
    for (uint32_t c = 0; c < (uint32_t)p->outputs; c += 2, weights += 2 * p->row) {
        const uint32_t more = c + 1U < (uint32_t)p->outputs; /* one alone is done twice */
        two_outputs(p, pairs, weights, weights + (more != 0 ? p->row : 0), c, c + more, out);
    }
}

void NSK_PLAIN(nsk_multiply_out)(const nsk_matmul *p, const int8_t *in, int32_t pixels,
                                 int8_t *out) {
    for (; pixels > 1 && p->scratch != NULL; pixels -= PIXELS) {
        four_pixels(p, in, pixels, out);
        in += PIXELS * p->in_step;
        out += PIXELS * p->out_step;
    }
    if (pixels > 0) {
        nsk_multiply_pixel(p, in, out);
    }
}

#endif
