/* passes/histogram: how often a tensor takes which numbers, in one pass, in bins that widen as
 * larger numbers come. */
#ifndef NSK_PASSES_HISTOGRAM_H
#define NSK_PASSES_HISTOGRAM_H

#include "lowered/integer.h"

enum { NSK_BINS = 4096 }; /* half of them below zero */

/* Bin i holds [(i - NSK_BINS / 2) w, (i + 1 - NSK_BINS / 2) w), w being 2^exponent. Widths are
 * powers of two, so that a bin is exactly two of the next finer: the same numbers give the same
 * counts in whatever order they come. */
typedef struct nsk_histogram {
    float low, high; /* of all numbers */
    int exponent;
    uint64_t count;
    uint64_t bins[NSK_BINS];
} nsk_histogram;

void nsk_histogram_start(nsk_histogram *h);
/* Numbers that are not finite make the extremes so, and are not counted. */
void nsk_histogram_add(nsk_histogram *h, const float *numbers, size_t count);
void nsk_histogram_merge(nsk_histogram *h, const nsk_histogram *other);

/* Ways of making a range of it. All contain zero. */
nsk_range nsk_range_extremes(const nsk_histogram *h);
/* All but the largest and the smallest `part` of the numbers. */
nsk_range nsk_range_percentile(const nsk_histogram *h, double part);
/* The range whose 256 levels, rounded to and cut at, give the least squared error: of the numbers,
 * or of what `reader` makes of them, where that layer with its function is all that reads them. A
 * hard swish, say, is 0 below -3, and no level is spent there. NULL where there is none. */
nsk_range nsk_range_squared_error(const nsk_histogram *h, const nsk_lowered_layer *reader);
/* The range whose 256 levels keep the distribution best: the least divergence (S. Kullback, R. A.
 * Leibler, 1951) of what is left of it from what it was. */
nsk_range nsk_range_divergence(const nsk_histogram *h);

#endif
