/* Preparing a frame and running the layers. */
#include "format.h"
#include "layer.h"

void nsk_prepare(const nsk_model *model, const uint8_t *frame, size_t stride, void *workspace) {
    const int8_t *tables =
        (const int8_t *)model->bytes + nsk_load32(model->bytes + NSK_H_PREPARE_AT);
    size_t step = model->bytes[NSK_H_TABLES] > 1 ? 256U : 0U;
    int8_t *to = (int8_t *)workspace + nsk_tensor_at(model, model->input).place;
    for (size_t y = 0; y < model->height; y++) {
        const uint8_t *from = frame + y * stride;
        for (size_t x = 0; x < model->width; x++) {
            const int8_t *table = tables;
            for (size_t c = 0; c < model->channels; c++) {
                *to++ = table[*from++];
                table += step;
            }
        }
    }
}

void nsk_run(const nsk_model *model, void *workspace, const nsk_observer *observer) {
    for (unsigned i = 0; i < model->layers; i++) {
        nsk_layer layer;
        nsk_layer_decode(model, i, &layer);
        nsk_operations[layer.kind]->run(&layer, workspace);
        if (observer != NULL) {
            observer->after(observer->context, model, i);
        }
    }
}
