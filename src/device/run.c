/* Preparing a frame and running the layers. */
#include "format.h"
#include "layer.h"

static void prepare_row(const int8_t *table, const uint8_t *from, size_t bytes, int8_t *to) {
    for (const uint8_t *end = from + bytes; from < end;) {
        *to++ = table[*from++];
    }
}

/* A table a channel. */
static void prepare_colours(const int8_t *tables, const uint8_t *from, size_t pixels, int8_t *to) {
    for (; pixels > 0; pixels--, from += 3, to += 3) {
        to[0] = tables[from[0]];
        to[1] = tables[256U + from[1]];
        to[2] = tables[512U + from[2]];
    }
}

void nsk_prepare(const nsk_model *model, const uint8_t *frame, size_t stride, void *workspace) {
    const int8_t *tables =
        (const int8_t *)model->bytes + nsk_load32(model->bytes + NSK_H_PREPARE_AT);
    size_t row = (size_t)model->width * model->channels;
    int8_t *to = (int8_t *)workspace + nsk_tensor_at(model, model->input).place;
    for (size_t y = 0; y < model->height; y++, frame += stride, to += row) {
        if (model->bytes[NSK_H_TABLES] == 1) {
            prepare_row(tables, frame, row, to);
        } else {
            prepare_colours(tables, frame, model->width, to);
        }
    }
}

void nsk_run(const nsk_model *model, void *workspace, const nsk_observer *observer) {
    for (unsigned i = 0; i < model->layers; i++) {
        nsk_layer layer;
        nsk_layer_decode(model, i, &layer);
        nsk_operations[layer.kind]->run(&layer, (int8_t *)workspace);
        if (observer != NULL) {
            observer->after(observer->context, model, i);
        }
    }
}
