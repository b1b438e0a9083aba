/* Depthwise convolution: output channel c reads input channel c / (outputs an input). Weights as
 * [row][column][out]. */
#include "arithmetic.h"
#include "format.h"
#include "layer.h"

enum { BLOCK = 4 };

typedef struct pixel {
    const nsk_layer *layer;
    const int8_t *in;
    nsk_window rows, columns;
} pixel;

/* One row of taps for BLOCK neighbouring channels. */
static NSK_APART void row_block(const int8_t *in, int32_t in_step, const int8_t *weights,
                                int32_t weight_step, int32_t count, int32_t zero, int32_t *acc) {
    int32_t a0 = acc[0];
    int32_t a1 = acc[1];
    int32_t a2 = acc[2];
    int32_t a3 = acc[3];
    for (; count > 0; count--) {
        a0 += (in[0] - zero) * weights[0];
        a1 += (in[1] - zero) * weights[1];
        a2 += (in[2] - zero) * weights[2];
        a3 += (in[3] - zero) * weights[3];
        in += in_step;
        weights += weight_step;
    }
    acc[0] = a0;
    acc[1] = a1;
    acc[2] = a2;
    acc[3] = a3;
}

/* One output channel for each input: BLOCK neighbours at a time. */
static void accumulate_block(const pixel *p, int32_t channel, int32_t *acc) {
    const nsk_layer *l = p->layer;
    int32_t x = p->columns.origin + p->columns.first * l->dilate_across;
    int32_t row = l->in.width * l->in.channels;
    const int8_t *in = p->in + x * l->in.channels + channel;
    const int8_t *w = (const int8_t *)l->weights + p->columns.first * l->out.channels + channel;
    for (int32_t ky = p->rows.first; ky < p->rows.last; ky++) {
        int32_t y = p->rows.origin + ky * l->dilate_down;
        row_block(in + y * row, l->dilate_across * l->in.channels,
                  w + ky * l->kernel_width * l->out.channels, l->out.channels,
                  p->columns.last - p->columns.first, l->in.zero, acc);
    }
}

static void accumulate_one(const pixel *p, int32_t channel, int32_t source, int32_t *acc) {
    const nsk_layer *l = p->layer;
    for (int32_t ky = p->rows.first; ky < p->rows.last; ky++) {
        int32_t y = p->rows.origin + ky * l->dilate_down;
        for (int32_t kx = p->columns.first; kx < p->columns.last; kx++) {
            int32_t x = p->columns.origin + kx * l->dilate_across;
            int32_t tap = ky * l->kernel_width + kx;
            int32_t value = p->in[(y * l->in.width + x) * l->in.channels + source] - l->in.zero;
            *acc += value * ((const int8_t *)l->weights)[tap * l->out.channels + channel];
        }
    }
}

static void write_pixel(const pixel *p, int8_t *out) {
    const nsk_layer *l = p->layer;
    int32_t each = l->out.channels / l->in.channels;
    int32_t block;
    for (int32_t c = 0; c < l->out.channels; c += block) {
        block = each == 1 && c + BLOCK <= l->out.channels ? BLOCK : 1;
        int32_t acc[BLOCK];
        for (int32_t i = 0; i < block; i++) {
            acc[i] = nsk_word(l->bias, (uint32_t)(c + i));
        }
        if (block == BLOCK) {
            accumulate_block(p, c, acc);
        } else {
            accumulate_one(p, c, c / each, acc);
        }
        for (int32_t i = 0; i < block; i++) {
            uint32_t k = (uint32_t)(c + i);
            int32_t value = nsk_rescale(acc[i], nsk_word(l->multipliers, k), l->shifts[k]);
            out[k] = nsk_clamp(value + l->out.zero, l->low, l->high);
        }
    }
}

void nsk_depthwise(const nsk_layer *l, int8_t *workspace) {
    pixel p = {.layer = l, .in = workspace + l->in.place};
    int8_t *out = workspace + l->out.place;
    for (int32_t y = 0; y < l->out.height; y++) {
        p.rows = nsk_rows(l, y);
        for (int32_t x = 0; x < l->out.width; x++, out += l->out.channels) {
            p.columns = nsk_columns(l, x);
            write_pixel(&p, out);
        }
    }
}
