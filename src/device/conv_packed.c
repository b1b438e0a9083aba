/* Convolution of one group whose weights are packed. */
#include "conv.h"
#include "packed.h"

static nsk_packed as_conv(const nsk_layer *l) {
    const nsk_packed p = {NSK_KIND_CONV, &nsk_operation_conv,
                          (uint32_t)nsk_row_bytes(nsk_conv_taps(l)), (uint32_t)nsk_conv_scratch(l)};
    return p;
}

static NSK_SELDOM bool check(const nsk_model *m, const nsk_layer *l) {
    nsk_layer conv = *l;
    conv.kind = NSK_KIND_CONV;
    if (l->count != 1 || !nsk_conv_is_good(m, &conv)) {
        return false;
    }
    const nsk_packed p = as_conv(l);
    const nsk_weights_form form = nsk_conv_form(l);
    return nsk_packed_check(m, &conv, &p, &form);
}

static void run(const nsk_layer *l, int8_t *workspace) {
    const nsk_packed p = as_conv(l);
    nsk_packed_run(l, &p, workspace);
}

const nsk_operation nsk_operation_conv_packed = {check, run};
