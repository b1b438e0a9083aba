/* depthwise: depthwise convolution, which cores have their own kernels of. */
#ifndef NSK_DEVICE_DEPTHWISE_H
#define NSK_DEVICE_DEPTHWISE_H

#include "layer.h"

void nsk_depthwise_run(const nsk_layer *layer, int8_t *workspace);

/* The direct one, where a host's own may be chosen when run. */
void nsk_depthwise_run_direct(const nsk_layer *layer, int8_t *workspace);

/* The portable one for any kernel, where another stands before it: for what that leaves, channels
 * [first, end). */
void nsk_depthwise_run_plain(const nsk_layer *layer, int8_t *workspace, int32_t first, int32_t end);

#endif
