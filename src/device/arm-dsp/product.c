/* One pixel and output at a time, two products an instruction: for dense layers, and where weights
 * stand as every core reads them. What is quick has them in pairs: product_paired.c. */
#include "../product.h"

#include "../arch.h"

#if defined(NSK_ARCH_ARM_DSP)

#include "../arithmetic.h"
#include "../format.h"
#include "dsp.h"

static NSK_NOINLINE void one_pixel(const nsk_matmul *p, const int8_t *in, int8_t *out) {
    const int8_t *weights = p->weights;
    for (uint32_t c = 0; c < (uint32_t)p->outputs; c++) {
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

void nsk_multiply_out(const nsk_matmul *p, const int8_t *in, int32_t pixels, int8_t *out) {
    for (; pixels > 0; pixels--, in += p->in_step, out += p->out_step) {
        one_pixel(p, in, out);
    }
}

#endif
