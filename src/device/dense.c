/* Dense layer; weights as [out][in], inputs in the tensor's order, each output's filled up to whole
 * words. */
#include "dense.h"

#include "product.h"

static NSK_SELDOM bool check(const nsk_model *m, const nsk_layer *l) {
    const nsk_weights_form form = nsk_dense_form(l);
    return nsk_dense_is_good(m, l) && nsk_check_weights(m, l, &form);
}

static void run(const nsk_layer *l, int8_t *workspace) {
    nsk_matmul p = nsk_matmul_of(l, (int32_t)nsk_dense_row(l), 0);
    nsk_multiply_out(&p, workspace + l->in.offset, 1, workspace + l->out.offset);
}

const nsk_operation nsk_operation_dense = {check, run};
