/* cost_kind: the names under which cost tables list kernels. */
#ifndef NSK_COST_KIND_H
#define NSK_COST_KIND_H

#include "netsuke/device.h"

/* "conv", "pointwise" (1x1 on pixels as they stand), "depthwise" (3x3), "depthwise-few" (of fewer
 * than sixteen channels), "depthwise-any", ...: layers that go the same way through a kernel. */
const char *nsk_cost_kind(const nsk_model *model, unsigned layer);
/* Of a kind of layer as such. */
const char *nsk_kind_name(nsk_kind kind);

#endif
