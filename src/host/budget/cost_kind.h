/* cost_kind: the names under which cost tables list kernels. */
#ifndef NSK_COST_KIND_H
#define NSK_COST_KIND_H

#include "netsuke/device.h"

/* "conv", "pointwise" (a 1x1 convolution), "depthwise" (3x3), "depthwise-any", ... */
const char *nsk_cost_kind(const nsk_model *model, unsigned layer);
/* The same of a layer of that kind with a kernel of so many taps. */
const char *nsk_cost_kind_of(nsk_kind kind, int taps, bool square);

#endif
