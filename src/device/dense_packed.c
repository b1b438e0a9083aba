/* Dense layer whose weights are packed. */
#include "dense.h"
#include "packed.h"

static nsk_packed as_dense(const nsk_layer *l) {
    const nsk_packed p = {NSK_KIND_DENSE, &nsk_operation_dense, nsk_dense_row(l), 0};
    return p;
}

static NSK_SELDOM bool check(const nsk_model *m, const nsk_layer *l) {
    const nsk_weights_form form = nsk_dense_form(l);
    const nsk_packed p = as_dense(l);
    return nsk_dense_is_good(m, l) && nsk_packed_check(m, l, &p, &form);
}

static void run(const nsk_layer *l, int8_t *workspace) {
    const nsk_packed p = as_dense(l);
    nsk_packed_run(l, &p, workspace);
}

const nsk_operation nsk_operation_dense_packed = {check, run};
