/* What a layer costs, counted from its shapes, and what it has: for estimates, not for the device.
 */
#include "work.h"

#include "format.h"
#include "pool.h"
#include "stream.h"

/* Rows and columns of a layer's windows. */
typedef struct windows {
    uint64_t rows, columns; /* of taps that meet the picture, over all windows */
    uint64_t inner, outer;  /* windows along a row that lie in the picture, and others */
    uint64_t outer_taps;    /* columns of the latter that meet the picture */
} windows;

static windows windows_of(const nsk_layer *l) {
    windows all = {0, 0, 0, 0, 0};
    for (int32_t y = 0; y < l->out.height; y++) {
        nsk_window w = nsk_rows(l, y);
        all.rows += (uint64_t)w.taps;
    }
    for (int32_t x = 0; x < l->out.width; x++) {
        nsk_window w = nsk_columns(l, x);
        uint64_t taps = (uint64_t)w.taps;
        bool inner = taps == (uint64_t)l->kernel_width && l->count == 1 && l->dilate_across == 1;
        all.columns += taps;
        all.inner += inner;
        all.outer += !inner;
        all.outer_taps += inner ? 0 : taps;
    }
    return all;
}

/* Taps that meet the picture, over all windows: a product of those down and across. */
static uint64_t window_taps(const nsk_layer *l) {
    windows w = windows_of(l);
    return w.rows * w.columns;
}

static uint64_t up_to(uint64_t number, uint64_t multiple) {
    return (number + multiple - 1U) / multiple * multiple;
}

/* Rows of inputs, `row` bytes each filled up to words, that meet `outputs` rows of weights. */
static void multiply_out(nsk_work *w, uint64_t pixels, uint64_t row, uint64_t outputs) {
    uint64_t each = row * outputs;
    uint64_t pairs = up_to(pixels, 2);
    w->pixels += pixels;
    w->products += pixels * each;
    w->alone += pixels % 2U * each;
    w->single += pixels % 4U == 1U ? each : 0U;
    w->fill += pixels % 4U > 1U ? (4U - pixels % 4U) * each : 0U;
    w->twice += outputs % 2U * pixels * row;
    if (outputs >= 4U) {
        w->blocks += pairs * up_to(outputs, 4) * up_to(row, 16);
        w->quads += pairs * up_to(outputs, 4);
    } else {
        w->odd += pixels * each;
    }
}

/* The same of weights in blocks: four pixels at a time meet sixteen outputs. */
static void multiply_blocked(nsk_work *w, uint64_t pixels, uint64_t row, uint64_t outputs) {
    w->pixels += pixels;
    w->products += pixels * row * outputs;
    w->quads += up_to(pixels, 4) / 4U * up_to(outputs, 16);
    w->blocks += up_to(pixels, 4) / 4U * up_to(outputs, 16) * row;
}

/* What gathering a window's rows takes, over all windows of a group. */
static void gather(nsk_work *work, const nsk_layer *l) {
    windows w = windows_of(l);
    uint64_t length = (uint64_t)(l->in.channels / (int32_t)l->count);
    uint64_t bytes = length * (uint32_t)l->kernel_width;
    uint64_t all = w.inner + w.outer;
    uint64_t outside = (uint64_t)l->out.height * (uint32_t)l->kernel_height - w.rows;
    work->pads += (all * (uint32_t)l->out.height * nsk_kernel_area(l) - window_taps(l)) * length;
    work->runs += w.rows * w.inner;
    work->edges += w.rows * w.outer + outside * all;
    const uint64_t inner = w.rows * w.inner * (bytes / 4U + bytes % 4U);
    work->copies += inner;
    work->rows += w.rows * w.outer_taps * (length / 4U + length % 4U);
    /* what cores with vectors take as a whole is shorter */
    work->fours += bytes > (nsk_weights_are_blocked(l) ? 128U : 16U) ? inner : 0U;
}

