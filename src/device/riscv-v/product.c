/* Weights in the usual order, as dense layers have them: as many taps as a vector holds meet in one
 * instruction, whose products are added up at the end of a row. What is quick has them in blocks:
 * product_blocked.c. */
#include "../product.h"

#include "../arch.h"

#if defined(NSK_ARCH_RISCV_VECTOR)

#include "../format.h"
#include "rvv.h"

static NSK_NOINLINE int32_t dot(const int8_t *a, const int8_t *b, int32_t row, int32_t sum) {
    int32_t lanes;
    __asm__ volatile(
        RVV_BEGIN "vsetivli zero, 1, e32, m1, ta, ma\n\t"
                  "vmv.s.x v0, %[sum]\n"
                  "1:\n\t"
                  "vsetvli %[lanes], %[row], e8, m4, ta, ma\n\t"
                  "vle8.v v4, (%[a])\n\t"
                  "vle8.v v8, (%[b])\n\t"
                  "sub %[row], %[row], %[lanes]\n\t"
                  "add %[a], %[a], %[lanes]\n\t"
                  "add %[b], %[b], %[lanes]\n\t"
                  "vwmul.vv v16, v4, v8\n\t"
                  "vsetvli zero, zero, e16, m8, ta, ma\n\t"
                  "vwredsum.vs v0, v16, v0\n\t"
                  "bnez %[row], 1b\n\t"
                  "vsetivli zero, 1, e32, m1, ta, ma\n\t"
                  "vmv.x.s %[sum], v0\n\t" RVV_END
        : [a] "+&r"(a), [b] "+&r"(b), [row] "+&r"(row), [sum] "+&r"(sum), [lanes] "=&r"(lanes)
        :
        : RVV_CLOBBERS);
    return sum;
}

void nsk_multiply_out(const nsk_matmul *p, const int8_t *in, int32_t pixels, int8_t *out) {
    for (; pixels > 0; pixels--, in += p->in_step, out += p->out_step) {
        const int8_t *weights = p->weights;
        for (uint32_t c = 0; c < (uint32_t)p->outputs; c++, weights += p->row) {
            const int32_t requantise = nsk_word(p->requantise, c);
            const int32_t sum = dot(in, weights, p->row, nsk_requantise_bias(requantise));
            nsk_put_output(p, sum, requantise, out, c);
        }
    }
}

#endif
