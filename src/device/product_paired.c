/* Weights in pairs where the core has no use for them: the same numbers, slowly. */
#include "small.h"

#include "paired.h"

#include "arch.h"
#include "check.h"
#include "format.h"

#if !defined(NSK_ARCH_ARM_DSP)

void nsk_multiply_paired(const nsk_matmul *p, const int8_t *in, int32_t pixels, int8_t *out) {
    for (; pixels > 0; pixels--, in += p->in_step, out += p->out_step) {
        for (uint32_t c = 0; c < (uint32_t)p->outputs; c++) {
            const int8_t *pair = p->weights + (c & ~1U) * (uint32_t)p->row;
            const int32_t requantise = nsk_word(p->requantise, c);
            int32_t sum = nsk_requantise_bias(requantise);
            for (uint32_t i = 0; i < (uint32_t)p->row; i++) {
                sum += in[i] * nsk_paired_weight(pair, i, c % 2U == 1U);
            }
            out[c] = nsk_requantise(sum, requantise, p->zero, p->low, p->high);
        }
    }
}

#endif
