/* Four pixels by two outputs at a time, with two outputs' weights in a half word (paired.h): a word
 * of weights is four of them, used as it stands and once with its lower bytes widened. Twelve
 * instructions for sixteen products; the pixels' inputs are widened once for all outputs. */
#include "../paired.h"

#include "../arch.h"

#if defined(NSK_ARCH_ARM_DSP)

#if defined(__OPTIMIZE_SIZE__)

#include "../format.h"
#include "dsp.h"

static NSK_NOINLINE void put(const nsk_matmul *p, int32_t sum, uint32_t c, int8_t *out) {
    const int32_t requantise = nsk_word(p->requantise, c);
    out[c] = nsk_requantise(sum + nsk_requantise_bias(requantise), requantise, p->zero, -128, 127);
}

/* Two pixels at a time. */
typedef struct two {
    const int8_t *in[2];
    int8_t *out[2];
    int32_t first[2], both[2]; /* sums of the first output; of whole half words, which may wrap */
} two;

/* Returns the next pair's weights. */
static NSK_NOINLINE const int8_t *add_up(two *t, int32_t row, const int8_t *weights) {
    const int8_t *x = t->in[0];
    const int8_t *y = t->in[1];
    const int8_t *end = x + row;
    int32_t a0 = 0;
    int32_t a1 = 0;
    int32_t b0 = 0;
    int32_t b1 = 0;
    uint32_t four;
    uint32_t other;
    uint32_t w;
    uint32_t low;
    uint32_t wide;
#define MEET(turn)                                                                                 \
    "ldr %[w], [%[weights]], #4\n\t"                                                               \
    "sxtb16 %[low], %[w]\n\t"                                                                      \
    "sxtb16 %[wide], %[four]" turn "\n\t"                                                          \
    "smlad %[a0], %[wide], %[low], %[a0]\n\t"                                                      \
    "smlad %[b0], %[wide], %[w], %[b0]\n\t"                                                        \
    "sxtb16 %[wide], %[other]" turn "\n\t"                                                         \
    "smlad %[a1], %[wide], %[low], %[a1]\n\t"                                                      \
    "smlad %[b1], %[wide], %[w], %[b1]\n\t"
    __asm__ volatile("1:\n\t"
                     "ldr %[four], [%[x]], #4\n\t"
                     "ldr %[other], [%[y]], #4\n\t" MEET("") MEET(", ror #8") "cmp %[x], %[end]\n\t"
                                                                              "bne 1b\n\t"
                     : [x] "+&r"(x), [y] "+&r"(y), [weights] "+&r"(weights), [a0] "+&r"(a0),
                       [a1] "+&r"(a1), [b0] "+&r"(b0), [b1] "+&r"(b1), [four] "=&r"(four),
                       [other] "=&r"(other), [w] "=&r"(w), [low] "=&r"(low), [wide] "=&r"(wide)
                     : [end] "r"(end)
                     : "cc", "memory");
#undef MEET
    t->first[0] = a0;
    t->first[1] = a1;
    t->both[0] = b0;
    t->both[1] = b1;
    return weights;
}

/* Two pixels at a time, the rest by compilers: a third of the size, two thirds as quick. One pixel
 * alone is done twice. */
void nsk_multiply_paired(const nsk_matmul *p, const int8_t *in, int32_t pixels, int8_t *out) {
    for (; pixels > 0; pixels -= 2) {
        const int8_t *weights = p->weights;
        two t;
        t.in[0] = t.in[1] = in;
        t.out[0] = t.out[1] = out;
        if (pixels > 1) {
            t.in[1] += p->in_step;
            t.out[1] += p->out_step;
        }
        for (uint32_t c = 0; c < (uint32_t)p->outputs; c += 2) {
            weights = add_up(&t, p->row, weights);
            for (int32_t i = 0; i < 2; i++) {
                const int32_t second = (int32_t)((uint32_t)t.both[i] - (uint32_t)t.first[i]) >> 8;
                put(p, t.first[i], c, t.out[i]);
                put(p, second, c + 1U, t.out[i]);
            }
        }
        in += 2 * p->in_step;
        out += 2 * p->out_step;
    }
}

#else

#include <stddef.h>

enum { PIXELS = 4 };

