/* A run in slices: as many rows of layers as are said to fit, then back to the caller. */
#include "../small.h"

#include "slices.h"

void nsk_slices_start(nsk_slices *at, const nsk_model *model) {
    at->layer = model->streamed;
    at->row = 0;
}

static void cut_at(nsk_tensor *t, int32_t from, int32_t to) {
    const nsk_held all = {t->height, 0};
    nsk_cut_rows(t, &all, from, to);
}

nsk_layer nsk_slice_of(const nsk_layer *l, int32_t from, int32_t to) {
    const nsk_held in = {l->in.height, 0};
    const nsk_held out = {0, 0};
    if (nsk_kind_has_window(l->kind)) {
        return nsk_window_piece(l, &in, &out, from, to);
    }
    nsk_layer piece = *l;
    cut_at(&piece.in, from, to);
    cut_at(&piece.out, from, to);
    if (nsk_kind_is_of(NSK_KINDS_OF_PAIRS, l->kind) && l->second.height == l->in.height) {
        cut_at(&piece.second, from, to);
    }
    return piece;
}

int32_t nsk_slice_rows(const nsk_layer *l) {
    return nsk_kind_is_of(NSK_KINDS_OF_WHOLES, l->kind) ? 1 : l->out.height;
}

/* Rows [at, to), in pieces where the layer writes over its input. */
static void run_rows(const nsk_layer *l, int8_t *workspace, int32_t at, int32_t to) {
    const bool over = nsk_writes_over_input(l);
    int32_t rows;
    for (; at < to; at += rows) {
        const int32_t most = over ? nsk_rows_at_once(l, at) : to - at;
        rows = most < to - at ? most : to - at;
        const nsk_layer piece = nsk_slice_of(l, at, at + rows);
        nsk_operations[l->kind]->run(&piece, workspace);
    }
}

static void run_slice(const nsk_layer *l, int8_t *workspace, int32_t from, int32_t to) {
    if (nsk_slice_rows(l) == 1) {
        nsk_operations[l->kind]->run(l, workspace);
    } else {
        run_rows(l, workspace, from, to);
    }
}

bool nsk_run_some(const nsk_model *model, void *workspace, nsk_slices *at, const uint32_t *costs,
                  uint32_t most, const nsk_observer *observer) {
    bool first = true;
    while (at->layer < model->layers) {
        nsk_layer l;
        nsk_layer_decode(model, at->layer, &l);
        const uint32_t left = (uint32_t)nsk_slice_rows(&l) - at->row;
        const uint32_t cost = costs[at->layer];
        uint32_t rows = cost > 0 ? most / cost : left;
        if (rows == 0 && !first) {
            return false;
        }
        rows = rows == 0 ? 1U : rows < left ? rows : left;
        if (at->row == 0 && observer != NULL && observer->before != NULL) {
            observer->before(observer->context, model, at->layer);
        }
        run_slice(&l, (int8_t *)workspace, at->row, (int32_t)(at->row + rows));
        most -= rows * cost < most ? rows * cost : most;
        at->row = (uint16_t)(at->row + rows);
        if (rows == left) {
            if (observer != NULL && observer->after != NULL) {
                observer->after(observer->context, model, at->layer);
            }
            at->layer++;
            at->row = 0;
        }
        first = false;
    }
    return true;
}
