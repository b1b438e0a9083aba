/* depthwise: depthwise convolution, which cores have their own kernels of. */
#ifndef NSK_DEVICE_DEPTHWISE_H
#define NSK_DEVICE_DEPTHWISE_H

#include "layer.h"

void nsk_depthwise_run(const nsk_layer *layer, int8_t *workspace);

/* The portable one, where a core has its own: for what that leaves, channels from `first` on. */
void nsk_depthwise_run_plain(const nsk_layer *layer, int8_t *workspace, int32_t first);

#endif
