/* lut: looking bytes up in a table, which cores have their own kernel of. */
#ifndef NSK_DEVICE_LUT_H
#define NSK_DEVICE_LUT_H

#include "layer.h"

/* `table`: what level -128 becomes, and so on. `out` may be `in`, or stand anywhere below. */
void nsk_look_up(const int8_t *table, const int8_t *in, int8_t *out, uint32_t count);

#endif
