/* netsuke/link.h: a board talks with the host half over any stream of bytes: a serial line, a
 * socket. The host asks who it is, has it run frames, and gets scores, times, stack and the
 * checksum of each layer's output back. docs/link.md has the messages. Like device.h: integers
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

#include "netsuke/device.h"

#ifdef __cplusplus
extern "C" {
#endif

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
    const char *core;      /* as [board] core names it: "cortex-m4" */
    uint32_t clock_hertz;  /* of the core */
    uint32_t memory_bytes; /* RAM that nothing uses; 0: not known */
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

/* The caller's to keep, nobody's to look into. */
typedef struct nsk_link {
    const nsk_link_port *port;
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

/* The least memory for nsk_link_set: the workspace, what is kept of layers, and a message with one
 * row of the frame. */
size_t nsk_link_bytes(const nsk_model *model);

/* Opens the model at `model`, which stays where it is, and divides up `bytes` of memory, aligned to
 * NSK_ALIGNMENT; what is more than nsk_link_bytes makes for longer messages, and fewer of them. The
 * status is nsk_open's, or NSK_STATUS_NO_MEMORY. */
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
