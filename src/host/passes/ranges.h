/* passes/ranges: which interval of numbers each tensor takes, from calibration images. */
#ifndef NSK_PASSES_RANGES_H
#define NSK_PASSES_RANGES_H

#include "graph/graph.h"
#include "netsuke/images.h"
#include "passes/histogram.h"

/* Runs every image through the float network; returns a histogram of each of `values`. g_free. */
nsk_histogram *nsk_ranges_observe(const nsk_graph *graph, const int *values, int count,
                                  const nsk_images *images, nsk_error *error);

/* A range for each of `values`, which stand in the order in which they are computed, by the method
 * of each; `readers` are the layers with a function that alone read them, NULL where there is
 * none. NSK_RANGE_METHOD_AUTO tries what the others give: the tensor alone is rounded,
 * everything else stays float, and the range that moves the network's scores least on some of the
 * images is taken. g_free. */
nsk_range *nsk_ranges_choose(const nsk_graph *graph, const int *values, int count,
                             const nsk_range_method *methods,
                             const nsk_lowered_layer *const *readers, const nsk_images *images,
                             nsk_error *error);

#endif
