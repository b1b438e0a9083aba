/* Two pixels by two outputs at a time. The pixels' inputs are widened once for all outputs and
 * stand side by side; weights are widened as they come. */
#include "../product.h"

#include "../arch.h"

#if defined(NSK_ARCH_ARM_DSP)

#include "../arithmetic.h"
#include "../format.h"
#include "dsp.h"

/* Of four inputs of two pixels: bytes 0 and 2 of each, bytes 1 and 3 of each. */
enum { WIDE = 4 }; /* words a word of inputs */

static void widen(const int8_t *first, const int8_t *second, int32_t row, uint32_t *to) {
    for (const int8_t *end = first + row; first < end; first += 4, second += 4, to += WIDE) {
        uint32_t a = nsk_load_four(first);
        uint32_t b = nsk_load_four(second);
        to[0] = nsk_even_bytes(a);
        to[1] = nsk_even_bytes(b);
        to[2] = nsk_odd_bytes(a);
        to[3] = nsk_odd_bytes(b);
    }
}

/* What the loops below walk along. The offsets stand in their text. */
typedef struct walk {
    const uint32_t *in;        /*  0: both pixels' inputs */
    const uint32_t *end;       /*  4 */
    int32_t row;               /*  8 */
    int32_t zero;              /* 12 */
    const uint8_t *requantise; /* 16: of the next output */
    uint32_t left;             /* 20: outputs that are left, an even number */
    int8_t *first, *second;    /* 24, 28: the outputs of either pixel */
    const int8_t *weights;     /* 32 */
} walk;

/* Compilers find too few registers for all this: a block of two outputs written out takes half the
 * instructions around its inner loop. Sums: a and b of the first output, c and d of the second. A
 * row of an odd number of words starts in the middle of the loop. */
#define FOUR_TAPS                                                                                  \
    "ldr %[v], [%[weights]], #4\n\t"                                                               \
    "ldr %[w], [%[other]], #4\n\t"                                                                 \
    "ldrd %[x], %[y], [%[in]], #8\n\t"                                                             \
    "sxtb16 %[t], %[v]\n\t"                                                                        \
    "smlad %[a], %[x], %[t], %[a]\n\t"                                                             \
    "smlad %[b], %[y], %[t], %[b]\n\t"                                                             \
    "sxtb16 %[t], %[w]\n\t"                                                                        \
    "smlad %[c], %[x], %[t], %[c]\n\t"                                                             \
    "smlad %[d], %[y], %[t], %[d]\n\t"                                                             \
    "ldrd %[x], %[y], [%[in]], #8\n\t"                                                             \
    "sxtb16 %[v], %[v], ror #8\n\t"                                                                \
    "smlad %[a], %[x], %[v], %[a]\n\t"                                                             \
    "smlad %[b], %[y], %[v], %[b]\n\t"                                                             \
    "sxtb16 %[w], %[w], ror #8\n\t"                                                                \
    "smlad %[c], %[x], %[w], %[c]\n\t"                                                             \
    "smlad %[d], %[y], %[w], %[d]\n\t"

/* The first output's weights are `weights`, the second's, `other`, a row behind. */
#define START_BLOCK                                                                                \
    "ldr %[x], [%[walk], #16]\n\t"                                                                 \
    "ldrd %[a], %[c], [%[x]]\n\t"                                                                  \
    "asr %[a], %[a], #9\n\t"                                                                       \
    "asr %[c], %[c], #9\n\t"                                                                       \
    "mov %[b], %[a]\n\t"                                                                           \
    "mov %[d], %[c]\n\t"                                                                           \
    "ldr %[in], [%[walk], #0]\n\t"                                                                 \
    "ldr %[t], [%[walk], #8]\n\t"                                                                  \
    "add %[other], %[weights], %[t]\n\t"                                                           \
    "tst %[t], #4\n\t"

/* nsk_requantise, where the clamp is an int8's: the bit that is shifted out last is the rounding.
 */
#define REQUANTISE(sum, m, shift)                                                                  \
    "mul %[" sum "], %[" sum "], %[" m "]\n\t"                                                     \
    "asrs %[" sum "], %[" sum "], %[" shift "]\n\t"                                                \
    "adc %[" sum "], %[" sum "], %[in]\n\t"                                                        \
    "ssat %[" sum "], #8, %[" sum "]\n\t"

