/* slices: layers cut at rows of their output, for runs in slices and for what those cost. */
#ifndef NSK_DEVICE_FIRMWARE_SLICES_H
#define NSK_DEVICE_FIRMWARE_SLICES_H

#include "../layer.h"
#include "netsuke/firmware.h"

/* How many rows a layer can be cut into; 1 where it needs all of its input for any output. */
int32_t nsk_slice_rows(const nsk_layer *layer);

/* Output rows [from, to) of a layer that can be cut. */
nsk_layer nsk_slice_of(const nsk_layer *layer, int32_t from, int32_t to);

#endif
