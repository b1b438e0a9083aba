/* Dense layer; weights as [out][in], inputs in the tensor's order, each output's filled up to whole
 * words. */
#include "check.h"
#include "product.h"

static int32_t inputs_of(const nsk_layer *l) {
    return (int32_t)nsk_tensor_elements(&l->in);
}

static NSK_SELDOM bool check(const nsk_model *m, const nsk_layer *l) {
    uint32_t taps = (uint32_t)inputs_of(l);
    uint32_t row = (uint32_t)nsk_row_bytes((int32_t)taps);
    nsk_weights_form form = {row, 1, taps, row - taps, 128};
    /* words are read, the row's last one whole */
    return l->out.height == 1 && l->out.width == 1 && l->in.offset % 4 == 0 &&
           l->in.offset + row <= m->workspace_bytes && nsk_check_weights(m, l, &form);
}

static void run(const nsk_layer *l, int8_t *workspace) {
    nsk_matmul p = nsk_matmul_of(l, nsk_row_bytes(inputs_of(l)), 0);
    nsk_multiply_out(&p, workspace + l->in.offset, 1, workspace + l->out.offset);
}

const nsk_operation nsk_operation_dense = {check, run};
