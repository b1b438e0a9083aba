/* self_test: frames that were held out, the scores that the host computed for them, and what the
 * product around the network decides on pictures that are made of them. */
#ifndef SELF_TEST_H
#define SELF_TEST_H

#include "netsuke/firmware.h"

/* What the product's loop makes of a picture. */
typedef struct self_test_step {
    int16_t fault, line, decided; /* as the port is told of them */
    int32_t sum; /* of the scores, each times the number of its class, from 1; modulo 2^32 */
} self_test_step;

typedef struct self_test_network {
    const char *name;
    const uint8_t *model;
    size_t model_bytes;
    const uint32_t *row_costs; /* of each layer */
    unsigned frames;
    const uint8_t *frame;    /* one behind the other, rows without gaps */
    const int32_t *expected; /* the scores of each */
    const nsk_firmware *firmware;
    unsigned each, step_count; /* how often a frame is shown on end; pictures in all */
    const self_test_step *step;
} self_test_network;

extern const self_test_network self_test_networks[];
extern const unsigned self_test_count;

/* What the product's loop asks for with the network that needs most: workspace, frame, camera. */
extern uint32_t self_test_memory[];
extern const size_t self_test_memory_bytes;

#endif
