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

/* One output channel for each input: BLOCK neighbours at a time. */
static void accumulate_block(const pixel *p, int32_t channel, int32_t *acc) {
    const nsk_layer *l = p->layer;
    int32_t zero = l->in.zero;
    for (int32_t ky = p->rows.first; ky < p->rows.last; ky++) {
        int32_t y = p->rows.origin + ky * l->dilate_down;
        int32_t x = p->columns.origin + p->columns.first * l->dilate_across;
        int32_t tap = ky * l->kernel_width + p->columns.first;
        const int8_t *in = p->in + (y * l->in.width + x) * l->in.channels + channel;
        const int8_t *w = (const int8_t *)l->weights + tap * l->out.channels + channel;
        for (int32_t kx = p->columns.first; kx < p->columns.last; kx++) {
            acc[0] += (in[0] - zero) * w[0];
            acc[1] += (in[1] - zero) * w[1];
            acc[2] += (in[2] - zero) * w[2];
            acc[3] += (in[3] - zero) * w[3];
            in += l->dilate_across * l->in.channels;
            w += l->out.channels;
        }
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
