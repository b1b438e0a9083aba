/* What an engineer writes first: a loop over outputs, a loop over inputs. The baseline. */
#include "product.h"

#include "arithmetic.h"
#include "format.h"

nsk_matmul nsk_matmul_of(const nsk_layer *l, int32_t row, int32_t group) {
    int32_t outputs = l->out.channels / (l->kind == NSK_KIND_CONV ? (int32_t)l->count : 1);
    int32_t first = group * outputs;
    nsk_matmul p = {.weights = (const int8_t *)l->weights + first * row,
                    .requantise = l->requantise + 4 * first,
                    .row = row,
                    .outputs = outputs,
                    .zero = l->out.zero,
                    .low = l->low,
                    .high = l->high,
                    .in_step = row,
                    .out_step = l->out.pixel_stride,
                    .wide = l->out.element == 2};
    return p;
}

void nsk_multiply_out(const nsk_matmul *p, const int8_t *in, int32_t pixels, int8_t *out) {
    for (int32_t i = 0; i < pixels; i++, in += p->in_step, out += p->out_step) {
        for (uint32_t c = 0; c < (uint32_t)p->outputs; c++) {
            const int8_t *w = p->weights + (int32_t)c * p->row;
            int32_t requantise = nsk_word(p->requantise, c);
            int32_t acc = nsk_requantise_bias(requantise);
            for (int32_t k = 0; k < p->row; k++) {
                acc += in[k] * w[k];
            }
            nsk_put_output(p, acc, requantise, out, c);
        }
    }
}
