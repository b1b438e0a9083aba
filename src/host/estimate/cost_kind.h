/* cost_kind: the names under which cost tables list kernels. */
#ifndef NSK_ESTIMATE_COST_KIND_H
#define NSK_ESTIMATE_COST_KIND_H

#include "netsuke/device.h"

/* "conv", "pointwise" (1x1 on pixels as they stand), "depthwise" (3x3), "depthwise-few" (of fewer
 * than sixteen channels), "depthwise-any", ...: layers that go the same way through a kernel. */
const char *nsk_cost_kind(const nsk_model *model, unsigned layer);
struct nsk_layer;
const char *nsk_cost_kind_of(const struct nsk_layer *layer);

/* Where tables keep the depth of a layer's stack: group "stack", "stack-streamed" or "stack-over"
 * (its input), and the kind; with "-far" behind it where a depthwise kernel moves by more than one
 * pixel, and "-odd" where pixels or channels are no multiple of four and so take more ways through
 * a kernel than one. */
enum { NSK_DEPTH_KIND = 40 };
const char *nsk_depth_group(const nsk_model *model, unsigned layer);
const char *nsk_depth_kind(const nsk_model *model, unsigned layer, char *text);
/* All that a table has, layers and what is around them. */
int nsk_cost_kind_count(void);
const char *nsk_cost_kind_at(int index);
/* The sources of src/device that its work is done in: names without suffix, parted by blanks. */
const char *nsk_cost_files_at(int index);
/* Of a kind of layer as such. */
const char *nsk_kind_name(nsk_kind kind);
/* Whether a source of src/device, by its name without suffix, is needed for the kinds that are
 * `wanted`, one a kind; what is no kind's own always is. */
bool nsk_kinds_need(const bool *wanted, const char *file);

#endif
