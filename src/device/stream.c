#include "stream.h"

#include <string.h>

#include "format.h"

bool nsk_kind_is_streamed(nsk_kind kind) {
    return !nsk_kind_is_of(NSK_KINDS_OF_WHOLES, kind);
}

static uint32_t height_of(const nsk_model *m, uint32_t tensor) {
    return nsk_load16(m->bytes + nsk_load32(m->bytes + NSK_H_TENSORS_AT) +
                      NSK_TENSOR_BYTES * tensor + NSK_T_HEIGHT);
}

static bool is_slice(const nsk_model *m, uint32_t tensor) {
    nsk_tensor t = nsk_tensor_at(m, tensor);
    return t.slice;
}

static nsk_link link_of(const nsk_model *m, unsigned layer) {
    const uint8_t *at = m->bytes + nsk_load32(m->bytes + NSK_H_LAYERS_AT) + NSK_LAYER_BYTES * layer;
    const nsk_kind kind = (nsk_kind)at[NSK_L_KIND];
    bool window = nsk_kind_has_window(kind);
    nsk_link k;
    k.in = nsk_load16(at + NSK_L_INPUT);
    k.second = nsk_kind_is_of(NSK_KINDS_OF_PAIRS, kind) ? nsk_load16(at + NSK_L_SECOND) : k.in;
    k.out = nsk_load16(at + NSK_L_OUTPUT);
    k.stride = window ? at[NSK_L_STRIDE_DOWN] : 1;
    k.pad = window ? at[NSK_L_PAD_TOP] : 0;
    k.reach = window ? (at[NSK_L_KERNEL_HEIGHT] - 1) * at[NSK_L_DILATE_DOWN] + 1 : 1;
    k.in_height = (int32_t)height_of(m, k.in);
    k.out_height = (int32_t)height_of(m, k.out);
    return k;
}

/* The layer as if it were one of output rows from those that are made to `to` only. */
static nsk_layer piece_of(const nsk_feed *f, unsigned index, const nsk_link *k, int32_t to) {
    const nsk_held *in = &f->held[k->in];
    const nsk_held *out = &f->held[k->out];
    nsk_layer l;
    nsk_layer_decode(f->model, index, &l);
    if (nsk_kind_has_window(l.kind)) {
        return nsk_window_piece(&l, in, out, out->made, to);
    }
    nsk_cut_rows(&l.in, in, out->made, to);
    if (nsk_kind_is_of(NSK_KINDS_OF_PAIRS, l.kind)) {
        nsk_cut_rows(&l.second, &f->held[k->second], out->made, to);
    }
    nsk_cut_rows(&l.out, out, out->made, to);
    return l;
}

/* Drops the rows of a tensor before row `wanted`; returns the bytes that move up. `memory` may be
 * NULL. */
static uint32_t drop(nsk_held *held, const nsk_tensor *t, int32_t wanted, int8_t *memory) {
    uint32_t row = (uint32_t)t->width * (uint32_t)t->pixel_stride;
    uint32_t gap = (uint32_t)(wanted - held->first) * row;
    uint32_t kept = (uint32_t)(held->made - wanted) * row;
    held->first = (uint16_t)wanted;
    for (uint32_t at = 0; memory != NULL && gap > 0 && at < kept; at += gap) {
        uint32_t part = kept - at < gap ? kept - at : gap; /* so that it does not meet itself */
        memcpy(memory + t->offset + at, memory + t->offset + at + gap, part);
    }
    return gap > 0 ? kept : 0;
}

static void want(uint16_t *wanted, uint32_t tensor, int32_t row) {
    wanted[tensor] = row < wanted[tensor] ? (uint16_t)row : wanted[tensor];
}

/* Each layer makes its piece of what can be made, and says from which row on it still wants its
 * inputs; false where a layer could have made more. */
static bool make_pieces(nsk_feed *f, uint16_t *wanted, nsk_piece_visitor *visit, void *context) {
    const nsk_model *m = f->model;
    bool all = true;
    for (unsigned i = 0; i < m->streamed; i++) {
        nsk_link k = link_of(m, i);
        nsk_held *out = &f->held[k.out];
        int32_t there = f->held[k.in].made;
        there = f->held[k.second].made < there ? f->held[k.second].made : there;
        int32_t made = nsk_link_turn(&k, there, out->made, m->band, m->height, &all);
        if (made > out->made) {
            nsk_layer piece = piece_of(f, i, &k, made);
            visit(context, i, &piece);
            out->made = (uint16_t)made;
        }
        int32_t first = nsk_link_wants(&k, made);
        want(wanted, k.in, first);
        want(wanted, k.second, first);
    }
    return all;
}

