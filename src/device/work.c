/* What a layer costs, counted from its shapes, and what it has: for estimates, not for the device.
 */
#include "format.h"
#include "stream.h"

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

static nsk_work work_of(const nsk_layer *layer) {
    const nsk_layer l = *layer;
    nsk_work work;
    work.calls = 1;
    work.macs = 0;
    work.outputs = nsk_tensor_bytes(&l.out);
    work.inputs = nsk_tensor_bytes(&l.in);
    work.rows = l.out.height;
    work.moved = work.inputs;
    switch (l.kind) {
    case NSK_CONV:
        work.macs = window_taps(&l) * l.out.channels * (l.in.channels / l.count);
        if (nsk_conv_is_direct(&l)) {
            work.rows = l.out.channels; /* looked at once a call; rows of pixels are not */
        } else {
            work.moved = (uint64_t)l.out.height * l.out.width * l.count *
                         (uint32_t)nsk_row_bytes(nsk_conv_taps(&l));
        }
        break;
    case NSK_DEPTHWISE:
        work.calls = l.out.channels;
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

static void add(nsk_work *to, const nsk_work *w) {
    to->calls += w->calls;
    to->macs += w->macs;
    to->outputs += w->outputs;
    to->inputs += w->inputs;
    to->rows += w->rows;
    to->moved += w->moved;
}

typedef struct pieces {
    unsigned layer;
    nsk_work sum;
} pieces;

static void add_piece(void *context, unsigned index, const nsk_layer *piece) {
    pieces *p = (pieces *)context;
    if (index == p->layer) {
        nsk_work work = work_of(piece);
        add(&p->sum, &work);
    }
}

nsk_work nsk_layer_work(const nsk_model *model, unsigned layer) {
    pieces p = {layer, {0, 0, 0, 0, 0, 0}};
    if (layer < model->streamed) {
        nsk_stream_walk(model, add_piece, &p, NULL);
        return p.sum;
    }
    nsk_layer l;
    nsk_layer_decode(model, layer, &l);
    if (!nsk_writes_over_input(&l)) {
        return work_of(&l);
    }
    const nsk_held in = {l.in.height, 0};
    const nsk_held out = {0, 0};
    for (int32_t y = 0; y < l.out.height; y++) {
        nsk_layer row = nsk_window_piece(&l, &in, &out, y, y + 1);
        add_piece(&p, layer, &row);
    }
    return p.sum;
}

static void ignore(void *context, unsigned index, const nsk_layer *piece) {
    (void)context;
    (void)index;
    (void)piece;
}

nsk_work nsk_stream_work(const nsk_model *model) {
    nsk_work work = {0, 0, 0, 0, 0, 0};
    if (model->streamed > 0) {
        work.rows = ((uint64_t)model->height + model->band - 1U) / model->band * model->streamed;
        nsk_stream_walk(model, ignore, NULL, &work.moved);
    }
    return work;
}

void nsk_layer_tensors(const nsk_model *model, unsigned layer, unsigned tensors[3]) {
    const uint8_t *at =
        model->bytes + nsk_load32(model->bytes + NSK_H_LAYERS_AT) + NSK_LAYER_BYTES * layer;
    tensors[0] = nsk_load16(at + NSK_L_INPUT);
    tensors[1] = nsk_load16(at + NSK_L_SECOND);
    tensors[2] = nsk_load16(at + NSK_L_OUTPUT);
}
