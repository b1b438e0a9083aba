#include "quantised.h"

#include <glib.h>

#include "base/base.h"

nsk_model_file *bench_quantise(const char *path, nsk_error *error) {
    nsk_brief *brief = nsk_brief_read(path, error);
    nsk_network *network =
        brief != NULL ? nsk_network_read(brief->model, &brief->input, brief->output, error) : NULL;
    nsk_images *images = network != NULL
                             ? nsk_images_open(brief->calibration, &brief->labels, &brief->input,
                                               brief->calibration_limit, false, error)
                             : NULL;
    nsk_model_file *file = images != NULL ? nsk_quantise(network, images, NULL, error) : NULL;
    nsk_images_free(images);
    nsk_network_free(network);
    nsk_brief_free(brief);
    return file;
}

bool bench_is_asked(char *const *names, const emulated_core *core) {
    return names[0] == NULL || g_strv_contains((const char *const *)names, core->name);
}

bool bench_write(const nsk_model_file *file, nsk_model *model, const char *model_path,
                 const char *frame_path, nsk_error *error) {
    nsk_open(model, file->bytes, file->size);
    size_t size = (size_t)model->width * model->height * model->channels;
    uint8_t *frame = g_malloc(size);
    for (size_t i = 0; i < size; i++) {
        frame[i] = (uint8_t)(i * 37U % 251U);
    }
    bool good = nsk_model_file_write(file, model_path, error) &&
                nsk_file_write(frame_path, frame, size, error);
    g_free(frame);
    return good;
}
