/* netsuke/port.h: what a system gives so that the product's loop (firmware.h) runs on it. A port is
 * one nsk_port, filled in; docs/porting.md walks through writing one.
 */
#ifndef NETSUKE_PORT_H
#define NETSUKE_PORT_H

#include "netsuke/device.h"

#ifdef __cplusplus
extern "C" {
#endif

/* How waiting for a row of the camera ended. */
typedef enum nsk_row {
    NSK_ROW_THERE,
    NSK_ROW_LATE, /* it did not come in the time that the port allows it */
    NSK_ROW_CUT,  /* the picture ended before it */
    NSK_ROW_END   /* there will be no more pictures: the loop ends */
} nsk_row;

/* Why a frame has no answer. */
typedef enum nsk_fault {
    NSK_FAULT_NONE,
    NSK_FAULT_CAMERA_LATE,
    NSK_FAULT_PICTURE_CUT,
    NSK_FAULT_PICTURE_FROZEN, /* it is the one before, or a row of it is that one's */
    NSK_FAULT_PIXELS_STUCK,   /* a row or a column of it is one colour */
    NSK_FAULT_ROWS_REPEATED,  /* a row of it is the one above */
    NSK_FAULT_MODEL_DAMAGED,  /* its bytes are not those that were opened */
    NSK_FAULT_RUNS_DIFFER,    /* the frame was run twice, and gave other scores the second time */
    NSK_FAULT_MEMORY_DAMAGED, /* what the rule remembers, or the loop knows, is not what was left
                                 there */
    NSK_FAULTS
} nsk_fault;

/* A frame's answer. Lines are classes, or groups of them: nsk_rule. */
typedef struct nsk_answered {
    const nsk_model *model;
    const int32_t *scores; /* valid until the function returns */
    int line;              /* that this frame is taken for, or NSK_UNSURE */
    int decided;           /* the line that the rule decides on with this frame, or NSK_NOTHING */
} nsk_answered;

typedef struct nsk_port {
    void *context; /* handed to every function */

    /* Memory for the whole run, aligned to NSK_ALIGNMENT, called at start-up only; on a system
     * with static buffers, one of them. NULL where there is none left. */
    void *(*memory)(void *context, size_t bytes);

    /* Writes row `y` of the camera's picture, `bytes` of it. With row 0 it waits for the next
     * picture; nsk_sensor_row says which row that is of a sensor of another format. It must return
     * in a time that the port sets, whatever the camera does. */
    nsk_row (*row)(void *context, uint8_t *to, size_t bytes, unsigned y);

    /* A picture has come in and been prepared, and then a layer (or a piece of a streamed one,
     * before that) has run: feed the watchdog, advance a clock. */
    void (*prepared)(void *context);
    void (*layer_done)(void *context, const nsk_model *model, unsigned layer);

    /* A row of the camera's picture as pixels, before it is scaled, to be kept or sent away:
     * the picture is whole when its answer comes. May be NULL. */
    void (*capture)(void *context, const uint8_t *row, size_t bytes, unsigned y);

    /* What the frame is taken for, or why it is not. */
    void (*answer)(void *context, const nsk_answered *answer);
    void (*fault)(void *context, nsk_fault fault);
} nsk_port;

#ifdef __cplusplus
}
#endif
#endif