#define REQUANTISE_BLOCK                                                                           \
    "ldr %[x], [%[walk], #16]\n\t"                                                                 \
    "ldrd %[t], %[weights], [%[x]], #8\n\t"                                                        \
    "str %[x], [%[walk], #16]\n\t"                                                                 \
    "ldr %[in], [%[walk], #12]\n\t"                                                                \
    "and %[v], %[t], #15\n\t"                                                                      \
    "and %[w], %[weights], #15\n\t"                                                                \
    "ubfx %[t], %[t], #4, #5\n\t"                                                                  \
    "ubfx %[weights], %[weights], #4, #5\n\t" REQUANTISE("a", "v", "t") REQUANTISE("b", "v", "t")  \
        REQUANTISE("c", "w", "weights")                                                            \
            REQUANTISE("d", "w", "weights") "ldrd %[x], %[y], [%[walk], #24]\n\t"                  \
                                            "strb %[a], [%[x]], #1\n\t"                            \
                                            "strb %[c], [%[x]], #1\n\t"                            \
                                            "strb %[b], [%[y]], #1\n\t"                            \
                                            "strb %[d], [%[y]], #1\n\t"                            \
                                            "strd %[x], %[y], [%[walk], #24]\n\t"

/* All pairs of outputs. */
static NSK_NOINLINE void walk_pairs(walk *at) {
    uint32_t a;
    uint32_t b;
    uint32_t c;
    uint32_t d;
    uint32_t x;
    uint32_t y;
    uint32_t v;
    uint32_t w;
    uint32_t t;
    const uint32_t *in;
    const int8_t *weights = at->weights;
    const int8_t *other;
    __asm__ volatile("1:\n\t" START_BLOCK "bne 3f\n"
                     "2:\n\t" FOUR_TAPS "3:\n\t" FOUR_TAPS "ldr %[t], [%[walk], #4]\n\t"
                     "cmp %[in], %[t]\n\t"
                     "bne 2b\n\t" REQUANTISE_BLOCK "ldr %[t], [%[walk], #20]\n\t"
                     "mov %[weights], %[other]\n\t"
                     "subs %[t], %[t], #2\n\t"
                     "str %[t], [%[walk], #20]\n\t"
                     "bne 1b\n\t"
                     : [weights] "+&r"(weights), [a] "=&r"(a), [b] "=&r"(b), [c] "=&r"(c),
                       [d] "=&r"(d), [in] "=&r"(in), [other] "=&r"(other), [x] "=&r"(x),
                       [y] "=&r"(y), [v] "=&r"(v), [w] "=&r"(w), [t] "=&r"(t)
                     : [walk] "r"(at)
                     : "cc", "memory");
    at->weights = weights;
}

/* Outputs from `from` on of one pixel. */
static NSK_NOINLINE void one_pixel(const nsk_matmul *p, const int8_t *in, int32_t from,
                                   int8_t *out) {
    const int8_t *weights = p->weights + from * p->row;
    for (uint32_t c = (uint32_t)from; c < (uint32_t)p->outputs; c++) {
        int32_t requantise = nsk_word(p->requantise, c);
        int32_t acc = nsk_requantise_bias(requantise);
        for (int32_t i = 0; i < p->row; i += 4, weights += 4) {
            uint32_t x = nsk_load_four(in + i);
            uint32_t w = nsk_load_four(weights);
            acc = nsk_add_both(nsk_even_bytes(x), nsk_even_bytes(w), acc);
            acc = nsk_add_both(nsk_odd_bytes(x), nsk_odd_bytes(w), acc);
        }
        nsk_put_output(p, acc, requantise, out, c);
    }
}

static void two_pixels(const nsk_matmul *p, const int8_t *in, int8_t *out) {
    uint32_t *wide = (uint32_t *)(void *)p->scratch;
    int32_t even = p->outputs & ~1;
    walk at = {wide, wide + p->row,     p->row,    p->zero, p->requantise, (uint32_t)even,
               out,  out + p->out_step, p->weights};
    widen(in, in + p->in_step, p->row, wide);
    if (even > 0) {
        walk_pairs(&at);
    }
    if (even < p->outputs) {
        one_pixel(p, in, even, out);
        one_pixel(p, in + p->in_step, even, out + p->out_step);
    }
}

void nsk_multiply_out(const nsk_matmul *p, const int8_t *in, int32_t pixels, int8_t *out) {
    for (; pixels >= 2 && p->plain_requantise; pixels -= 2) {
        two_pixels(p, in, out);
        in += 2 * p->in_step;
        out += 2 * p->out_step;
    }
    for (; pixels > 0; pixels--) {
        one_pixel(p, in, 0, out);
        in += p->in_step;
        out += p->out_step;
    }
}

#endif
