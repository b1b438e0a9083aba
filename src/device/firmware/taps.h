/* taps: which of a picture's pixels make one of the frame, along an axis, and how much of each. */
#ifndef NSK_DEVICE_FIRMWARE_TAPS_H
#define NSK_DEVICE_FIRMWARE_TAPS_H

#include "netsuke/device.h"

/* The picture's pixels, no fewer than the frame's. */
typedef struct nsk_axis {
    nsk_resample way;
    uint32_t from, to;
} nsk_axis;

typedef struct nsk_taps {
    uint32_t first, last; /* [first, last) */
    uint32_t total;       /* of their weights */
} nsk_taps;

/* Of pixel `i` of the frame. */
nsk_taps nsk_taps_of(const nsk_axis *a, uint32_t i);
/* How much of `pixel`, one of the taps of `i`. */
uint32_t nsk_tap_weight(const nsk_axis *a, uint32_t i, uint32_t pixel);

/* Adds a row of the picture, of 3 channels or of 1, to one or two rows of sums, `times` each, in
 * any way. */
void nsk_taps_add_row(const nsk_axis *across, bool colour, const uint8_t *row,
                      uint32_t *const sums[2], const uint32_t times[2]);

#endif
