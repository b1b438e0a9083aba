/* draw/scale: where the scale of a plot has its lines. */
#ifndef NSK_DRAW_SCALE_H
#define NSK_DRAW_SCALE_H

/* Numbers from 0 to `most` that a reader takes in at a glance: 0, 1, 2, 3, 5, 7, 10, 15, 20, 30,
 * 50, 70, 100, 150 and so on. Returns how many. */
enum { NSK_ROUND_NUMBERS = 128 };
int nsk_round_numbers(double most, double numbers[NSK_ROUND_NUMBERS]);

#endif
