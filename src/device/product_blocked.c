/* Weights in blocks where the core has no use for them: the same numbers, slowly. */
#include "small.h"

#include "blocked.h"

#include "arch.h"
#include "check.h"
#include "format.h"

#if defined(NSK_READS_BLOCKS) && !defined(NSK_ARCH_RISCV_VECTOR)

void nsk_multiply_blocked(const nsk_matmul *p, const int8_t *in, int32_t pixels, int8_t *out) {
    const uint32_t outputs = (uint32_t)p->outputs;
    const uint32_t row = (uint32_t)p->row;
    for (; pixels > 0; pixels--, in += p->in_step, out += p->out_step) {
        for (uint32_t c = 0; c < outputs; c++) {
            const int32_t requantise = nsk_word(p->requantise, c);
            const uint32_t first = nsk_blocked_place(outputs, row, c, 0);
            const uint32_t step = nsk_blocked_place(outputs, row, c, 1) - first;
            const int8_t *w = p->weights + first;
            int32_t sum = nsk_requantise_bias(requantise);
            for (uint32_t i = 0; i < row; i++, w += step) {
                sum += in[i] * *w;
            }
            out[c] = nsk_requantise(sum, requantise, p->zero, p->low, p->high);
        }
    }
}

#endif
