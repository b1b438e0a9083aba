/* The portable product for processors with thirty registers or so: four pixels by two outputs.
 *
 * One product of 32 bits is made to hold two of 8: a pair of pixels' inputs a and b stand in one
 * word as a + 2^16 b, whose product with a weight w is a w + 2^16 b w. Two such products, and HALF,
 * can be added before the lower part overflows (2 x 128 x 127 < 2^15). Of each such sum S, T adds
 * up all of it and H what the upper part holds, S / 2^16: then the sum of all b w is H, and that of
 * all a w is T - 2^16 H, less the HALF of each sum. What wraps around in T is gone again. */
#include "product.h"

#include "arch.h"
#include "format.h"

#if defined(NSK_PLAIN_HALVES)

#define HALF UINT32_C(0x8000)
enum { PIXELS = 4, TAPS = 2 }; /* at a time: two pairs; in one sum */

/* Of two outputs, the first and second pair's. */
typedef struct halves {
    uint32_t all[4];
    int32_t upper[4];
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

/* `v` and `w`: the rows of two outputs. */
NSK_WRAPS static NSK_NOINLINE void add_up(const uint32_t *pairs, const int8_t *v, const int8_t *w,
                                          int32_t row, halves *sums) {
    uint32_t t0 = 0;
    uint32_t t1 = 0;
    uint32_t t2 = 0;
    uint32_t t3 = 0;
    int32_t h0 = 0;
    int32_t h1 = 0;
    int32_t h2 = 0;
    int32_t h3 = 0;
    for (const int8_t *end = v + row; v < end; v += TAPS, w += TAPS, pairs += 2 * TAPS) {
        uint32_t s;
#define MEET(t, h, pair, weights)                                                                  \
    s = HALF + pairs[pair] * word_of((weights)[0]);                                                \
    s += pairs[2 + (pair)] * word_of((weights)[1]);                                                \
    (t) += s;                                                                                      \
    (h) += (int32_t)s >> 16
        MEET(t0, h0, 0, v);
        MEET(t1, h1, 1, v);
        MEET(t2, h2, 0, w);
        MEET(t3, h3, 1, w);
#undef MEET
    }
    sums->all[0] = t0;
    sums->all[1] = t1;
    sums->all[2] = t2;
    sums->all[3] = t3;
    sums->upper[0] = h0;
    sums->upper[1] = h1;
    sums->upper[2] = h2;
    sums->upper[3] = h3;
}

/* Output c of four pixels, from where their outputs begin. */
NSK_WRAPS static void write_four(const nsk_matmul *p, const halves *s, int first,
                                 int32_t requantise, int8_t *const *out, uint32_t c) {
    const int32_t bias = nsk_requantise_bias(requantise);
    const uint32_t added = (uint32_t)(p->row / TAPS) * HALF;
    for (int i = 0; i < 2; i++) {
        const int32_t upper = s->upper[first + i];
        const uint32_t lower = s->all[first + i] - added - ((uint32_t)upper << 16);
        out[2 * i + 1][c] = nsk_requantise(upper + bias, requantise, p->zero, p->low, p->high);
        out[2 * i][c] = nsk_requantise((int32_t)lower + bias, requantise, p->zero, p->low, p->high);
    }
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
        const uint32_t other = c + 1U < (uint32_t)p->outputs; /* one alone is done twice */
        halves s;
        add_up(pairs, weights, weights + (other != 0 ? p->row : 0), p->row, &s);
        write_four(p, &s, 2, nsk_word(p->requantise, c + other), out, c + other);
        write_four(p, &s, 0, nsk_word(p->requantise, c), out, c);
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
