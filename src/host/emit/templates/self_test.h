/* self_test: frames that were held out, and the scores that the host computed for them. */
#ifndef SELF_TEST_H
#define SELF_TEST_H

#include "netsuke/device.h"

typedef struct self_test_network {
    const char *name;
    const uint8_t *model;
    size_t model_bytes;
    unsigned frames;
    const uint8_t *frame;   /* one behind the other, rows without gaps */
    const int8_t *expected; /* the scores of each */
} self_test_network;

extern const self_test_network self_test_networks[];
extern const unsigned self_test_count;

/* As large as the largest network's needs it. */
extern uint32_t self_test_workspace[];
extern const size_t self_test_workspace_bytes;

#endif
