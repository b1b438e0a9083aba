/* stress/changes: what may happen to pictures between training and the line, done to frames of the
 * network's size. Everything random comes from a number, so that it can be had again. */
#ifndef NSK_CHANGES_H
#define NSK_CHANGES_H

#include "base/base.h"

/* Interleaved bytes of one or three channels, in the input's colour order. */
typedef struct nsk_frame {
    uint8_t *bytes;
    int width, height, channels;
    nsk_colour colour;
} nsk_frame;

typedef struct nsk_change {
    const char *name, *unit;
    double amount[NSK_STRENGTHS]; /* from the weakest on, in that unit */
    bool colours;                 /* means nothing for grey */
    bool (*apply)(nsk_frame *frame, double amount, uint64_t *random, nsk_error *error);
} nsk_change;

extern const nsk_change nsk_changes[];
extern const int nsk_change_count;

#endif
