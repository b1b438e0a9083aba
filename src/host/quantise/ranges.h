/* quantise/ranges: which interval of numbers each tensor takes, observed on calibration images. */
#ifndef NSK_RANGES_H
#define NSK_RANGES_H

#include "graph/graph.h"

typedef struct nsk_range {
    float low, high;
} nsk_range;

/* A way of turning what is observed into a range. One state a tensor and thread; merging the states
 * of two threads must give what one thread would have found, in whatever order. */
typedef struct nsk_range_method {
    const char *name;
    size_t state_bytes;
    void (*start)(void *state);
    void (*observe)(void *state, const float *values, size_t count);
    void (*merge)(void *state, const void *other);
    nsk_range (*result)(const void *state);
} nsk_range_method;

/* The lowest and the highest number seen. */
extern const nsk_range_method nsk_range_extremes;

/* Runs every image through the float network; returns one range for each of `values`. g_free. */
nsk_range *nsk_ranges_observe(const nsk_graph *graph, const int *values, int count,
                              const nsk_images *images, const nsk_range_method *method,
                              nsk_error *error);

#endif
