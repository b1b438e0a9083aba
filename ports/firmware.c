/* The product's main loop: a frame, its scores, a decision. */
#include "netsuke/port.h"

#include <string.h>

typedef struct link {
    const nsk_port *port;
} link;

static void layer_done(void *context, const nsk_model *model, unsigned layer) {
    const link *l = context;
    l->port->layer_done(l->port->context, model, layer);
}

nsk_status nsk_firmware_run(const nsk_port *port, const nsk_model *model, const nsk_rule *rule) {
    size_t row = (size_t)model->width * model->channels;
    size_t frame_bytes = row * model->height;
    uint8_t *frame = port->memory(port->context, frame_bytes);
    void *workspace = port->memory(port->context, model->workspace_bytes);
    link l = {port};
    const nsk_observer observer = {layer_done, &l};
    nsk_decider decider = {0};
    if (frame == NULL || workspace == NULL) {
        return NSK_TOO_SMALL;
    }
    /* memory that is not there shows here, not in some layer's scratch */
    memset(workspace, 0, model->workspace_bytes);
    while (port->frame(port->context, frame, frame_bytes)) {
        nsk_prepare(model, frame, row, workspace);
        port->prepared(port->context);
        nsk_run(model, workspace, &observer);
        const int8_t *scores = nsk_scores(model, workspace);
        int decided = nsk_decide(&decider, rule, model, scores);
        port->answer(port->context, model, scores, decided);
    }
    return NSK_OK;
}
