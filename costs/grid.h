/* grid: single-layer models over a range of shapes, to count kernels with. */
#ifndef COST_GRID_H
#define COST_GRID_H

#include "base/base.h"

typedef struct grid_shape {
    nsk_kind kind;
    int size, in_channels, channels; /* of the layer under test: pixels a side, in, out */
    int kernel, stride;
} grid_shape;

extern const grid_shape grid_shapes[];
extern const int grid_shape_count;

enum { GRID_TESTED_LAYER = 1 };

/* A model of five layers: 1x1 convolution from three channels, the layer under test, average over
 * the picture, dense to two classes, softmax. Its weights are noise from a fixed seed. `clipped`:
 * the layer's outputs are held within -1 and 1.5, which is narrower than their scale. */
nsk_model_file *grid_model(const grid_shape *shape, bool clipped, nsk_error *error);

#endif