static void count_conv(nsk_work *work, const nsk_layer *l) {
    uint64_t row = (uint64_t)nsk_row_bytes(nsk_conv_taps(l));
    uint64_t pixels = (uint64_t)l->out.height * l->out.width;
    work->macs = window_taps(l) * l->out.channels * (l->in.channels / l->count);
    work->rows = 0;
    for (uint32_t group = 0; group < l->count; group++) {
        (nsk_weights_are_blocked(l) ? multiply_blocked : multiply_out)(work, pixels, row,
                                                                       l->out.channels / l->count);
        if (!nsk_conv_is_direct(l)) {
            gather(work, l);
        }
    }
    if (nsk_conv_is_direct(l)) {
        /* outputs are looked at once a call, four at a time; the last pixel of an odd number is
         * another call; rows of pixels are not */
        work->rows = up_to(l->out.channels, 4) * ((pixels > 1U) + pixels % 2U);
    } else {
        work->moved = pixels * l->count * row;
    }
}

/* Output rows with taps above or below the picture. */
static uint64_t rows_at_edges(const nsk_layer *l) {
    uint64_t rows = 0;
    for (int32_t y = 0; y < l->out.height; y++) {
        rows += nsk_rows(l, y).taps < l->kernel_height;
    }
    return rows;
}

static void count_depthwise(nsk_work *work, const nsk_layer *l) {
    uint64_t area = nsk_kernel_area(l);
    uint64_t pixels = (uint64_t)l->out.height * l->out.width;
    uint64_t channels = l->out.channels;
    work->calls = channels;
    work->rows *= channels;
    work->macs = window_taps(l) * channels;
    work->products = pixels * area * channels;
    work->pixels = pixels;
    work->blocks = up_to(channels, 16) * pixels * up_to(area, 2);
    work->quads = up_to(channels, 16) * pixels;
    work->fours = channels * l->out.height * up_to(l->out.width, 4);
    work->odd = channels % 4U * pixels * area;
    work->runs = up_to(channels, 16) * l->out.height; /* rows, sixteen channels at a time */
    work->alone = up_to(channels, 16) * (windows_of(l).outer * l->out.height);
    work->copies = l->stride_across > 1 ? work->outputs : 0U;
    work->twice = l->stride_across > 1 ? work->products : 0U;
    work->edges = up_to(channels, 16);
    work->single = up_to(channels, 16) * (windows_of(l).inner * rows_at_edges(l));
    work->fill = channels * rows_at_edges(l);
}

/* Rows of windows, in each channel; windows as wide as the picture are one run of pixels. */
static uint64_t pool_runs(const nsk_layer *l) {
    const bool whole = l->out.width == 1 && windows_of(l).columns == l->in.width;
    return l->out.channels * (whole ? l->out.height : windows_of(l).rows * l->out.width);
}

static void count_pool(nsk_work *work, const nsk_layer *l) {
    work->runs = l->kind == NSK_KIND_AVERAGE_POOL ? pool_runs(l) : 0U;
    work->macs = window_taps(l) * l->out.channels;
    work->pixels = (uint64_t)l->out.height * l->out.width;
    work->blocks = window_taps(l) * up_to(l->out.channels, 16);
    work->quads = work->pixels * up_to(l->out.channels, 16);
}

/* Windows that lie in the picture. */
static uint64_t whole_windows(const nsk_layer *l) {
    uint64_t rows = 0;
    uint64_t columns = 0;
    for (int32_t y = 0; y < l->out.height; y++) {
        rows += nsk_rows(l, y).taps == l->kernel_height;
    }
    for (int32_t x = 0; x < l->out.width; x++) {
        columns += nsk_columns(l, x).taps == l->kernel_width;
    }
    return rows * columns;
}

