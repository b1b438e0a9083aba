/* scratch: what layers need beside their tensors, in the workspace. */
#ifndef NSK_DEVICE_SCRATCH_H
#define NSK_DEVICE_SCRATCH_H

#include "layer.h"

/* What a convolution needs beside its tensors, in the workspace: the inputs of NSK_GATHERED windows
 * where they must be gathered, and room for those of four pixels at 16 bits each, which some cores
 * widen them to. */
enum nsk_scratch_pixels { NSK_GATHERED = 4, NSK_WIDENED = 8 };
static inline int32_t nsk_conv_scratch(const nsk_layer *l) {
    int32_t row = nsk_row_bytes(nsk_conv_taps(l));
    return (NSK_WIDENED + (nsk_conv_is_direct(l) ? 0 : NSK_GATHERED)) * row;
}

/* What a depthwise convolution needs there: a line for each row that its kernel reaches, with the
 * padding around it. Of the usual one, lines of four channels at 16 bits each, which reach as far
 * as four outputs at a time do, and an even number of columns. */
static inline uint64_t nsk_depthwise_scratch(const nsk_layer *l) {
    int32_t across = (l->kernel_width - 1) * l->dilate_across + 1;
    int32_t down = (l->kernel_height - 1) * l->dilate_down + 1;
    if (l->kernel_height == 3 && l->kernel_width == 3 && across == 3 && down == 3) {
        uint32_t fours = ((uint32_t)l->out.width + 3U) & ~3U;
        return 24U * (fours * (uint32_t)l->stride_across + 2U);
    }
    uint64_t length = (uint64_t)((l->out.width - 1) * l->stride_across + across);
    return (length * (uint32_t)down + 3U) / 4U * 4U;
}

/* What packed weights are unpacked into: those of as many outputs as are taken at a time, of rows
 * of so many bytes. */
static inline uint64_t nsk_unpacked_room(const nsk_layer *l, uint32_t row) {
    uint32_t outputs = l->out.channels < NSK_UNPACKED ? l->out.channels : (uint32_t)NSK_UNPACKED;
    return nsk_packed_groups((uint64_t)outputs * row) * NSK_PACKED_GROUP;
}

/* Bytes of a layer's scratch; where tensors are fine, a window of int16. */
static inline uint64_t nsk_layer_scratch(const nsk_layer *l) {
    switch (l->kind) {
    case NSK_KIND_CONV:
        return (uint64_t)nsk_conv_scratch(l);
    case NSK_KIND_DEPTHWISE:
        return nsk_depthwise_scratch(l);
    case NSK_KIND_CONV_FINE:
        return 2U * (uint64_t)nsk_row_bytes(nsk_conv_taps(l));
    case NSK_KIND_CONV_PACKED:
        return (uint64_t)nsk_conv_scratch(l) +
               nsk_unpacked_room(l, (uint32_t)nsk_row_bytes(nsk_conv_taps(l)));
    case NSK_KIND_DENSE_PACKED:
        return nsk_unpacked_room(l, nsk_dense_row(l));
    default:
        return 0;
    }
}

#endif
