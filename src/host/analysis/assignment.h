/* analysis/assignment: the best one-to-one assignment of rows to columns. */
#ifndef NSK_ANALYSIS_ASSIGNMENT_H
#define NSK_ANALYSIS_ASSIGNMENT_H

/* Finds column[row] for n rows and n columns such that the sum of gain[row * n + column] is the
 * largest. O(n^3): H. W. Kuhn, Naval Research Logistics 2, 1955, in the form with potentials and
 * shortest augmenting paths of R. Jonker and A. Volgenant, Computing 38, 1987. */
void nsk_assign(int n, const int *gain, int *column);

#endif
