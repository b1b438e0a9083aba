/* Convolution, grouped or not; weights as [out][row][column][in of the group]. */
#include "arithmetic.h"
#include "format.h"
#include "layer.h"

enum { BLOCK = 4 }; /* output channels that share a load of the input */

/* A run of input bytes that meet as many weights, without a gap in either. */
static NSK_APART void dot_block(const int8_t *in, int32_t zero, const int8_t *weights, int32_t step,
                                int32_t count, int32_t *acc) {
    const int8_t *w0 = weights;
    const int8_t *w1 = w0 + step;
    const int8_t *w2 = w1 + step;
    const int8_t *w3 = w2 + step;
    int32_t a0 = acc[0];
    int32_t a1 = acc[1];
    int32_t a2 = acc[2];
    int32_t a3 = acc[3];
    for (const int8_t *end = in + count; in < end; in++) {
        int32_t value = *in - zero;
        a0 += value * *w0++;
        a1 += value * *w1++;
        a2 += value * *w2++;
        a3 += value * *w3++;
    }
    acc[0] = a0;
    acc[1] = a1;
    acc[2] = a2;
    acc[3] = a3;
}

static NSK_APART void dot_one(const int8_t *in, int32_t zero, const int8_t *weights, int32_t count,
                              int32_t *acc) {
    int32_t sum = *acc;
    for (int32_t i = 0; i < count; i++) {
        sum += (in[i] - zero) * weights[i];
    }
    *acc = sum;
}

/* What stays the same over the outputs of one pixel. */
typedef struct pixel {
    const nsk_layer *layer;
    const int8_t *in;
    nsk_window rows, columns;
    int32_t group_inputs, taps; /* of one output channel */
} pixel;

/* Adds up `block` output channels from `channel` on. */
static void accumulate(const pixel *p, int32_t channel, int32_t block, int32_t *acc) {
    const nsk_layer *l = p->layer;
    int32_t inputs = p->group_inputs;
    int32_t group = channel / (l->out.channels / (int32_t)l->count);
    bool joined = l->count == 1 && l->dilate_across == 1;
    int32_t runs = joined ? 1 : p->columns.last - p->columns.first;
    int32_t length = joined ? (p->columns.last - p->columns.first) * inputs : inputs;
    const int8_t *weights = (const int8_t *)l->weights + channel * p->taps;
    for (int32_t ky = p->rows.first; ky < p->rows.last; ky++) {
        int32_t y = p->rows.origin + ky * l->dilate_down;
        for (int32_t run = 0; run < runs; run++) {
            int32_t kx = p->columns.first + run;
            int32_t x = p->columns.origin + kx * l->dilate_across;
            const int8_t *in = p->in + (y * l->in.width + x) * l->in.channels + group * inputs;
            const int8_t *w = weights + (ky * l->kernel_width + kx) * inputs;
            if (block == BLOCK) {
                dot_block(in, l->in.zero, w, p->taps, length, acc);
            } else {
                dot_one(in, l->in.zero, w, length, acc);
            }
        }
    }
}

static void write_pixel(const pixel *p, int8_t *out) {
    const nsk_layer *l = p->layer;
    int32_t group_outputs = l->out.channels / (int32_t)l->count;
    int32_t block;
    for (int32_t c = 0; c < l->out.channels; c += block) {
        block = c % group_outputs + BLOCK <= group_outputs ? BLOCK : 1;
        int32_t acc[BLOCK];
        for (int32_t i = 0; i < block; i++) {
            acc[i] = nsk_word(l->bias, (uint32_t)(c + i));
        }
        accumulate(p, c, block, acc);
        for (int32_t i = 0; i < block; i++) {
            uint32_t k = (uint32_t)(c + i);
            int32_t value = nsk_rescale(acc[i], nsk_word(l->multipliers, k), l->shifts[k]);
            out[k] = nsk_clamp(value + l->out.zero, l->low, l->high);
        }
    }
}

void nsk_conv(const nsk_layer *l, int8_t *workspace) {
    pixel p = {.layer = l, .in = workspace + l->in.place};
    p.group_inputs = l->in.channels / (int32_t)l->count;
    p.taps = l->kernel_height * l->kernel_width * p.group_inputs;
    int8_t *out = workspace + l->out.place;
    for (int32_t y = 0; y < l->out.height; y++) {
        p.rows = nsk_rows(l, y);
        for (int32_t x = 0; x < l->out.width; x++, out += l->out.channels) {
            p.columns = nsk_columns(l, x);
            write_pixel(&p, out);
        }
    }
}
