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
    static nsk_kernel *const kernels[NSK_KINDS] = {
        [NSK_CONV] = nsk_conv,
        [NSK_DEPTHWISE] = nsk_depthwise,
        [NSK_DENSE] = nsk_dense,
        [NSK_MAX_POOL] = nsk_max_pool,
        [NSK_AVERAGE_POOL] = nsk_average_pool,
        [NSK_ADD] = nsk_add,
        [NSK_MULTIPLY] = nsk_multiply,
        [NSK_TABLE] = nsk_table,
        [NSK_SOFTMAX] = nsk_softmax,
        [NSK_LARGER] = nsk_larger,
        [NSK_SMALLER] = nsk_smaller,
        [NSK_MOVE] = nsk_move,
        [NSK_CONSTANT] = nsk_constant,
        [NSK_RESIZE] = nsk_resize,
        [NSK_TRANSPOSED] = nsk_transposed,
    };
    for (unsigned i = 0; i < model->layers; i++) {
        nsk_layer layer;
        nsk_layer_decode(model, i, &layer);
        kernels[layer.kind](&layer, workspace);
        if (observer != NULL) {
            observer->after(observer->context, model, i);
        }
    }
}
