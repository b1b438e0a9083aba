/* Normalise: graph/blocks.h says what it computes. */
#include <math.h>

#include "float/kernel.h"
#include "graph/blocks.h"

typedef struct moments {
    double mean, deviation;
} moments;

static moments moments_of(const nsk_attributes *a, const float *x, const nsk_blocks *b) {
    double sum = 0.0;
    double squares = 0.0;
    for (size_t r = 0; r < b->run && a->centred; r++) {
        sum += (double)x[r * b->inner];
    }
    const double mean = sum / (double)b->run;
    for (size_t r = 0; r < b->run; r++) {
        double away = (double)x[r * b->inner] - mean;
        squares += away * away;
    }
    const double deviation = sqrt(squares / (double)b->run + a->epsilon) + a->alpha;
    return (moments){mean, fmax(deviation, a->beta)};
}

static void write_block(const nsk_step *s, const nsk_blocks *b, size_t first) {
    const moments m = moments_of(&s->node->attributes, s->x + first, b);
    for (size_t r = 0; r < b->run; r++) {
        size_t at = first + r * b->inner;
        double y = ((double)s->x[at] - m.mean) / m.deviation;
        const nsk_value *gains = nsk_node_input(s->graph, s->node, 1);
        const nsk_value *offsets = nsk_node_input(s->graph, s->node, 2);
        if (gains != NULL) {
            y *= (double)s->inputs[1][nsk_gain_place(s->graph, s->node, gains, at)];
        }
        if (offsets != NULL) {
            y += (double)s->inputs[2][nsk_gain_place(s->graph, s->node, offsets, at)];
        }
        s->y[at] = (float)y;
    }
}

void nsk_float_normalise(const nsk_step *s) {
    const nsk_blocks b = nsk_blocks_of(s->graph, s->node);
    for (size_t outer = 0; outer < b.outer; outer++) {
        for (size_t inner = 0; inner < b.inner; inner++) {
            write_block(s, &b, outer * b.run * b.inner + inner);
        }
    }
}