/* Windows in the picture are met four channels at a time; all taps of the others, one by one. */
static void count_depthwise_fine(nsk_work *work, const nsk_layer *l) {
    bool fours = l->in.channels == l->out.channels;
    work->quads = fours ? whole_windows(l) * (l->out.channels / 4U) : 0U;
    work->blocks = work->quads * nsk_kernel_area(l);
    uint64_t others = work->outputs - 4U * work->quads;
    work->products = others * nsk_kernel_area(l);
    work->pixels = others * (uint32_t)l->kernel_height;
    work->macs = window_taps(l) * l->out.channels;
}

/* Two outputs at a time, of rows that fill words. */
static void count_conv_fine(nsk_work *work, const nsk_layer *l) {
    uint64_t gathered = (uint64_t)l->out.height * l->out.width * l->count;
    uint64_t taps = (uint32_t)nsk_conv_taps(l);
    work->quads = gathered * up_to(l->out.channels / l->count, 2) / 2U;
    work->products = work->quads * 2U * (uint64_t)nsk_row_bytes((int32_t)taps);
    work->pixels = gathered * nsk_kernel_area(l);
    work->runs = gathered * (uint32_t)l->kernel_height;
    work->copies = gathered * taps;
    work->macs = window_taps(l) * l->out.channels * (l->in.channels / l->count);
}

static void count_dense(nsk_work *work) {
    work->macs = work->inputs * work->outputs;
    multiply_out(work, 1, (uint64_t)nsk_row_bytes((int32_t)work->inputs), work->outputs);
}

/* Two pixels by two. */
static void count_matmul(nsk_work *work, const nsk_layer *l) {
    work->macs = work->outputs * l->in.channels;
    work->quads = l->out.height * up_to(l->out.width, 2) * up_to(l->out.channels, 2) / 4U;
    work->products = work->quads * up_to(l->in.channels, 4);
    work->blocks = work->quads * up_to(l->in.channels, 16);
    work->odd = work->quads * (l->in.channels % 4U);
}

/* Of a move: elements; runs of them, which its innermost loop copies; rows of runs, and what is
 * left of the loops around those. */
static void count_copy(nsk_work *work, const nsk_layer *l) {
    uint64_t counts[3] = {1, 1, 1};
    for (uint32_t i = 0; i < l->count; i++) {
        for (uint32_t k = 0; k <= i && k < 3U; k++) {
            counts[k] *= (uint32_t)nsk_word(l->loops, NSK_M_LOOPS + 3U * i);
        }
    }
    work->outputs = work->moved = counts[0];
    work->macs = counts[1];
    work->rows = counts[2];
}

static void add(nsk_work *to, const nsk_work *w) {
    to->calls += w->calls;
    to->macs += w->macs;
    to->outputs += w->outputs;
    to->inputs += w->inputs;
    to->rows += w->rows;
    to->edges += w->edges;
    to->moved += w->moved;
    to->products += w->products;
    to->pixels += w->pixels;
    to->runs += w->runs;
    to->copies += w->copies;
    to->alone += w->alone;
    to->single += w->single;
    to->fill += w->fill;
    to->blocks += w->blocks;
    to->quads += w->quads;
    to->fours += w->fours;
    to->odd += w->odd;
    to->twice += w->twice;
    to->pads += w->pads;
    to->over += w->over;
    to->unpacked += w->unpacked;
    to->upper += w->upper;
}

/* Sixteen outputs at a time, each time a layer of the kind that it is besides. */
static nsk_work work_of_packed(const nsk_layer *l, nsk_kind kind, uint32_t row) {
    nsk_work work = {.calls = 0};
    nsk_layer piece = *l;
    piece.kind = kind;
    for (uint32_t left = l->out.channels; left > 0; left -= piece.out.channels) {
        piece.out.channels = (uint16_t)(left < NSK_UNPACKED ? left : (uint32_t)NSK_UNPACKED);
        nsk_work one = nsk_work_of(&piece);
        one.unpacked = nsk_packed_groups((uint64_t)piece.out.channels * row) * NSK_PACKED_GROUP;
        one.upper = (l->flags & NSK_FLAG_BITS) > NSK_LEAST_BITS ? one.unpacked : 0;
        add(&work, &one);
    }
    return work;
}

