/* netsuke/port.h: what a system gives so that the product's main loop runs on it. A port is one
 * nsk_port, filled in; ports/firmware.c is the loop, the same everywhere. docs/porting.md walks
 * through writing one.
 */
#ifndef NETSUKE_PORT_H
#define NETSUKE_PORT_H

#include "netsuke/device.h"

#ifdef __cplusplus
extern "C" {
#endif

typedef struct nsk_port {
    void *context; /* handed to every function */

    /* Memory for the whole run, aligned to NSK_ALIGNMENT, called at start-up only; on a system
     * with static buffers, one of them. NULL where there is none left. */
    void *(*memory)(void *context, size_t bytes);

    /* Writes `bytes` of a frame from row `first` on, rows without gaps: all of it, or a row at a
     * time where the model is streamed. With row 0 it waits for the next frame. False: the camera
     * has ended, and so does the loop. */
    bool (*rows)(void *context, uint8_t *to, size_t bytes, unsigned first);

    /* A frame has come in, and then a layer (or a piece of a streamed one, before that) has run:
     * feed the watchdog, advance a clock. */
    void (*prepared)(void *context);
    void (*layer_done)(void *context, const nsk_model *model, unsigned layer);

    /* A frame's scores are there. `decided`: the class that the rule has just decided on, or -1. */
    void (*answer)(void *context, const nsk_model *model, const int8_t *scores, int decided);
} nsk_port;

/* Runs frames until the camera ends. NSK_TOO_SMALL where the port has no memory. */
nsk_status nsk_firmware_run(const nsk_port *port, const nsk_model *model, const nsk_rule *rule);

#ifdef __cplusplus
}
#endif
#endif
