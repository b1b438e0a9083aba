/* pare/step: which channels go next. */
#ifndef NSK_PARE_STEP_H
#define NSK_PARE_STEP_H

#include "pare/price.h"

/* What is to be reached, in the order of the budget's limits; INFINITY: nothing. */
typedef struct nsk_pare_goal {
    double at_most[NSK_BUDGET_LIMITS];
} nsk_pare_goal;

/* How far a price is from the goal: logarithms of ratios, added up; 0: it is reached. */
double nsk_pare_distance(const nsk_price *price, const nsk_pare_goal *goal);

/* What channels are chosen by. */
typedef struct nsk_pare_scene {
    const nsk_pare_ground *ground;
    const nsk_graph *graph;
    const nsk_scale *scales; /* of price.h */
    const nsk_channels *channels;
    const double *worth; /* one a channel */
    const nsk_pare_goal *goal;
} nsk_pare_scene;

/* Chooses channels, those first that are worth least by what the distance falls without them, until
 * it has fallen by `by` or is 0. gone[channel] says which; `price` becomes what it is without them.
 * Sets `ended` where nothing more can go. False where an error is set. */
bool nsk_pare_choose(const nsk_pare_scene *scene, double by, bool *gone, nsk_price *price,
                     bool *ended);

#endif
