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

/* Takes a frame into `buffer`, which holds `held` rows of it, and feeds it to the model. */
static bool take_frame(const nsk_port *port, nsk_feed *feed, uint8_t *buffer, unsigned held) {
    const nsk_model *model = feed->model;
    size_t row = (size_t)model->width * model->channels;
    for (unsigned y = 0; y < model->height; y += held) {
        if (!port->rows(port->context, buffer, held * row, y)) {
            return false;
        }
        nsk_feed_rows(feed, buffer, row, held);
    }
    return true;
}

nsk_status nsk_firmware_run(const nsk_port *port, const nsk_model *model, const nsk_rule *rule) {
    const unsigned held = model->streamed > 0 ? 1 : model->height;
    uint8_t *buffer = port->memory(port->context, (size_t)model->width * model->channels * held);
    void *workspace = port->memory(port->context, model->workspace_bytes);
    link l = {port};
    const nsk_observer observer = {NULL, layer_done, &l};
    nsk_decider decider = {0};
    if (buffer == NULL || workspace == NULL) {
        return NSK_TOO_SMALL;
    }
    /* memory that is not there shows here, not in some layer's scratch */
    memset(workspace, 0, model->workspace_bytes);
    for (;;) {
        nsk_feed feed;
        nsk_start(&feed, model, workspace, &observer);
        if (!take_frame(port, &feed, buffer, held)) {
            return NSK_OK;
        }
        port->prepared(port->context);
        nsk_run(model, workspace, &observer);
        const int8_t *scores = nsk_scores(model, workspace);
        int decided = nsk_decide(&decider, rule, model, scores);
        port->answer(port->context, model, scores, decided);
    }
}
