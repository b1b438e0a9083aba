#include "modelfile/check.h"
#include "network/network.h"

#include <string.h>

bool nsk_network_takes(const nsk_network *network, const nsk_images *images, nsk_error *error) {
    const nsk_value *in = nsk_graph_value(network->graph, network->graph->input);
    const nsk_input *input = nsk_images_input(images);
    int labels = nsk_images_labels(images)->count;
    int classes = nsk_network_classes(network);
    int channels = input->colour == NSK_COLOUR_GREY ? 1 : 3;
    if (in->dims[1] != channels || in->dims[2] != input->height || in->dims[3] != input->width) {
        return nsk_fail(
            error,
            "%s takes pictures of %d x %d with %d channels, the image set gives %d x %d "
            "with %d; make [input] agree with the model",
            network->path, (int)in->dims[3], (int)in->dims[2], (int)in->dims[1], input->width,
            input->height, channels);
    }
    return labels == classes ||
           nsk_fail(error,
                    "%s has %d outputs, the labels file has %d names; list one name an "
                    "output, in output order",
                    network->path, classes, labels);
}

bool nsk_model_is_for(const nsk_model *model, const nsk_labels *labels, const nsk_input *input,
                      nsk_error *error) {
    if (model->width != input->width || model->height != input->height ||
        model->colour != input->colour || model->fit != input->fit ||
        model->resample != input->resample) {
        return nsk_fail(error,
                        "the model file was built for another [input] (%u x %u); build it "
                        "again with 'netsuke quantise'",
                        model->width, model->height);
    }
    bool same = model->classes == labels->count;
    for (int i = 0; i < labels->count && same; i++) {
        same = strcmp(nsk_label(model, (unsigned)i), labels->names[i]) == 0;
    }
    return same ||
           nsk_fail(error, "the model file carries other labels than the labels file; build "
                           "it again with 'netsuke quantise'");
}

bool nsk_model_takes(const nsk_model *model, const nsk_images *images, nsk_error *error) {
    return nsk_model_is_for(model, nsk_images_labels(images), nsk_images_input(images), error);
}

bool nsk_model_open_for(const nsk_network *network, const nsk_model_file *file,
                        const nsk_images *images, nsk_model *model, nsk_error *error) {
    nsk_status status = nsk_open(model, file->bytes, file->size);
    if (status != NSK_STATUS_OK) {
        return nsk_fail(error, "the model is %s", nsk_status_text(status));
    }
    return (network == NULL || nsk_network_takes(network, images, error)) &&
           nsk_model_takes(model, images, error);
}
