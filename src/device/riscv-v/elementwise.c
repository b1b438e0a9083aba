/* Sums and products of two tensors, as many elements at a time as four registers hold in words. */
#include "../elementwise.h"

#include "../arch.h"

#if defined(NSK_ARCH_RISCV_VECTOR)

#include "../arithmetic.h"
#include "rvv.h"

/* The next elements of both, as words in v4 and v8. */
#define NEXT_TWO                                                                                   \
    "vsetvli %[lanes], %[count], e32, m4, ta, ma\n\t"                                              \
    "vle8.v v0, (%[a])\n\t"                                                                        \
    "vle8.v v1, (%[b])\n\t"                                                                        \
    "sub %[count], %[count], %[lanes]\n\t"                                                         \
    "add %[a], %[a], %[lanes]\n\t"                                                                 \
    "add %[b], %[b], %[lanes]\n\t"                                                                 \
    "vsext.vf4 v4, v0\n\t"                                                                         \
    "vsext.vf4 v8, v1\n\t"
/* Those in v4 are written. */
#define PUT                                                                                        \
    "vadd.vx v4, v4, %[zero]\n\t" RVV_SATURATE("v4", "v8",                                         \
                                               "v0") "vse8.v v0, (%[out])\n\t"                     \
                                                     "add %[out], %[out], %[lanes]\n\t"            \
                                                     "bnez %[count], 1b\n\t" RVV_END

/* `b`: where it is one number, which `rest` has, anything and times 0. */
static void add(const nsk_elements *e, const int8_t *b, int32_t b_factor, int32_t rest) {
    const int8_t *a = e->a;
    int8_t *out = e->out;
    uint32_t count = e->count;
    uint32_t lanes;
    __asm__ volatile(
        RVV_BEGIN "1:\n\t" NEXT_TWO "vmul.vx v4, v4, %[a_factor]\n\t"
                  "vmacc.vx v4, %[b_factor], v8\n\t"
                  "vadd.vx v4, v4, %[rest]\n\t"
                  "vsra.vx v4, v4, %[shift]\n\t" PUT
        : [a] "+&r"(a), [b] "+&r"(b), [out] "+&r"(out), [count] "+&r"(count), [lanes] "=&r"(lanes)
        : [a_factor] "r"(e->a_factor), [b_factor] "r"(b_factor), [rest] "r"(rest),
          [shift] "r"(e->shift), [zero] "r"(e->zero)
        : RVV_CLOBBERS);
}

void nsk_add_elements(const nsk_elements *e) {
    int32_t rest = (INT32_C(1) << (e->shift - 1)) - e->a_zero * e->a_factor;
    if (e->count == 0) {
        return;
    }
    if (e->b_step != 0) {
        add(e, e->b, e->b_factor, rest - e->b_zero * e->b_factor);
    } else {
        add(e, e->a, 0, rest + (*e->b - e->b_zero) * e->b_factor);
    }
}

/* nsk_rescale, by the high word and one rounding shift. */
void nsk_multiply_elements(const nsk_elements *e) {
    const int8_t *a = e->a;
    const int8_t *b = e->b;
    int8_t *out = e->out;
    uint32_t count = e->count;
    uint32_t lanes;
    if (e->shift < NSK_SHIFT_BY_HIGH_WORD || e->b_step == 0 || count == 0) {
        nsk_multiply_elements_plain(e);
        return;
    }
    __asm__ volatile(
        RVV_BEGIN RVV_ROUND_UP "1:\n\t" NEXT_TWO "vsub.vx v4, v4, %[a_zero]\n\t"
                               "vsub.vx v8, v8, %[b_zero]\n\t"
                               "vmul.vv v4, v4, v8\n\t"
                               "vmulh.vx v4, v4, %[multiplier]\n\t"
                               "vssra.vx v4, v4, %[shift]\n\t" PUT
        : [a] "+&r"(a), [b] "+&r"(b), [out] "+&r"(out), [count] "+&r"(count), [lanes] "=&r"(lanes)
        : [multiplier] "r"(e->a_factor), [a_zero] "r"(e->a_zero), [b_zero] "r"(e->b_zero),
          [shift] "r"(e->shift - NSK_SHIFT_BY_HIGH_WORD + 1), [zero] "r"(e->zero)
        : RVV_CLOBBERS);
}

#endif
