/* Depthwise convolution, portable: output channel c reads input channel c / (outputs an input).
 * Weights as [row][column][out].
 *
 * A channel at a time. The rows that the kernel reads stand in lines of the scratch, with the
 * padding around them, so that no tap is a special case. */
#include "depthwise.h"

#include <string.h>

#include "arch.h"
#include "arithmetic.h"
#include "format.h"

typedef struct channel {
    const nsk_layer *layer;
    const int8_t *in, *weights; /* of pixel 0, of tap 0 */
    int8_t *lines;              /* a ring: row y of the input stands in line y + padding */
    int32_t lines_bytes;        /* of all of them */
    int32_t length;             /* bytes of a line */
    int32_t inside;             /* how many of its bytes can lie in the picture */
    int32_t requantise;
} channel;

static NSK_NOINLINE void fill_line(const channel *c, int32_t y, int8_t *line) {
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

NSK_INLINE_UNLESS_SMALL int8_t requantise(const channel *c, int32_t acc) {
    const nsk_layer *l = c->layer;
    return nsk_requantise(acc, c->requantise, l->out.zero, l->low, l->high);
}

/* The line some lines, in bytes, behind another, in the ring. */
static const int8_t *line_behind(const channel *c, const int8_t *line, int32_t bytes) {
    line += bytes;
    return line < c->lines + c->lines_bytes ? line : line - c->lines_bytes;
}

/* One row of outputs; `line`: that of the kernel's first row. */
static NSK_NOINLINE void row_of_any(const channel *c, const int8_t *line, int8_t *out) {
    const nsk_layer *l = c->layer;
    for (int32_t x = 0; x < l->out.width; x++, out += l->out.pixel_stride) {
        const int8_t *w = c->weights;
        const int8_t *row = line;
        int32_t acc = nsk_requantise_bias(c->requantise);
        for (int32_t ky = 0; ky < l->kernel_height; ky++) {
            const int8_t *in = row + x * l->stride_across;
            for (int32_t kx = 0; kx < l->kernel_width; kx++) {
                acc += *in * *w;
                in += l->dilate_across;
                w += l->out.channels;
            }
            row = line_behind(c, row, l->dilate_down * c->length);
        }
        *out = requantise(c, acc);
    }
}

#if !defined(NSK_OWN_DEPTHWISE)
/* The same for the usual kernel: nine weights stay in registers where there are so many. */
static NSK_NOINLINE void row_of_nine(const channel *c, const int8_t *line, int8_t *out) {
    const nsk_layer *l = c->layer;
    int32_t step = l->out.channels; /* from a tap's weight to the next one's */
    int32_t out_step = l->out.pixel_stride;
    const int8_t *w = c->weights;
    const int8_t *a = line;
    const int8_t *b = line_behind(c, a, c->length);
    const int8_t *d = line_behind(c, b, c->length);
    int32_t stride = l->stride_across;
    int32_t w0 = w[0];
    int32_t w1 = w[step];
    int32_t w2 = w[2 * step];
    int32_t w3 = w[3 * step];
    int32_t w4 = w[4 * step];
    int32_t w5 = w[5 * step];
    int32_t w6 = w[6 * step];
    int32_t w7 = w[7 * step];
    int32_t w8 = w[8 * step];
    for (int32_t left = l->out.width; left > 0; left--, out += out_step) {
        int32_t acc = nsk_requantise_bias(c->requantise);
        acc += a[0] * w0 + a[1] * w1 + a[2] * w2;
        acc += b[0] * w3 + b[1] * w4 + b[2] * w5;
        acc += d[0] * w6 + d[1] * w7 + d[2] * w8;
        *out = requantise(c, acc);
        a += stride;
        b += stride;
        d += stride;
    }
}

static bool is_nine(const nsk_layer *l) {
    return l->kernel_height == 3 && l->kernel_width == 3 && l->dilate_down == 1 &&
           l->dilate_across == 1;
}
#endif

static void run_channel(const channel *c, int8_t *out) {
    const nsk_layer *l = c->layer;
    int32_t reach = (l->kernel_height - 1) * l->dilate_down + 1;
    int32_t next = 0; /* the next row, counted with the padding */
    int8_t *oldest = c->lines;
    void (*write)(const channel *, const int8_t *, int8_t *) = row_of_any;
#if !defined(NSK_OWN_DEPTHWISE)
    write = is_nine(l) ? row_of_nine : row_of_any;
#endif
    memset(c->lines, l->in.zero, (size_t)c->lines_bytes);
    for (int32_t y = 0; y < l->out.height; y++) {
        for (; next < y * l->stride_down + reach; next++) {
            fill_line(c, next - l->pad_top, oldest);
            oldest = c->lines + (line_behind(c, oldest, c->length) - c->lines);
        }
        write(c, oldest, out + y * l->out.width * l->out.pixel_stride);
    }
}

static void run_channels(const nsk_layer *l, int8_t *workspace, int32_t first, int32_t end) {
    int32_t each = l->out.channels / l->in.channels;
    channel c;
    c.layer = l;
    c.lines = workspace + l->scratch;
    c.length = (l->out.width - 1) * l->stride_across + (l->kernel_width - 1) * l->dilate_across + 1;
    c.lines_bytes = ((l->kernel_height - 1) * l->dilate_down + 1) * c.length;
    c.inside = l->in.width < c.length - l->pad_left ? l->in.width : c.length - l->pad_left;
    for (int32_t i = first; i < end; i++) {
        c.in = workspace + l->in.offset + i / each;
        c.weights = (const int8_t *)l->weights + i;
        c.requantise = nsk_word(l->requantise, (uint32_t)i);
        run_channel(&c, workspace + l->out.offset + i);
    }
}

#if !defined(NSK_OWN_DEPTHWISE)
void nsk_depthwise_run(const nsk_layer *l, int8_t *workspace) {
    run_channels(l, workspace, 0, l->out.channels);
}
#else
void nsk_depthwise_run_plain(const nsk_layer *l, int8_t *workspace, int32_t first, int32_t end) {
    run_channels(l, workspace, first, end);
}
#endif
