/* fit: factors of a cost table, fitted to counts. */
#ifndef NSK_COSTS_FIT_H
#define NSK_COSTS_FIT_H

#include "estimate/costs.h"

enum { COST_MOST_POINTS = 8192 };

/* A layer's work, and the instructions that it took. */
typedef struct cost_point {
    const char *kind;
    double term[NSK_COST_TERMS];
    double instructions;
} cost_point;

typedef struct cost_points {
    cost_point at[COST_MOST_POINTS];
    int count;
} cost_points;

/* False where there is no room; a count of 0 is left out. */
bool cost_points_add(cost_points *points, const char *kind, const nsk_work *work, double count);

typedef struct cost_fit {
    double factor[NSK_COST_TERMS];
    double worst, spread; /* relative error: the worst, root of the mean square */
} cost_fit;

/* Fits a kind's factors to its points, none of them below zero: least squares on relative errors
 * (Lawson and Hanson, 1974). `base`: the kind that it is besides, whose factors it has, so that
 * only unpacking weights is left; or NULL. False where it has no point. */
bool cost_fit_kind(const cost_points *points, const char *core, const char *kind,
                   const cost_fit *base, cost_fit *fit, nsk_error *error);

#endif
