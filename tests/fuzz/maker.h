/* maker: a model file that is being made: its bytes, and what its layers and tensors are to be.
 * made_kinds.c has the kinds of layer, made.c the plan and the header. */
#ifndef NSK_TESTS_FUZZ_MAKER_H
#define NSK_TESTS_FUZZ_MAKER_H

#include "device/format.h"
#include "device/layer.h"
#include "made.h"

enum { MOST_LAYERS = 7, MOST_TENSORS = 17 };

typedef struct shape {
    uint32_t height, width, channels;
} shape;

/* A layer's record before it is written. */
typedef struct record {
    uint32_t kind, flags, input, second, output, count;
    uint32_t kernel[2], stride[2], dilate[2], pad[2]; /* down, across */
    int32_t low, high;
    uint32_t weights_at, requantise_at, last_at;
} record;

/* Some channels of another tensor; `whole` 0: none. */
typedef struct slice {
    uint32_t whole, first;
} slice;

typedef struct maker {
    draws *d;
    uint8_t *file;
    uint32_t used;
    bool full;
    uint32_t layers, tensors, streamed;
    uint32_t drawn; /* layers but for the last, which gives the scores */
    shape shapes[MOST_TENSORS];
    uint8_t element[MOST_TENSORS]; /* bytes */
    bool fine[MOST_TENSORS];       /* elements of int16, whose levels have parts */
    slice slices[MOST_TENSORS];
    uint32_t places[MOST_TENSORS];
    record records[MOST_LAYERS];
} maker;

uint32_t made_draw_16(draws *d);
/* Mostly a few, sometimes many. */
uint32_t made_draw_size(draws *d);
shape made_draw_shape(maker *m);

void made_put8(maker *m, uint32_t at, uint32_t value);
void made_put16(maker *m, uint32_t at, uint32_t value);
void made_put32(maker *m, uint32_t at, uint32_t value);
/* Room for so many bytes; past the end, some that are there already. */
uint32_t made_take(maker *m, uint32_t bytes, uint32_t align);
uint32_t made_take_drawn(maker *m, uint32_t bytes, uint32_t align);

/* A function a kind: from the input's shape to the output's, and the data in between. */
extern shape (*const made_kinds[NSK_KINDS])(maker *m, record *r);

#endif
