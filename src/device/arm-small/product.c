/* Cores of the small instruction set: eight registers that everything can use, products of 32 bits,
 * no more.
 *
 * One product of 32 bits is made to hold two of 8: a pair of pixels' inputs a and b stand in one
 * word as a + 2^16 b, whose product with a weight w is a w + 2^16 b w. Two such products can be
 * added before the lower half overflows (2 x 128 x 127 < 2^15). Of each such sum S, T adds up all
 * of it and H what the upper half holds, floor((S + 2^15) / 2^16): then the sum of all b w is H,
 * and that of all a w is T - 2^16 H, where what wraps around in T is gone again. */
#include "../product.h"

#include "../arch.h"

#if defined(NSK_ARCH_ARM_SMALL)

#include <stddef.h>

#include "../arithmetic.h"
#include "../format.h"

enum { PIXELS = 4 }; /* at a time: two pairs */

/* One output of four pixels. The offsets stand in the text below. */
typedef struct work {
    const uint32_t *pairs;       /*  0 */
    const int8_t *weights, *end; /*  4 */
    int32_t bias;                /* 12 */
    int32_t half;                /* 16: of what the shift divides by */
    int32_t offset;              /* 20: the zero point's distance from -128 */
    int32_t step;                /* 24 */
    int32_t factor, shift;       /* 28 */
    int8_t *out;                 /* 36 */
    int32_t sums[PIXELS];        /* 40: where they are wanted instead */
} work;
NSK_ASSERT(offsetof(work, sums) == 40, "the text below is for pointers of four bytes");

/* Two taps of both pairs, with the weights in r0 and `last`: four products, two sums. */
#define TWO_TAPS(last, next)                                                                       \
    "ldm r1!, {r4-r7}\n\t"                                                                         \
    "sxtb r0, r3\n\t"                                                                              \
    "muls r4, r0, r4\n\t"                                                                          \
    "muls r6, r0, r6\n\t"                                                                          \
    "asrs r3, r3, #8\n\t" next "muls r5, " last ", r5\n\t"                                         \
    "muls r7, " last ", r7\n\t"                                                                    \
    "adds r4, r4, r5\n\t"                                                                          \
    "adds r6, r6, r7\n\t"                                                                          \
    "add r9, r9, r4\n\t"                                                                           \
    "add r10, r10, r6\n\t"                                                                         \
    "add r4, r4, r8\n\t"                                                                           \
    "add r6, r6, r8\n\t"                                                                           \
    "asrs r4, r4, #16\n\t"                                                                         \
    "asrs r6, r6, #16\n\t"                                                                         \
    "add r11, r11, r4\n\t"                                                                         \
    "add r12, r12, r6\n\t"

/* Begins a function that takes a work in r0 and leaves the four sums in r4 to r7 and the work in
 * r0. */
#define ADD_UP                                                                                     \
    ".syntax unified\n\t"                                                                          \
    "push {r4-r7, lr}\n\t"                                                                         \
    "mov r4, r8\n\t"                                                                               \
    "mov r5, r9\n\t"                                                                               \
    "mov r6, r10\n\t"                                                                              \
    "mov r7, r11\n\t"                                                                              \
    "push {r0, r4-r7}\n\t"                                                                         \
    "ldm r0!, {r1-r3}\n\t"                                                                         \
    "mov lr, r3\n\t"                                                                               \
    "movs r0, #1\n\t"                                                                              \
    "lsls r0, r0, #15\n\t"                                                                         \
    "mov r8, r0\n\t"                                                                               \
    "movs r0, #0\n\t"                                                                              \
    "mov r9, r0\n\t"                                                                               \
    "mov r10, r0\n\t"                                                                              \
    "mov r11, r0\n\t"                                                                              \
    "mov r12, r0\n"                                                                                \
    "1:\n\t"                                                                                       \
    "ldm r2!, {r3}\n\t" /* four weights */                                                         \
        TWO_TAPS("r0", "sxtb r0, r3\n\t") "asrs r3, r3, #8\n\t" TWO_TAPS(                          \
            "r3", "") "cmp r2, lr\n\t"                                                             \
                      "bne 1b\n\t"                                                                 \
                      "pop {r0}\n\t"                                                               \
                      "ldr r3, [r0, #12]\n\t"                                                      \
                      "mov r5, r11\n\t"                                                            \
                      "mov r4, r9\n\t"                                                             \
                      "lsls r2, r5, #16\n\t"                                                       \
                      "subs r4, r4, r2\n\t"                                                        \
                      "adds r4, r4, r3\n\t"                                                        \
                      "adds r5, r5, r3\n\t"                                                        \
                      "mov r7, r12\n\t"                                                            \
                      "mov r6, r10\n\t"                                                            \
                      "lsls r2, r7, #16\n\t"                                                       \
                      "subs r6, r6, r2\n\t"                                                        \
                      "adds r6, r6, r3\n\t"                                                        \
                      "adds r7, r7, r3\n\t"

