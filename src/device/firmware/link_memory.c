/* How a link divides up its memory for a model. */
#include "../small.h"

#include "../layer.h"
#include "link_parts.h"

/* Any request but for its pixels; and where there is memory without end. */
static const size_t LEAST_MESSAGE = 96;
static const size_t MOST_MESSAGE = 1UL << 24;

/* Rounded up, so that what follows is aligned. */
static size_t aligned(size_t bytes) {
    return (bytes + NSK_ALIGNMENT - 1U) / NSK_ALIGNMENT * NSK_ALIGNMENT;
}

static size_t layers_bytes(const nsk_model *model) {
    return model->layers * sizeof(nsk_link_layer);
}

/* A threshold and a line for each class. */
static size_t rule_bytes(const nsk_model *model) {
    return aligned((size_t)model->classes * (sizeof(uint32_t) + 1U));
}

/* All but messages and the camera's picture. */
static size_t fixed_bytes(const nsk_link_port *port, const nsk_model *model) {
    return aligned(model->workspace_bytes) + layers_bytes(model) + rule_bytes(model) +
           aligned(nsk_link_camera_bytes(port, model));
}

size_t nsk_link_bytes(const nsk_link_port *port, const nsk_model *model) {
    return fixed_bytes(port, model) + LEAST_MESSAGE + (size_t)model->width * model->channels;
}

/* Takes so much from the front of what is left. */
static uint8_t *take(uint8_t **from, size_t bytes) {
    uint8_t *at = *from;
    *from += bytes;
    return at;
}

nsk_status nsk_link_lay(nsk_link *link, const void *model, size_t model_bytes) {
    const nsk_link_port *port = link->port;
    nsk_model opened;
    nsk_status status = nsk_open(&opened, model, model_bytes);
    const size_t least = status == NSK_STATUS_OK ? nsk_link_bytes(port, &opened) : 0;
    if (status == NSK_STATUS_OK && link->memory_bytes < least) {
        status = NSK_STATUS_NO_MEMORY;
    }
    if (status != NSK_STATUS_OK) {
        return status;
    }
    uint8_t *at = link->memory;
    const size_t picture = nsk_link_picture_bytes(port, &opened);
    const bool keeps = picture > 0 && link->memory_bytes - least >= aligned(picture);
    link->model = opened;
    link->workspace = take(&at, aligned(opened.workspace_bytes));
    link->layers = (nsk_link_layer *)(void *)take(&at, layers_bytes(&opened));
    link->live.thresholds = (uint32_t *)(void *)take(&at, rule_bytes(&opened));
    link->live.line_of = (uint8_t *)(link->live.thresholds + opened.classes);
    uint8_t *camera = take(&at, aligned(nsk_link_camera_bytes(port, &opened)));
    link->live.picture = keeps ? take(&at, aligned(picture)) : NULL;
    const size_t left = link->memory_bytes - (size_t)(at - link->memory);
    link->inbox.bytes = at;
    link->inbox.room = (uint32_t)(left < MOST_MESSAGE ? left : MOST_MESSAGE);
    link->inbox.count = 0;
    link->has_frame = false;
    return nsk_link_set_camera(link, camera);
}
