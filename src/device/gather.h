/* gather: rows of a window, one behind the other, which cores have their own way of. */
#ifndef NSK_DEVICE_GATHER_H
#define NSK_DEVICE_GATHER_H

#include "layer.h"

/* `rows` of so many bytes each, `row` bytes from one to the next, all inside of the input; gives
 * what is behind them in `to`. Behind each but the last, up to three bytes more may be read, and
 * written, over which the next row goes. */
int8_t *nsk_gather_rows(const int8_t *in, int32_t row, int32_t rows, int32_t bytes, int8_t *to);

/* The portable one, for what a core's own leaves. */
int8_t *nsk_gather_rows_plain(const int8_t *in, int32_t row, int32_t rows, int32_t bytes,
                              int8_t *to);

#endif
