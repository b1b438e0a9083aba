/* pare/price: what a network takes of a board, whatever its weights. */
#ifndef NSK_PARE_PRICE_H
#define NSK_PARE_PRICE_H

#include "channels/channels.h"
#include "pare/ground.h"
#include "pipeline/pipeline.h"

/* Flash and RAM in bytes, seconds: in the order of the budget's limits. */
typedef struct nsk_price {
    double of[NSK_BUDGET_LIMITS];
} nsk_price;

/* What a budget takes of a limit: of time, as much as counts will be in 19 of 20 cases. */
double nsk_price_taken(const nsk_budget *budget, int limit);

/* The scales that a graph's values have on their way to integers, one a value; g_free. A scale of
 * 0: none is known. */
nsk_scale *nsk_price_scales(const nsk_pipeline *pipeline);

/* Of the graph's layers as they are, by the budget; false where an error is set. `scales`: those of
 * this graph or of the one that it was cut from. */
bool nsk_price_of(const nsk_pare_ground *ground, const nsk_graph *graph, const nsk_scale *scales,
                  nsk_price *price);
/* The same, had those channels been taken out. */
bool nsk_price_without(const nsk_pare_ground *ground, const nsk_graph *graph,
                       const nsk_scale *scales, const nsk_channels *channels, const bool *gone,
                       nsk_price *price);

#endif
