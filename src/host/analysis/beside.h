/* analysis/beside: the float network's values of a tensor of the device. */
#ifndef NSK_ANALYSIS_BESIDE_H
#define NSK_ANALYSIS_BESIDE_H

#include "float/forward.h"
#include "lower/views.h"

/* Its values after a pass, plane by plane as `planes` says: value at of plane p stands in the
 * device's tensor at element at x planes + p. NULL where the float network holds them in an order
 * of its own, or not at all. */
const float *nsk_values_beside(const nsk_graph *graph, const nsk_pass *pass,
                               const nsk_lowered_tensor *tensor, nsk_planes *planes);

#endif
