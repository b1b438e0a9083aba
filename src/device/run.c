/* Running the layers, and what a frame begins with. */
#include "small.h"

#include <string.h>

#include "layer.h"

void nsk_start(nsk_feed *feed, const nsk_model *model, void *workspace,
               const nsk_observer *observer) {
    feed->model = model;
    feed->workspace = (int8_t *)workspace;
    feed->observer = observer;
    feed->rows = 0;
    memset(feed->held, 0, sizeof feed->held);
}

/* A layer with a window may write its output over input rows that it needs no more. Kernels go
 * through channels and pixels in orders of their own: it runs a few rows at a time then. */
bool nsk_writes_over_input(const nsk_layer *l) {
    return nsk_kind_has_window(l->kind) &&
           l->in.offset < l->out.offset + nsk_tensor_span(&l->out) &&
           l->out.offset < l->in.offset + nsk_tensor_bytes(&l->in);
}

int32_t nsk_rows_at_once(const nsk_layer *l, int32_t y) {
#if defined(NSK_SMALLEST)
    (void)l;
    (void)y;
    return 1;
#else
    const uint32_t out_row = (uint32_t)l->out.width * (uint32_t)l->out.pixel_stride;
    const int32_t top = nsk_window_top(l, y);
    const uint32_t read =
        (uint32_t)(top > 0 ? top : 0) * l->in.width * (uint32_t)l->in.pixel_stride;
    int32_t end = y + 1;
    while (end < l->out.height &&
           l->out.offset + ((uint32_t)end + 1U) * out_row <= l->in.offset + read) {
        end++;
    }
    return end - y;
#endif
}

static void run_in_pieces(const nsk_layer *l, int8_t *workspace) {
    const nsk_held in = {l->in.height, 0};
    const nsk_held out = {0, 0};
    int32_t rows;
    for (int32_t y = 0; y < l->out.height; y += rows) {
        rows = nsk_rows_at_once(l, y);
        nsk_layer piece = nsk_window_piece(l, &in, &out, y, y + rows);
        nsk_operations[l->kind]->run(&piece, workspace);
    }
}

void nsk_layer_run(const nsk_model *model, unsigned index, const nsk_layer *layer,
                   int8_t *workspace, const nsk_observer *observer) {
    if (observer != NULL && observer->before != NULL) {
        observer->before(observer->context, model, index);
    }
    if (nsk_writes_over_input(layer)) {
        run_in_pieces(layer, workspace);
    } else {
        nsk_operations[layer->kind]->run(layer, workspace);
    }
    if (observer != NULL && observer->after != NULL) {
        observer->after(observer->context, model, index);
    }
}

void nsk_run(const nsk_model *model, void *workspace, const nsk_observer *observer) {
    for (unsigned i = model->streamed; i < model->layers; i++) {
        nsk_layer layer;
        nsk_layer_decode(model, i, &layer);
        nsk_layer_run(model, i, &layer, (int8_t *)workspace, observer);
    }
}
