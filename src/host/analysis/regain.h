/* analysis/regain: what would come back if one layer alone were float. */
#ifndef NSK_ANALYSIS_REGAIN_H
#define NSK_ANALYSIS_REGAIN_H

#include "graph/graph.h"
#include "netsuke/drift.h"

/* The integer model imitated in float: `rounded` (compare/rounded) with every tensor rounded to its
 * levels; then, layer by layer, with that layer's weights and output as in `network`. */
nsk_regain *nsk_regain_of(const nsk_network *network, const nsk_network *rounded,
                          const nsk_images *images, nsk_progress progress, void *context,
                          nsk_error *error);

#endif
