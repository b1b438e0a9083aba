/* What a layer costs, counted from its shapes: for estimates, not for the device. */
#include "format.h"
#include "layer.h"

/* Taps that meet the picture, over all windows. They are a product of those down and across. */
static uint64_t window_taps(const nsk_layer *l) {
    uint64_t down = 0;
    uint64_t across = 0;
    for (int32_t y = 0; y < l->out.height; y++) {
        nsk_window w = nsk_rows(l, y);
        down += (uint64_t)(w.last - w.first);
    }
    for (int32_t x = 0; x < l->out.width; x++) {
        nsk_window w = nsk_columns(l, x);
        across += (uint64_t)(w.last - w.first);
    }
    return down * across;
}

/* Elements that a move copies. */
static uint64_t moved(const nsk_layer *l) {
    uint64_t count = 1;
    for (uint32_t i = 0; i < l->count; i++) {
        count *= (uint32_t)nsk_word(l->multipliers, NSK_M_LOOPS + 3U * i);
    }
    return count;
}

nsk_work nsk_layer_work(const nsk_model *model, unsigned layer) {
    nsk_layer l;
    nsk_layer_decode(model, layer, &l);
    nsk_work work;
    work.macs = 0;
    work.outputs = nsk_tensor_bytes(&l.out);
    work.inputs = nsk_tensor_bytes(&l.in);
    work.rows = l.out.height;
    work.moved = work.inputs;
    switch (l.kind) {
    case NSK_CONV:
        work.macs = window_taps(&l) * l.out.channels * (l.in.channels / l.count);
        if (!nsk_conv_is_direct(&l)) {
            work.moved = (uint64_t)l.out.height * l.out.width * l.count *
                         (uint32_t)nsk_row_bytes(nsk_conv_taps(&l));
        }
        break;
    case NSK_DEPTHWISE:
        work.rows *= l.out.channels;
        work.macs = window_taps(&l) * l.out.channels;
        break;
    case NSK_MAX_POOL:
    case NSK_AVERAGE_POOL:
        work.macs = window_taps(&l) * l.out.channels;
        break;
    case NSK_DENSE:
        work.macs = work.inputs * work.outputs;
        break;
    case NSK_TRANSPOSED: /* every input meets every tap of its group, pads aside */
        work.macs = (uint64_t)work.inputs * (uint32_t)(l.kernel_height * l.kernel_width) *
                    (l.out.channels / l.count);
        break;
    case NSK_MOVE:
        work.outputs = moved(&l);
        work.macs = work.outputs / (uint32_t)nsk_word(l.multipliers, NSK_M_LOOPS);
        break;
    default:
        work.macs = work.outputs;
        break;
    }
    return work;
}
