/* Dense layer; weights as [out][in], inputs in the tensor's order. */
#include "arithmetic.h"
#include "format.h"
#include "layer.h"

void nsk_dense(const nsk_layer *l, int8_t *workspace) {
    const int8_t *in = workspace + l->in.place;
    const int8_t *weights = (const int8_t *)l->weights;
    int8_t *out = workspace + l->out.place;
    int32_t inputs = (int32_t)nsk_tensor_bytes(&l->in);
    for (uint32_t c = 0; c < l->out.channels; c++, weights += inputs) {
        int32_t acc = nsk_word(l->bias, c);
        for (int32_t i = 0; i < inputs; i++) {
            acc += (in[i] - l->in.zero) * weights[i];
        }
        int32_t value = nsk_rescale(acc, nsk_word(l->multipliers, c), l->shifts[c]);
        out[c] = nsk_clamp(value + l->out.zero, l->low, l->high);
    }
}