/* Drops what no layer wants; returns the bytes that move up. */
static uint32_t drop_unwanted(nsk_feed *f, const uint16_t *wanted) {
    uint32_t carried = 0;
    for (unsigned i = 0; i < NSK_MOST_STREAMED; i++) {
        nsk_held *h = &f->held[i];
        uint16_t first = wanted[i] < h->made ? wanted[i] : h->made;
        if (first > h->first) {
            nsk_tensor t = nsk_tensor_at(f->model, i);
            carried += t.rows < t.height ? drop(h, &t, first, f->workspace) : 0U;
        }
    }
    return carried;
}

/* Takes the rows that have come. Returns the bytes that moved up. */
static uint32_t advance(nsk_feed *f, nsk_piece_visitor *visit, void *context) {
    uint32_t carried = 0;
    f->held[f->model->input].made = f->rows;
    for (bool all = false; !all;) {
        uint16_t wanted[NSK_MOST_STREAMED];
        memset(wanted, 0xff, sizeof wanted);
        all = make_pieces(f, wanted, visit, context);
        carried += drop_unwanted(f, wanted);
    }
    return carried;
}

/* ---- running ---- */

static void run_piece(void *context, unsigned index, const nsk_layer *piece) {
    const nsk_feed *f = (const nsk_feed *)context;
    nsk_layer_run(f->model, index, piece, f->workspace, f->observer);
}

static void run_as_far_as_it_gets(nsk_feed *f) {
    advance(f, run_piece, f);
}

/* ---- checking, counting ---- */

/* The rows of the next step are there; false at the frame's end. */
static bool next_band(nsk_feed *f) {
    uint32_t height = f->model->height;
    bool more = f->rows < height;
    f->rows = (uint16_t)(height - f->rows > f->model->band ? f->rows + f->model->band : height);
    return more;
}

void nsk_stream_walk(const nsk_model *m, nsk_piece_visitor *visit, void *context,
                     uint64_t *carried) {
    nsk_feed f;
    nsk_start(&f, m, NULL, NULL);
    while (next_band(&f)) {
        uint64_t bytes = advance(&f, visit, context);
        if (carried != NULL) {
            *carried += bytes;
        }
    }
}

/* Reads what the frame or an earlier layer makes, writes what none before it makes. */
static bool check_link(const nsk_model *m, unsigned layer, uint32_t *made) {
    nsk_kind kind = nsk_layer_kind(m, layer);
    if (!nsk_kind_is_streamed(kind)) {
        return false;
    }
    nsk_link k = link_of(m, layer);
    if (k.in >= NSK_MOST_STREAMED || k.second >= NSK_MOST_STREAMED || k.out >= NSK_MOST_STREAMED ||
        (*made >> k.in & 1U) == 0 || (*made >> k.second & 1U) == 0 || (*made >> k.out & 1U) != 0 ||
        height_of(m, k.second) != height_of(m, k.in) || is_slice(m, k.out)) {
        return false;
    }
    *made |= UINT32_C(1) << k.out;
    return true;
}

typedef struct fits {
    const nsk_model *model;
    bool good;
} fits;

/* A piece's output ends within the rows that its tensor holds. */
static void check_piece(void *context, unsigned index, const nsk_layer *piece) {
    fits *f = (fits *)context;
    nsk_tensor whole = nsk_tensor_at(f->model, nsk_layer_output(f->model, index));
    uint32_t row = (uint32_t)whole.width * whole.channels * whole.element;
    uint64_t end = (uint64_t)piece->out.offset - whole.offset + (uint64_t)piece->out.height * row;
    f->good = f->good && end <= (uint64_t)whole.rows * row;
}

/* Layers that are not streamed read whole tensors. */
static bool the_rest_is_whole(const nsk_model *m) {
    for (unsigned i = m->streamed; i < m->layers; i++) {
        nsk_layer l;
        nsk_layer_decode(m, i, &l);
        if (l.in.rows < l.in.height || l.out.rows < l.out.height ||
            l.second.rows < l.second.height) {
            return false;
        }
    }
    nsk_tensor out = nsk_tensor_at(m, m->output);
    return out.rows == out.height;
}

/* Every step: the frame's rows, which come in behind those that are kept, and what is made. */
static bool steps_fit(const nsk_model *m) {
    nsk_tensor in = nsk_tensor_at(m, m->input);
    fits f = {m, true};
    nsk_feed feed;
    nsk_start(&feed, m, NULL, NULL);
    while (next_band(&feed) && f.good) {
        f.good = feed.rows - feed.held[m->input].first <= in.rows;
        advance(&feed, check_piece, &f);
    }
    return f.good;
}

static bool check(const nsk_model *m) {
    uint32_t made = UINT32_C(1) << (m->input < NSK_MOST_STREAMED ? m->input : 0);
    if (m->input >= NSK_MOST_STREAMED || m->band < 1 || m->streamed > m->layers) {
        return false;
    }
    for (unsigned i = 0; i < m->streamed; i++) {
        if (!check_link(m, i, &made)) {
            return false;
        }
    }
    return the_rest_is_whole(m) && steps_fit(m);
}

const nsk_streaming nsk_streams = {check, run_as_far_as_it_gets};
