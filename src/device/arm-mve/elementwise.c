/* Sums and products of two tensors, four elements at a time; the loop's last round takes what is
 * left. */
#include "../elementwise.h"

#include "../arch.h"

#if defined(NSK_ARCH_ARM_MVE)

#include "../arithmetic.h"

/* The clamp of an int8, of four elements in q0, which are then written. */
#define PUT_FOUR                                                                                   \
    "vqmovnb.s32 q0, q0\n\t"                                                                       \
    "vqmovnb.s16 q0, q0\n\t"                                                                       \
    "vstrb.32 q0, [%[out]], #4\n\t"                                                                \
    "letp lr, 1b\n\t"

/* `b`: where it is one number, which `rest` has, anything and times 0. */
static void add(const nsk_elements *e, const int8_t *b, int32_t b_factor, int32_t rest) {
    const int8_t *a = e->a;
    int8_t *out = e->out;
    __asm__ volatile("dlstp.32 lr, %[count]\n"
                     "1:\n\t"
                     "vldrb.s32 q0, [%[a]], #4\n\t"
                     "vldrb.s32 q1, [%[b]], #4\n\t"
                     "vmul.i32 q0, q0, %[a_factor]\n\t"
                     "vmla.s32 q0, q1, %[b_factor]\n\t"
                     "vadd.i32 q0, q0, %[rest]\n\t"
                     "vshl.s32 q0, %[shift]\n\t"
                     "vadd.i32 q0, q0, %[zero]\n\t" PUT_FOUR
                     : [a] "+&l"(a), [b] "+&l"(b), [out] "+&l"(out)
                     : [count] "r"(e->count), [a_factor] "r"(e->a_factor), [b_factor] "r"(b_factor),
                       [rest] "r"(rest), [shift] "r"(-e->shift), [zero] "r"(e->zero)
                     : "lr", "q0", "q1", "memory");
}

void nsk_add_elements(const nsk_elements *e) {
    int32_t rest = (INT32_C(1) << (e->shift - 1)) - e->a_zero * e->a_factor;
    if (e->b_step != 0) {
        add(e, e->b, e->b_factor, rest - e->b_zero * e->b_factor);
    } else {
        add(e, e->a, 0, rest + (*e->b - e->b_zero) * e->b_factor);
    }
}

/* nsk_rescale, by the high word and one rounding shift. */
void nsk_multiply_elements(const nsk_elements *e) {
    if (e->shift < NSK_SHIFT_BY_HIGH_WORD || e->b_step == 0) {
        nsk_multiply_elements_plain(e);
        return;
    }
    const int8_t *a = e->a;
    const int8_t *b = e->b;
    int8_t *out = e->out;
    __asm__ volatile("vdup.32 q2, %[multiplier]\n\t"
                     "dlstp.32 lr, %[count]\n"
                     "1:\n\t"
                     "vldrb.s32 q0, [%[a]], #4\n\t"
                     "vldrb.s32 q1, [%[b]], #4\n\t"
                     "vsub.i32 q0, q0, %[a_zero]\n\t"
                     "vsub.i32 q1, q1, %[b_zero]\n\t"
                     "vmul.i32 q0, q0, q1\n\t"
                     "vmulh.s32 q0, q0, q2\n\t"
                     "vrshl.s32 q0, %[shift]\n\t"
                     "vadd.i32 q0, q0, %[zero]\n\t" PUT_FOUR
                     : [a] "+&l"(a), [b] "+&l"(b), [out] "+&l"(out)
                     : [count] "r"(e->count), [multiplier] "r"(e->a_factor),
                       [a_zero] "r"(e->a_zero), [b_zero] "r"(e->b_zero),
                       [shift] "r"(NSK_SHIFT_BY_HIGH_WORD - 1 - e->shift), [zero] "r"(e->zero)
                     : "lr", "q0", "q1", "q2", "memory");
}

#endif
