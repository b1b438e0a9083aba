/* images/light: brightness, contrast and warmth of frames, and whether a set's pictures have them.
 */
#ifndef NSK_IMAGES_LIGHT_H
#define NSK_IMAGES_LIGHT_H

#include "netsuke/images.h"

/* Of a frame as the network gets it: the mean of its luma (weights of ITU-R BT.601) and its
 * standard deviation; the mean of red less that of blue, 0 where it is grey. Levels, 0 to 255. */
void nsk_light_of(const uint8_t *frame, const nsk_input *input, double *light);
/* Between which all but one of a hundred values at either end lie. They are put in order. */
void nsk_light_between(double *values, int count, double *low, double *high);
/* Between which all but one of a hundred pictures at either end lie. At most so many are looked at,
 * spread over the set. */
bool nsk_light_range(const nsk_images *images, double *low, double *high, nsk_error *error);

#endif
