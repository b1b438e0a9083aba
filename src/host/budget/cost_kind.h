/* cost_kind: the names under which cost tables list kernels. */
#ifndef NSK_COST_KIND_H
#define NSK_COST_KIND_H

#include "netsuke/device.h"

/* "conv", "pointwise" (a 1x1 convolution), "depthwise", ... */
const char *nsk_cost_kind(const nsk_model *model, unsigned layer);

#endif
