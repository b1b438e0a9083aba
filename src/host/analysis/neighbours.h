/* analysis/neighbours: points of many numbers on a plane so that near ones stay near. */
#ifndef NSK_ANALYSIS_NEIGHBOURS_H
#define NSK_ANALYSIS_NEIGHBOURS_H

/* Moves `plane`, [points][2], from where its points stand: each point's distances become chances of
 * being its neighbour, and those on the plane are made to agree with those among all numbers
 * (L. van der Maaten, G. Hinton, Journal of Machine Learning Research 9, 2008; computed exactly, 30
 * effective neighbours). `x` is [points][numbers]. The same on any number of threads. */
void nsk_map_neighbours(const double *x, int points, int numbers, double *plane);

#endif