/* Of four inputs of four pixels: bytes 0 and 2 of each, then bytes 1 and 3 of each. */
static NSK_NOINLINE void widen(const int8_t *const *in, int32_t row, uint32_t *to) {
    const int8_t *a = in[0];
    const int8_t *b = in[1];
    const int8_t *c = in[2];
    const int8_t *d = in[3];
    const int8_t *end = a + row;
    __asm__ volatile("1:\n\t"
                     "ldr r3, [%[a]], #4\n\t"
                     "ldr r4, [%[b]], #4\n\t"
                     "ldr r5, [%[c]], #4\n\t"
                     "ldr r6, [%[d]], #4\n\t"
                     "sxtb16 r8, r3\n\t"
                     "sxtb16 r9, r4\n\t"
                     "sxtb16 r10, r5\n\t"
                     "sxtb16 r11, r6\n\t"
                     "stm %[to]!, {r8-r11}\n\t"
                     "sxtb16 r3, r3, ror #8\n\t"
                     "sxtb16 r4, r4, ror #8\n\t"
                     "sxtb16 r5, r5, ror #8\n\t"
                     "sxtb16 r6, r6, ror #8\n\t"
                     "cmp %[a], %[end]\n\t"
                     "stm %[to]!, {r3-r6}\n\t"
                     "bne 1b\n\t"
                     : [a] "+&r"(a), [b] "+&r"(b), [c] "+&r"(c), [d] "+&r"(d), [to] "+&r"(to)
                     : [end] "r"(end)
                     : "r3", "r4", "r5", "r6", "r8", "r9", "r10", "r11", "cc", "memory");
}

/* What the loops below walk along. The offsets stand in their text. */
typedef struct walk {
    int8_t *out[PIXELS];       /*  0 */
    const uint32_t *in;        /* 16: all pixels' inputs */
    uint32_t odd;              /* 20: whether a row is an odd number of words */
    const int8_t *weights;     /* 24 */
    const uint8_t *requantise; /* 28: of the next output */
    int32_t zero;              /* 32 */
    uint32_t left;             /* 36: pairs of outputs that are left */
    const uint32_t *end;       /* 40 */
} walk;
NSK_ASSERT(offsetof(walk, end) == 40, "the text below is for pointers of four bytes");

/* Of the first output r4 to r7 are the sums, of both r8 to r11. */
#define TWO_TAPS                                                                                   \
    "ldr r12, [r1], #4\n\t"                                                                        \
    "ldrd r2, r3, [r0], #8\n\t"                                                                    \
    "sxtb16 lr, r12\n\t"                                                                           \
    "smlad r4, r2, lr, r4\n\t"                                                                     \
    "smlad r8, r2, r12, r8\n\t"                                                                    \
    "smlad r5, r3, lr, r5\n\t"                                                                     \
    "smlad r9, r3, r12, r9\n\t"                                                                    \
    "ldrd r2, r3, [r0], #8\n\t"                                                                    \
    "smlad r6, r2, lr, r6\n\t"                                                                     \
    "smlad r10, r2, r12, r10\n\t"                                                                  \
    "smlad r7, r3, lr, r7\n\t"                                                                     \
    "smlad r11, r3, r12, r11\n\t"

/* nsk_requantise, where the clamp is an int8's: the bit that is shifted out last is the rounding.
 */
#define REQUANTISE(sum, m, shift)                                                                  \
    "mul " sum ", " sum ", " m "\n\t"                                                              \
    "asrs " sum ", " sum ", " shift "\n\t"                                                         \
    "adc " sum ", " sum ", lr\n\t"                                                                 \
    "ssat " sum ", #8, " sum "\n\t"

/* All pairs of outputs. Every register is spoken for, so that the compiler has no part in it. A row
 * of an odd number of words starts in the middle of the loop. */
