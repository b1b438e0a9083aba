/* Depthwise convolution: its checks; the kernel is depthwise_plain.c's, or a core's own. */
#include "depthwise.h"

#include "check.h"

static NSK_SELDOM bool check(const nsk_model *m, const nsk_layer *l) {
    uint32_t channels = l->out.channels;
    uint32_t area = nsk_kernel_area(l);
    nsk_weights_form form = {1, channels, area, 0, 128};
    return channels % l->in.channels == 0 && nsk_window_is_good(l) &&
           nsk_scratch_is_good(m, l, nsk_depthwise_scratch(l)) && nsk_check_weights(m, l, &form);
}

const nsk_operation nsk_operation_depthwise = {check, nsk_depthwise_run};
