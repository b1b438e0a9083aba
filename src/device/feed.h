/* feed: making levels of a frame's bytes, which cores with vectors have their own way of. */
#ifndef NSK_DEVICE_FEED_H
#define NSK_DEVICE_FEED_H

#include "layer.h"

/* Of pixels side by side: by a table of 256 a channel, or one for all. */
void nsk_prepare_by_tables(const int8_t *tables, const uint8_t *from, size_t bytes, size_t count,
                           int8_t *to);

/* By a line a channel: its record in the model. */
void nsk_prepare_by_lines(const uint8_t *lines, const uint8_t *from, size_t bytes, size_t channels,
                          int8_t *to);

#endif