__attribute__((naked, noinline)) static void walk_pairs(walk *at __attribute__((unused))) {
    __asm__(".syntax unified\n\t"
            "push {r0, r4-r11, lr}\n\t"
            "ldr r12, [r0, #40]\n\t"
            "push {r0, r12}\n"
            "1:\n\t"
            "ldrd r1, r12, [r0, #24]\n\t"
            "ldrd r2, r3, [r12]\n\t"
            "asr r4, r2, #9\n\t"
            "asr r8, r3, #9\n\t"
            "add r8, r4, r8, lsl #8\n\t"
            "mov r5, r4\n\t"
            "mov r6, r4\n\t"
            "mov r7, r4\n\t"
            "mov r9, r8\n\t"
            "mov r10, r8\n\t"
            "mov r11, r8\n\t"
            "ldrd r0, r2, [r0, #16]\n\t"
            "cmp r2, #0\n\t"
            "bne 3f\n"
            "2:\n\t" TWO_TAPS TWO_TAPS "3:\n\t" TWO_TAPS TWO_TAPS "ldr r12, [sp, #4]\n\t"
            "cmp r0, r12\n\t"
            "bne 2b\n\t"
            "ldr r0, [sp]\n\t"
            "ldr r12, [r0, #28]\n\t"
            "ldrd r2, r3, [r12], #8\n\t"
            "strd r1, r12, [r0, #24]\n\t"
            "ldr lr, [r0, #32]\n\t"
            "and r1, r2, #15\n\t"
            "ubfx r2, r2, #4, #5\n\t"
            "sub r8, r8, r4\n\t"
            "sub r9, r9, r5\n\t"
            "sub r10, r10, r6\n\t"
            "sub r11, r11, r7\n\t" REQUANTISE("r4", "r1", "r2") REQUANTISE("r5", "r1", "r2")
                REQUANTISE("r6", "r1", "r2") REQUANTISE(
                    "r7", "r1", "r2") "and r1, r3, #15\n\t"
                                      "ubfx r3, r3, #4, #5\n\t"
                                      "asr r8, r8, #8\n\t"
                                      "asr r9, r9, #8\n\t"
                                      "asr r10, r10, #8\n\t"
                                      "asr r11, r11, #8\n\t" REQUANTISE("r8", "r1", "r3")
                                          REQUANTISE("r9", "r1", "r3") REQUANTISE("r10", "r1", "r3")
                                              REQUANTISE("r11", "r1",
                                                         "r3") "ldm r0, {r1, r2, r3, r12}\n\t"
                                                               "strb r4, [r1], #1\n\t"
                                                               "strb r8, [r1], #1\n\t"
                                                               "strb r5, [r2], #1\n\t"
                                                               "strb r9, [r2], #1\n\t"
                                                               "strb r6, [r3], #1\n\t"
                                                               "strb r10, [r3], #1\n\t"
                                                               "strb r7, [r12], #1\n\t"
                                                               "strb r11, [r12], #1\n\t"
                                                               "ldr r4, [r0, #36]\n\t"
                                                               "stm r0, {r1, r2, r3, r12}\n\t"
                                                               "subs r4, r4, #1\n\t"
                                                               "str r4, [r0, #36]\n\t"
                                                               "bne 1b\n\t"
                                                               "add sp, sp, #12\n\t"
                                                               "pop {r4-r11, pc}\n\t");
}

/* Up to four; the last one stands in for those that are not there. */
static void some_pixels(const nsk_matmul *p, const int8_t *in, int32_t pixels, int8_t *out) {
    uint32_t *wide = (uint32_t *)(void *)p->scratch;
    const int8_t *from[PIXELS];
    walk at;
    for (int32_t i = 0; i < PIXELS; i++) {
        const int32_t k = i < pixels ? i : pixels - 1;
        from[i] = in + k * p->in_step;
        at.out[i] = out + k * p->out_step;
    }
    widen(from, p->row, wide);
    at.in = wide;
    at.end = wide + 2 * p->row;
    at.weights = p->weights;
    at.requantise = p->requantise;
    at.zero = p->zero;
    at.left = (uint32_t)p->outputs / 2U;
    at.odd = (uint32_t)p->row & 4U;
    walk_pairs(&at);
}

void nsk_multiply_paired(const nsk_matmul *p, const int8_t *in, int32_t pixels, int8_t *out) {
    for (; pixels > 0; pixels -= PIXELS) {
        some_pixels(p, in, pixels < PIXELS ? pixels : (int32_t)PIXELS, out);
        in += PIXELS * p->in_step;
        out += PIXELS * p->out_step;
    }
}

#endif
#endif
