/* Any bytes as a model file, its checksum made right: refused, or run in bounds. */
#include <stdlib.h>
#include <string.h>

#include "device/crc.h"
#include "device/format.h"
#include "device/work.h"
#include "netsuke/device.h"

int LLVMFuzzerTestOneInput(const uint8_t *data, size_t size);

enum { MOST_WORKSPACE = 1 << 20, MOST_WORK = 1 << 17 };

static void run(const nsk_model *model) {
    uint64_t work = 0;
    for (unsigned i = 0; i < model->layers; i++) {
        work += nsk_layer_work(model, i).macs;
    }
    if (work > MOST_WORK || model->workspace_bytes > MOST_WORKSPACE) {
        return; /* in bounds, and too slow to try */
    }
    size_t row = (size_t)model->width * model->channels;
    uint8_t *frame = calloc(model->height, row);
    int8_t *workspace = malloc(model->workspace_bytes);
    if (frame != NULL && workspace != NULL) {
        memset(workspace, 0, model->workspace_bytes);
        nsk_prepare(model, frame, row, workspace);
        nsk_run(model, workspace, NULL);
        nsk_label(model, nsk_best(model, nsk_scores(model, workspace)));
    }
    free(workspace);
    free(frame);
}

int LLVMFuzzerTestOneInput(const uint8_t *data, size_t size) {
    uint8_t *copy = malloc(size + 1);
    memcpy(copy, data, size);
    if (size > NSK_HEADER_BYTES) {
        for (int i = 0; i < 4; i++) {
            copy[NSK_H_SIZE + i] = (uint8_t)(size >> (8 * i));
        }
        uint32_t crc = nsk_crc32(0, copy, NSK_H_CRC);
        crc = nsk_crc32(crc, copy + NSK_H_WORKSPACE, size - NSK_H_WORKSPACE);
        for (int i = 0; i < 4; i++) {
            copy[NSK_H_CRC + i] = (uint8_t)(crc >> (8 * i));
        }
    }
    nsk_model model;
    if (nsk_open(&model, copy, size) == NSK_STATUS_OK) {
        run(&model);
    }
    free(copy);
    return 0;
}
