/* A board's end of a link: takes requests, runs frames, gives figures. */
#include "../small.h"

#include <string.h>

#include "link_parts.h"

static void who(nsk_link *link, const nsk_wire_map *asked) {
    const nsk_link_port *port = link->port;
    const uint32_t numbers[][2] = {
        {NSK_KEY_VERSION, NSK_LINK_VERSION},
        {NSK_KEY_CLOCK, port->clock_hertz},
        {NSK_KEY_TICK, port->tick_hertz},
        {NSK_KEY_KINDS, nsk_link_kinds()},
        {NSK_KEY_MEMORY, port->memory_bytes},
        {NSK_KEY_LONGEST, link->inbox.room - NSK_WIRE_SUM},
        {NSK_KEY_MEASURES_STACK, port->stack_used != NULL},
        {NSK_KEY_CHECKSUM, link->model.checksum},
        {NSK_KEY_MODEL_BYTES, link->model.size},
        {NSK_KEY_WORKSPACE, link->model.workspace_bytes},
        {NSK_KEY_SLOT_BYTES, port->slots != NULL ? port->slots->bytes - NSK_SLOT_HEAD : 0U},
        {NSK_KEY_STARTS, link->starts},
        {NSK_KEY_RUNS, link->runs},
        {NSK_KEY_LINK_MEMORY, (uint32_t)link->memory_bytes},
        {NSK_KEY_CAMERA_WIDTH, nsk_link_camera_size(port, link->model.width, false)},
        {NSK_KEY_CAMERA_HEIGHT, nsk_link_camera_size(port, link->model.height, true)},
        {NSK_KEY_KEEPS_PICTURE, link->live.picture != NULL},
    };
    const unsigned count = sizeof numbers / sizeof numbers[0];
    nsk_wire w;
    nsk_link_begin_answer(&w, link, asked, NSK_LINK_DONE, count + 1U);
    nsk_wire_text(&w, NSK_KEY_CORE, port->core);
    for (unsigned i = 0; i < count; i++) {
        nsk_wire_number(&w, numbers[i][0], numbers[i][1]);
    }
    nsk_wire_end(&w);
}

static void answer(nsk_link *link) {
    static void (*const handlers[NSK_LINK_WHATS])(nsk_link *,
                                                  const nsk_wire_map *) = {NULL,
                                                                           who,
                                                                           nsk_link_rows,
                                                                           nsk_link_scores,
                                                                           nsk_link_layers,
                                                                           nsk_link_model,
                                                                           nsk_link_try,
                                                                           nsk_link_keep,
                                                                           nsk_link_back,
                                                                           nsk_link_rule,
                                                                           nsk_link_look,
                                                                           nsk_link_picture};
    nsk_wire_map asked;
    if (!nsk_wire_read(&asked, link->inbox.bytes, link->inbox.count) ||
        !nsk_wire_has(&asked, NSK_KEY_WHAT) || !nsk_wire_has(&asked, NSK_KEY_NUMBER)) {
        return; /* nothing that could be answered */
    }
    const uint32_t what = asked.number[NSK_KEY_WHAT];
    if (what < NSK_LINK_WHATS && handlers[what] != NULL) {
        handlers[what](link, &asked);
    } else {
        nsk_link_say(link, &asked, NSK_LINK_NOT_KNOWN);
    }
}

/* ---- for the caller ---- */

nsk_status nsk_link_set(nsk_link *link, const nsk_link_port *port, const void *model,
                        size_t model_bytes, void *memory, size_t bytes) {
    memset(link, 0, sizeof *link);
    link->port = port;
    link->built_in = model;
    link->built_in_bytes = model_bytes;
    link->memory = (uint8_t *)memory;
    link->memory_bytes = bytes;
    nsk_link_set_observer(link);
    return nsk_link_start_model(link);
}

/* No more at a time than the longest message has, whatever the host sends. */
void nsk_link_poll(nsk_link *link) {
    uint8_t bytes[NSK_WIRE_CHUNK];
    size_t count = 1;
    for (size_t taken = 0; taken < link->inbox.room && count > 0; taken += count) {
        count = link->port->receive(link->port->context, bytes, sizeof bytes);
        for (size_t i = 0; i < count && i < sizeof bytes; i++) {
            if (nsk_wire_take(&link->inbox, bytes[i])) {
                answer(link);
            }
        }
    }
}