/* Ends it. */
#define RETURN                                                                                     \
    "pop {r4-r7}\n\t"                                                                              \
    "mov r8, r4\n\t"                                                                               \
    "mov r9, r5\n\t"                                                                               \
    "mov r10, r6\n\t"                                                                              \
    "mov r11, r7\n\t"                                                                              \
    "pop {r4-r7, pc}\n\t"

/* nsk_requantise of a sum where the clamp is an int8's. */
#define REQUANTISE(sum)                                                                            \
    "muls " sum ", r1, " sum "\n\t"                                                                \
    "add " sum ", " sum ", r12\n\t"                                                                \
    "asrs " sum ", " sum ", r2\n\t"                                                                \
    "add " sum ", " sum ", lr\n\t"                                                                 \
    "cmp " sum ", #255\n\t"                                                                        \
    "bls 2f\n\t" /* nearly always */                                                               \
    "asrs " sum ", " sum ", #31\n\t"                                                               \
    "mvns " sum ", " sum "\n"                                                                      \
    "2:\n\t"                                                                                       \
    "subs " sum ", " sum ", #128\n\t"                                                              \
    "strb " sum ", [r3, #0]\n\t"                                                                   \
    "add r3, r3, r8\n\t"

/* All registers are spoken for in these, so that the compiler has no part in them. */
__attribute__((naked, noinline)) static void write_plainly(work *w __attribute__((unused))) {
    __asm__(ADD_UP "adds r0, r0, #16\n\t"
                   "ldm r0!, {r1-r3}\n\t"
                   "mov r12, r1\n\t"
                   "mov lr, r2\n\t"
                   "mov r8, r3\n\t"
                   "ldm r0!, {r1-r3}\n\t" REQUANTISE("r4") REQUANTISE("r5") REQUANTISE("r6")
                       REQUANTISE("r7") RETURN);
}

__attribute__((naked, noinline)) static void add_up(work *w __attribute__((unused))) {
    __asm__(ADD_UP "adds r0, r0, #40\n\t"
                   "stm r0!, {r4-r7}\n\t" RETURN);
}

/* A pair's inputs, two taps at a time, with room between them for those of the other pair. */
static void pair_up(const int8_t *a, const int8_t *b, int32_t row, uint32_t *to) {
    for (const int8_t *end = a + row; a < end; a += 2, b += 2, to += PIXELS) {
        to[0] = (uint32_t)(int32_t)a[0] + ((uint32_t)(int32_t)b[0] << 16);
        to[1] = (uint32_t)(int32_t)a[1] + ((uint32_t)(int32_t)b[1] << 16);
    }
}

static NSK_NOINLINE void write_slowly(const nsk_matmul *p, int32_t requantise, const int32_t *sum,
                                      int32_t pixels, int8_t *out) {
    for (const int32_t *end = sum + pixels; sum < end; sum++, out += p->out_step) {
        *out = nsk_requantise(*sum, requantise, p->zero, p->low, p->high);
    }
}

/* Up to four pixels, whose pairs stand in the scratch. */
static void all_outputs(const nsk_matmul *p, int32_t pixels, int8_t *out) {
    work w;
    w.pairs = (const uint32_t *)(const void *)p->scratch;
    w.end = p->weights;
    w.offset = p->zero + 128;
    w.step = p->out_step;
    bool plain = p->plain_requantise && pixels == PIXELS;
    for (int32_t c = 0; c < p->outputs; c++, out++) {
        w.weights = w.end;
        w.end += p->row;
        int32_t requantise = nsk_word(p->requantise, (uint32_t)c);
        w.bias = nsk_requantise_bias(requantise);
        if (plain) {
            w.factor = nsk_requantise_factor(requantise);
            w.shift = nsk_requantise_shift(requantise);
            w.half = INT32_C(1) << (w.shift - 1);
            w.out = out;
            write_plainly(&w);
        } else {
            add_up(&w);
            write_slowly(p, requantise, w.sums, pixels, out);
        }
    }
}

void nsk_multiply_out(const nsk_matmul *p, const int8_t *in, int32_t pixels, int8_t *out) {
    if (p->scratch == NULL) {
        nsk_multiply_pixel(p, in, out);
        return;
    }
    uint32_t *pairs = (uint32_t *)(void *)p->scratch;
    while (pixels > 0) {
        int32_t some = pixels < PIXELS ? pixels : (int32_t)PIXELS;
        const int8_t *last = in + (some - 1) * p->in_step;
        for (int32_t i = 0; i < PIXELS; i += 2) { /* where there is none, the last stands in */
            const int8_t *a = i < some ? in + i * p->in_step : last;
            const int8_t *b = i + 1 < some ? in + (i + 1) * p->in_step : last;
            pair_up(a, b, p->row, pairs + i);
        }
        all_outputs(p, some, out);
        pixels -= some;
        in += some * p->in_step;
        out += some * p->out_step;
    }
}

#endif
