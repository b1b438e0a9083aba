/* netsuke/link.h: a board talks with the host half over any stream of bytes: a serial line, a
 * socket. The host asks who it is, has it run frames, and gets scores, times, stack and the
 * checksum of each layer's output back; looks through the board's camera; gives it another rule,
 * or another model. docs/link.md has the messages. Like device.h: integers
 * only, no heap, no global state, memcpy and memset of the C library.
 *
 *     nsk_link link;
 *     nsk_link_set(&link, &port, model, sizeof model, memory, sizeof memory);
 *     for (;;) {
 *         nsk_link_poll(&link);
 *     }
 */
#ifndef NETSUKE_LINK_H
#define NETSUKE_LINK_H

#include "netsuke/firmware.h"
#include "netsuke/slots.h"

#ifdef __cplusplus
extern "C" {
#endif

/* The board's own camera. */
typedef struct nsk_link_camera {
    uint16_t width, height; /* of its pictures, pixels; 0: the model's */
    /* As nsk_port.row: writes a row of the picture; with row 0 it waits for the next one. */
    nsk_row (*row)(void *context, uint8_t *to, size_t bytes, unsigned y);
    /* The line that the rule has decided on with this picture: for an actuator. May be NULL. */
    void (*decided)(void *context, int line);
} nsk_link_camera;

/* What a board gives. None of it may wait for the host without end. */
typedef struct nsk_link_port {
    void *context; /* handed to every function */
    /* Takes at most `most` of the bytes that have come, and returns how many: 0 where there are
     * none, at once. */
    size_t (*receive)(void *context, uint8_t *to, size_t most);
    /* Gives bytes away, and waits for room for so long as the port sets, no longer. False: they are
     * lost, and the rest of the message with them; the host asks again. */
    bool (*send)(void *context, const uint8_t *bytes, size_t count);
    /* Counts up, and begins anew after 2^32 - 1. */
    uint32_t (*ticks)(void *context);
    uint32_t tick_hertz;
    /* To measure the stack: marks what is free of it below the caller; how many bytes of that have
     * been used since. Both or none may be NULL. */
    void (*stack_paint)(void *context);
    uint32_t (*stack_used)(void *context);
    const char *core;              /* as [board] core names it: "cortex-m4" */
    uint32_t clock_hertz;          /* of the core */
    uint32_t memory_bytes;         /* RAM that nothing uses; 0: not known */
    const nsk_link_camera *camera; /* these three: NULL where there is none */
    const nsk_rule *rule;          /* for its pictures, until the host gives another one */
    const nsk_slots *slots;        /* for models that come later */
} nsk_link_port;

/* Of a layer of the last frame. */
typedef struct nsk_link_layer {
    uint32_t ticks; /* of all its pieces */
    uint32_t stack; /* bytes, deepest */
    uint32_t sum;   /* nsk_output_sum of it, of as many elements as the host asked for */
} nsk_link_layer;

/* A message as it comes in: nobody's to look into. */
typedef struct nsk_link_inbox {
    uint8_t *bytes;
    uint32_t room, count;
    bool escaped, lost, ended; /* in an escape; no message any more; the next byte begins one */
} nsk_link_inbox;

/* A model as it is written into a slot. */
typedef struct nsk_link_spare {
    uint32_t bytes, checksum; /* of all of it; 0 bytes: none is being written */
    uint32_t written;
} nsk_link_spare;

/* The board's own pictures, and what comes of them. */
typedef struct nsk_link_live {
    nsk_scaler scaler;
    nsk_rule rule;
    nsk_decider decider;
    uint32_t *thresholds; /* room for a rule's lists */
    uint8_t *line_of;
    uint8_t *row;          /* of the camera's picture, where that is not kept */
    uint8_t *frame_row;    /* of the model's frame */
    uint8_t *picture;      /* the last one, where there is memory for it */
    int16_t line, decided; /* with that one */
    uint8_t came;          /* how it did: nsk_row */
    bool has_picture;      /* the last frame is one */
} nsk_link_live;

/* The caller's to keep, nobody's to look into. */
typedef struct nsk_link {
    const nsk_link_port *port;
    const void *built_in;
    size_t built_in_bytes;
    uint8_t *memory; /* all that was given */
    size_t memory_bytes;
    uint8_t starts, runs; /* slots of models; NSK_SLOTS: the one built in */
    nsk_link_spare spare;
    nsk_link_live live;
    nsk_model model;
    void *workspace;
    nsk_link_layer *layers;
    nsk_link_inbox inbox;
    nsk_observer observer;
    nsk_feed feed;
    uint32_t frame; /* the host's number of it */
    uint16_t rows;  /* of it that have come */
    bool has_frame;
    uint32_t sums; /* over so many elements of each output */
    uint32_t began, in_layers,
        aside;              /* ticks: of the layer that runs; of all; of what looks at them */
    nsk_link_layer prepare; /* what is in no layer */
} nsk_link;

/* The least memory for a model: its workspace, what is kept of layers and of a rule, what the
 * camera takes, where there is one, and a message with one row of the frame. */
size_t nsk_link_bytes(const nsk_link_port *port, const nsk_model *model);

/* Opens the model at `model`, which stays where it is, or, where there are slots, the newest one in
 * them that is sound and fits; and divides up `bytes` of memory, aligned to NSK_ALIGNMENT. What is
 * more than nsk_link_bytes holds the camera's picture, if all of it fits, so that the host can have
 * it; and makes for longer messages, and fewer of them. The status is nsk_open's, or
 * nsk_scaler_set's, or NSK_STATUS_NO_MEMORY. */
nsk_status nsk_link_set(nsk_link *link, const nsk_link_port *port, const void *model,
                        size_t model_bytes, void *memory, size_t bytes);

/* Takes what has come, and answers each message that is whole: to be called again and again. It
 * returns when nothing more is there, or as much as a long message has taken; a message that ends a
 * frame has it run first. */
void nsk_link_poll(nsk_link *link);

/* CRC-32 (of IEEE 802.3) of what a layer left in its output, row by row, each element with its
 * lowest byte first, of the first `most` of them; 0 of a streamed layer, of whose rows only some
 * are there. */
uint32_t nsk_output_sum(const nsk_model *model, const void *workspace, unsigned layer,
                        uint32_t most);

#ifdef __cplusplus
}
#endif
#endif