nsk_work nsk_work_of(const nsk_layer *layer) {
    const nsk_layer l = *layer;
    nsk_work work = {.calls = 1,
                     .outputs = nsk_tensor_elements(&l.out),
                     .inputs = nsk_tensor_elements(&l.in),
                     .rows = l.out.height,
                     .moved = nsk_tensor_bytes(&l.in)};
    switch (l.kind) {
    case NSK_KIND_CONV:
        count_conv(&work, &l);
        break;
    case NSK_KIND_DEPTHWISE:
        count_depthwise(&work, &l);
        break;
    case NSK_KIND_CONV_FINE:
        count_conv_fine(&work, &l);
        break;
    case NSK_KIND_DEPTHWISE_FINE:
        count_depthwise_fine(&work, &l);
        break;
    case NSK_KIND_MAX_POOL:
    case NSK_KIND_AVERAGE_POOL:
        count_pool(&work, &l);
        break;
    case NSK_KIND_DENSE:
        count_dense(&work);
        break;
    case NSK_KIND_CONV_PACKED:
        return work_of_packed(&l, NSK_KIND_CONV, (uint32_t)nsk_row_bytes(nsk_conv_taps(&l)));
    case NSK_KIND_DENSE_PACKED:
        return work_of_packed(&l, NSK_KIND_DENSE, nsk_dense_row(&l));
    case NSK_KIND_CONV_TRANSPOSE: /* every input meets every tap of its group, pads aside */
        work.macs = (uint64_t)work.inputs * (uint32_t)(l.kernel_height * l.kernel_width) *
                    (l.out.channels / l.count);
        break;
    case NSK_KIND_MATMUL:
        count_matmul(&work, &l);
        break;
    case NSK_KIND_NORMALISE:
    case NSK_KIND_NORMALISE_FINE:
        work.macs = work.outputs;
        work.pixels = (uint64_t)l.out.height * l.out.width * l.count;
        break;
    case NSK_KIND_NORMALISE_WHOLE:
        work.macs = work.outputs;
        work.pixels = l.count;
        work.runs = (uint64_t)l.out.height * l.out.width * l.count;
        break;
    case NSK_KIND_COPY:
        count_copy(&work, &l);
        break;
    default:
        work.macs = work.outputs;
        break;
    }
    return work;
}

typedef struct pieces {
    unsigned layer;
    nsk_work sum;
} pieces;

static void add_piece(void *context, unsigned index, const nsk_layer *piece) {
    pieces *p = (pieces *)context;
    if (index == p->layer) {
        nsk_work work = nsk_work_of(piece);
        add(&p->sum, &work);
    }
}

nsk_work nsk_layer_work(const nsk_model *model, unsigned layer) {
    pieces p = {.layer = layer};
    if (layer < model->streamed) {
        nsk_stream_walk(model, add_piece, &p, NULL);
        return p.sum;
    }
    nsk_layer l;
    nsk_layer_decode(model, layer, &l);
    if (!nsk_writes_over_input(&l)) {
        return nsk_work_of(&l);
    }
    const nsk_held in = {l.in.height, 0};
    const nsk_held out = {0, 0};
    int32_t rows;
    for (int32_t y = 0; y < l.out.height; y += rows) {
        rows = nsk_rows_at_once(&l, y);
        nsk_layer piece = nsk_window_piece(&l, &in, &out, y, y + rows);
        add_piece(&p, layer, &piece);
        p.sum.over++;
    }
    return p.sum;
}

static void ignore(void *context, unsigned index, const nsk_layer *piece) {
    (void)context;
    (void)index;
    (void)piece;
}

nsk_work nsk_stream_work(const nsk_model *model) {
    nsk_work work = {.calls = 0};
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
