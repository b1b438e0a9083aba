/* Depthwise convolution: output channel c reads input channel c / (outputs an input). Weights as
 * [row][column][out].
 *
 * A channel at a time. The rows that the kernel reads stand in lines of the scratch, with the
 * padding around them, so that no tap is a special case. */
#include "depthwise.h"

#include <string.h>

#include "arch.h"
#include "arithmetic.h"
#include "check.h"
#include "format.h"

static bool check(const nsk_model *m, const nsk_layer *l) {
    uint32_t channels = l->out.channels;
    uint32_t area = nsk_kernel_area(l);
    nsk_weights_form form = {(uint64_t)area * channels, 1, channels, area, 128};
    return channels % l->in.channels == 0 && nsk_window_is_good(l) && l->has_second &&
           l->second.place % 4 == 0 &&
           nsk_tensor_bytes(&l->second) >= nsk_depthwise_scratch(l) &&
           nsk_check_weights(m, l, &form);
}

enum { MOST_TAPS = 49 }; /* larger kernels, and dilated ones, go without lines */

typedef struct channel {
    const nsk_layer *layer;
    const int8_t *in; /* of pixel 0 */
    int8_t *lines;    /* a ring: row y of the input stands in line (y + padding) mod kernel height */
    int32_t length;   /* bytes of a line */
    int32_t inside;   /* how many of its bytes can lie in the picture */
    int32_t bias, multiplier, shift;
    int8_t weights[MOST_TAPS];
} channel;

static int8_t finish(const channel *c, int32_t acc) {
    const nsk_layer *l = c->layer;
    int32_t value = nsk_rescale(acc, c->multiplier, (unsigned)c->shift);
    return nsk_clamp(value + l->out.zero, l->low, l->high);
}

static NSK_APART void fill_line(const channel *c, int32_t y, int8_t *line) {
    const nsk_layer *l = c->layer;
    int32_t step = l->in.channels;
    if (y < 0 || y >= l->in.height) {
        memset(line, l->in.zero, (size_t)c->length);
        return;
    }
    const int8_t *in = c->in + y * l->in.width * step;
    int8_t *to = line + l->pad_left;
    for (const int8_t *end = to + c->inside; to < end; in += step) {
        *to++ = *in;
    }
}

/* One row of outputs; `line`: those that the kernel's rows read, in order. */
static NSK_APART void row_of_any(const channel *c, const int8_t *const *line, int8_t *out) {
    const nsk_layer *l = c->layer;
    int32_t columns = l->kernel_width;
    for (int32_t x = 0; x < l->out.width; x++, out += l->out.channels) {
        const int8_t *w = c->weights;
        int32_t acc = c->bias;
        for (int32_t ky = 0; ky < l->kernel_height; ky++) {
            const int8_t *in = line[ky] + x * l->stride_across;
            for (int32_t kx = 0; kx < columns; kx++) {
                acc += in[kx] * *w++;
            }
        }
        *out = finish(c, acc);
    }
}

/* The same for the usual kernel: nine weights stay in registers where there are so many. */
static NSK_APART void row_of_nine(const channel *c, const int8_t *const *line, int8_t *out) {
    const nsk_layer *l = c->layer;
    const int8_t *w = c->weights;
    const int8_t *a = line[0];
    const int8_t *b = line[1];
    const int8_t *d = line[2];
    int32_t stride = l->stride_across;
    int32_t w0 = w[0];
    int32_t w1 = w[1];
    int32_t w2 = w[2];
    int32_t w3 = w[3];
    int32_t w4 = w[4];
    int32_t w5 = w[5];
    int32_t w6 = w[6];
    int32_t w7 = w[7];
    int32_t w8 = w[8];
    for (int32_t left = l->out.width; left > 0; left--, out += l->out.channels) {
        int32_t acc = c->bias;
        acc += a[0] * w0 + a[1] * w1 + a[2] * w2;
        acc += b[0] * w3 + b[1] * w4 + b[2] * w5;
        acc += d[0] * w6 + d[1] * w7 + d[2] * w8;
        *out = finish(c, acc);
        a += stride;
        b += stride;
        d += stride;
    }
}

static void run_channel(const channel *c, int8_t *out) {
    const nsk_layer *l = c->layer;
    int32_t height = l->kernel_height;
    bool nine = height == 3 && l->kernel_width == 3;
    int32_t next = 0; /* the next row, counted with the padding */
    int8_t *freed = c->lines;
    const int8_t *line[MOST_TAPS];
    memset(c->lines, l->in.zero, (size_t)(height * c->length));
    for (int32_t y = 0; y < l->out.height; y++) {
        int32_t first = y * l->stride_down;
        for (; next < first + height; next++) {
            fill_line(c, next - l->pad_top, freed);
            freed += c->length;
            freed = freed == c->lines + height * c->length ? c->lines : freed;
        }
        const int8_t *oldest = freed;
        for (int32_t ky = 0; ky < height; ky++) {
            line[ky] = oldest;
            oldest += c->length;
            oldest = oldest == c->lines + height * c->length ? c->lines : oldest;
        }
        (nine ? row_of_nine : row_of_any)(c, line, out + y * l->out.width * l->out.channels);
    }
}

/* Without lines: each tap asks whether it lies in the picture. */
static void run_any(const channel *c, uint32_t index, int8_t *out) {
    const nsk_layer *l = c->layer;
    for (int32_t i = 0; i < l->out.height * l->out.width; i++, out += l->out.channels) {
        int32_t top = i / l->out.width * l->stride_down - l->pad_top;
        int32_t left = i % l->out.width * l->stride_across - l->pad_left;
        const int8_t *w = (const int8_t *)l->weights + index;
        int32_t acc = c->bias;
        for (int32_t k = 0; k < (int32_t)nsk_kernel_area(l); k++, w += l->out.channels) {
            int32_t y = top + k / l->kernel_width * l->dilate_down;
            int32_t x = left + k % l->kernel_width * l->dilate_across;
            bool inside = y >= 0 && y < l->in.height && x >= 0 && x < l->in.width;
            int32_t value =
                inside ? c->in[(y * l->in.width + x) * l->in.channels] : l->in.zero;
            acc += value * *w;
        }
        *out = finish(c, acc);
    }
}

void NSK_PLAIN(nsk_depthwise_run)(const nsk_layer *l, int8_t *workspace) {
    int32_t each = l->out.channels / l->in.channels;
    int32_t taps = (int32_t)nsk_kernel_area(l);
    bool lined = taps <= MOST_TAPS && l->dilate_down == 1 && l->dilate_across == 1;
    channel c = {.layer = l, .lines = workspace + l->second.place};
    c.length = (l->out.width - 1) * l->stride_across + l->kernel_width;
    c.inside = l->in.width < c.length - l->pad_left ? l->in.width : c.length - l->pad_left;
    for (int32_t i = 0; i < l->out.channels; i++) {
        const int8_t *w = (const int8_t *)l->weights + i;
        int8_t *out = workspace + l->out.place + i;
        c.in = workspace + l->in.place + i / each;
        c.bias = nsk_word(l->bias, (uint32_t)i);
        c.multiplier = nsk_word(l->multipliers, (uint32_t)i);
        c.shift = l->shifts[i];
        for (int32_t k = 0; k < taps && lined; k++) {
            c.weights[k] = w[k * l->out.channels];
        }
        if (lined) {
            run_channel(&c, out);
        } else {
            run_any(&c, (uint32_t)i, out);
        }
    }
}

const nsk_operation nsk_depthwise = {check, nsk_depthwise_run};
