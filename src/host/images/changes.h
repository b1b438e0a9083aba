/* images/changes: what may happen to pictures between training and the line, done to
 * frames of the network's size. Everything random comes from a number, so that it can be had again.
 */
#ifndef NSK_IMAGES_CHANGES_H
#define NSK_IMAGES_CHANGES_H

#include "base/base.h"
#include "base/random.h"
#include "netsuke/stress.h"

/* Frames of the class for 'nothing there': what may stand behind things. */
typedef struct nsk_backdrop {
    int count;
    uint8_t *frames;         /* one behind the other */
    float *mean, *deviation; /* of each byte of a frame */
} nsk_backdrop;

/* Interleaved bytes of one or three channels, in the input's colour order. */
typedef struct nsk_frame {
    uint8_t *bytes;
    int width, height, channels;
    nsk_colour colour;
    const nsk_backdrop *backdrop; /* NULL where there is none */
} nsk_frame;

/* The fewest frames that tell what is background. */
enum { NSK_LEAST_BACKDROP = 5 };
/* From `count` frames of so many bytes, which it takes over (g_free). */
nsk_backdrop *nsk_backdrop_new(uint8_t *frames, int count, size_t bytes);
void nsk_backdrop_free(nsk_backdrop *backdrop);

typedef struct nsk_change {
    const char *name, *unit;
    double amount[NSK_STRENGTHS]; /* from the weakest on, in that unit */
    bool colours;                 /* means nothing for grey */
    bool backdrop;                /* needs one */
    bool (*apply)(nsk_frame *frame, double amount, random_state *random, nsk_error *error);
} nsk_change;

extern const nsk_change nsk_changes[];
extern const int nsk_change_count;

#endif
