/* grid: single-layer models over a range of shapes, to count kernels with. */
#ifndef NSK_COSTS_GRID_H
#define NSK_COSTS_GRID_H

#include "base/random.h"
#include "netsuke/quantise.h"
#include "passes/schedule.h"

typedef struct grid_shape {
    nsk_kind kind;
    int size, in_channels, channels; /* of the layer under test: pixels a side, in, out */
    int kernel, stride;
} grid_shape;

extern const grid_shape grid_shapes[];
extern const int grid_shape_count;

enum { GRID_TESTED_LAYER = 1 };

/* A model of five layers: 1x1 convolution from three channels, the layer under test, average over
 * the picture, dense to two classes, softmax. Its weights are noise from a fixed seed. Clipped:
 * the layer's outputs are held within -1 and 1.5, which is narrower than their scale. Streamed: the
 * first two layers are, a row of the frame at a time. Over: layers may be written over their input.
 */
typedef enum grid_way { GRID_PLAIN, GRID_CLIPPED, GRID_STREAMED, GRID_OVER, GRID_WAYS } grid_way;
nsk_model_file *grid_model(const grid_shape *shape, grid_way way, nsk_error *error);

/* The parts of it: an empty network with its input, a layer behind the last. */
void grid_begin(nsk_lowered *net, int size, int channels);

void grid_add_layer(nsk_lowered *net, const grid_shape *shape, const char *name, random_state *r);
/* Places the tensors, the first `streamed` layers streamed a row at a time, layers over their input
 * if they may be; writes the model and frees the network's arrays. */
nsk_model_file *grid_finish(nsk_lowered *net, int streamed, bool over, nsk_error *error);

/* Any network whose last layer gives two classes as a model: every tensor but the last from -2 to
 * 2. */
nsk_model_file *grid_write(const nsk_lowered *net, const nsk_schedule *schedule, nsk_error *error);

#endif
