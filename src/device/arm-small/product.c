/* Cores of the small instruction set: eight registers that everything can use, products of 32 bits,
 * no more. Two pixels by two outputs keep their sums in the other registers, which can be added to
 * but not multiplied. */
#include "../product.h"

#include "../arch.h"

#if defined(NSK_ARCH_ARM_SMALL)

#include "../arithmetic.h"
#include "../format.h"

/* What the loop takes and gives. The offsets stand in its text. */
typedef struct block {
    const int8_t *x, *y; /*  0,  4: inputs of both pixels */
    const int8_t *v, *w; /*  8, 12: weights of both outputs */
    int32_t row;         /* 16 */
    int32_t a, b, c, d;  /* 20: x v, y v, x w, y w */
} block;

#define TAP                                                                                        \
    "ldrsb r5, [r0, r4]\n\t"                                                                       \
    "ldrsb r6, [r1, r4]\n\t"                                                                       \
    "ldrsb r7, [r2, r4]\n\t"                                                                       \
    "mov r12, r7\n\t"                                                                              \
    "muls r7, r5, r7\n\t"                                                                          \
    "add r8, r8, r7\n\t"                                                                           \
    "mov r7, r12\n\t"                                                                              \
    "muls r7, r6, r7\n\t"                                                                          \
    "add r9, r9, r7\n\t"                                                                           \
    "ldrsb r7, [r3, r4]\n\t"                                                                       \
    "muls r5, r7, r5\n\t"                                                                          \
    "add r10, r10, r5\n\t"                                                                         \
    "muls r6, r7, r6\n\t"                                                                          \
    "add r11, r11, r6\n\t"                                                                         \
    "adds r4, r4, #1\n\t"

/* All registers are spoken for, so that the compiler has no part in it. */
__attribute__((naked, noinline)) static void dot_pairs(block *b __attribute__((unused))) {
    __asm__(".syntax unified\n\t"
            "push {r4-r7, lr}\n\t"
            "mov r4, r8\n\t"
            "mov r5, r9\n\t"
            "mov r6, r10\n\t"
            "mov r7, r11\n\t"
            "push {r0, r4-r7}\n\t"
            "mov r1, r0\n\t"
            "adds r1, r1, #20\n\t"
            "ldm r1!, {r4-r7}\n\t"
            "mov r8, r4\n\t"
            "mov r9, r5\n\t"
            "mov r10, r6\n\t"
            "mov r11, r7\n\t"
            "ldm r0!, {r1-r5}\n\t"
            "mov lr, r5\n\t"
            "mov r0, r1\n\t"
            "mov r1, r2\n\t"
            "mov r2, r3\n\t"
            "mov r3, r4\n\t"
            "movs r4, #0\n"
            "1:\n\t" TAP TAP TAP TAP "cmp r4, lr\n\t"
            "bne 1b\n\t"
            "pop {r0}\n\t"
            "adds r0, r0, #20\n\t"
            "mov r4, r8\n\t"
            "mov r5, r9\n\t"
            "mov r6, r10\n\t"
            "mov r7, r11\n\t"
            "stm r0!, {r4-r7}\n\t"
            "pop {r4-r7}\n\t"
            "mov r8, r4\n\t"
            "mov r9, r5\n\t"
            "mov r10, r6\n\t"
            "mov r11, r7\n\t"
            "pop {r4-r7, pc}\n\t");
}

/* nsk_rescale, zero point and clamp where all shifts are 33 at least and the clamp is an int8's. */
NSK_WITHIN int8_t finish(int32_t acc, int32_t m, int32_t shift, int32_t zero) {
    int32_t value = (((nsk_high_word(acc, m) >> shift) + 1) >> 1) + zero;
    if ((uint32_t)(value + 128) > 255U) { /* one test where nearly all pass */
        value = value < 0 ? -128 : 127;
    }
    return (int8_t)value;
}

static NSK_APART void write_slowly(const nsk_product *p, int32_t output, int32_t acc, int8_t *out) {
    int32_t value = nsk_rescale(acc, nsk_word(p->multipliers, (uint32_t)output), p->shifts[output]);
    *out = nsk_clamp(value + p->zero, p->low, p->high);
}

static NSK_APART void write_both(const nsk_product *p, int32_t output, int32_t first,
                                 int32_t second, int8_t *out, int8_t *other_out) {
    out += output;
    other_out += output;
    if (!p->plain_finish) {
        write_slowly(p, output, first, out);
        write_slowly(p, output, second, other_out);
        return;
    }
    int32_t m = nsk_word(p->multipliers, (uint32_t)output);
    int32_t shift = p->shifts[output] - 33;
    *out = finish(first, m, shift, p->zero);
    *other_out = finish(second, m, shift, p->zero);
}

/* Two outputs of both pixels; where one is alone, it is done twice. */
static void two_pixels(const nsk_product *p, const int8_t *in, bool alone, int8_t *out) {
    int8_t *other_out = out + (alone ? 0 : p->out_step);
    block b;
    b.x = in;
    b.y = in + (alone ? 0 : p->in_step);
    b.v = p->weights;
    b.row = p->row;
    for (int32_t c = 0; c < p->outputs; c += 2) {
        int32_t next = c + 1 < p->outputs ? 1 : 0;
        b.w = b.v + next * p->row;
        b.a = b.b = nsk_word(p->bias, (uint32_t)c);
        b.c = b.d = nsk_word(p->bias, (uint32_t)(c + next));
        dot_pairs(&b);
        write_both(p, c + next, b.c, b.d, out, other_out);
        write_both(p, c, b.a, b.b, out, other_out);
        b.v += 2 * p->row;
    }
}

void nsk_multiply_out(const nsk_product *p, const int8_t *in, int32_t pixels, int8_t *out) {
    for (; pixels > 0; pixels -= 2) {
        two_pixels(p, in, pixels == 1, out);
        in += 2 * p->in_step;
        out += 2 * p->out_step;
    }
}

#endif
