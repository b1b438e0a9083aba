/* feed: making levels of a frame's bytes, which cores with vectors have their own way of. */
#ifndef NSK_DEVICE_FEED_H
#define NSK_DEVICE_FEED_H

#include "layer.h"

/* Pixels side by side, of so many bytes each, whose first byte is `from`'s: that byte of each, by a
 * table of 256, */
void nsk_prepare_by_table(const int8_t *table, const uint8_t *from, uint32_t pixels, uint32_t bytes,
                          int8_t *to);

/* or by a line: its record in the model. */
void nsk_prepare_by_line(const uint8_t *line, const uint8_t *from, uint32_t pixels, uint32_t bytes,
                         int8_t *to);

#endif
