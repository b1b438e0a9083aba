/* least_squares: least squares with no factor below zero. */
#ifndef NSK_ESTIMATE_LEAST_SQUARES_H
#define NSK_ESTIMATE_LEAST_SQUARES_H

#include "base/base.h"

/* Finds x >= 0 so that the squares of a x - b are least in sum: `rows` x `columns` numbers of a,
 * row by row. C. L. Lawson, R. J. Hanson, Solving Least Squares Problems (1974), algorithm 23.10.
 */
void nsk_least_squares(const double *a, const double *b, int rows, int columns, double *x);

#endif
