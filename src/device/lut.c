/* Any function of one input: a look-up. */
#include "lut.h"

#include "arch.h"
#include "check.h"

static NSK_SELDOM bool check(const nsk_model *m, const nsk_layer *l) {
    return nsk_same_size(&l->in, &l->out) && nsk_lies_inside(m, l->table, 256, 1);
}

#if !defined(NSK_HAS_VECTORS)
void nsk_look_up(const int8_t *table, const int8_t *in, int8_t *out, uint32_t count) {
    const int8_t *of_zero = table + 128;
    for (const int8_t *end = in + count / 4U * 4U; in < end; in += 4, out += 4) {
        const int8_t a = of_zero[in[0]];
        const int8_t b = of_zero[in[1]];
        const int8_t c = of_zero[in[2]];
        const int8_t d = of_zero[in[3]];
        out[0] = a;
        out[1] = b;
        out[2] = c;
        out[3] = d;
    }
    for (const int8_t *end = in + count % 4U; in < end; in++, out++) {
        *out = of_zero[*in];
    }
}
#endif

static void run(const nsk_layer *l, int8_t *workspace) {
    nsk_look_up((const int8_t *)l->table, workspace + l->in.offset, workspace + l->out.offset,
                nsk_tensor_elements(&l->out));
}

const nsk_operation nsk_operation_lut = {check, run};
