/* The portable depthwise convolution of the usual kernel, three by three: a channel at a time, from
 * rows as they stand in the picture. Neighbours share the columns that they read. A column outside
 * of the picture is the zero point three times; a row outside has weights of 0, and its part in
 * the bias. */
#include "depthwise.h"

#include "arch.h"
#include "arithmetic.h"
#include "format.h"

#if defined(NSK_DIRECT_DEPTHWISE)

enum { KERNEL = 3, TAPS = 9, MOST_SHIFT = 22 /* past it the zero point has no room in `rest` */ };

/* A row of a channel's outputs. */
typedef struct row_work {
    const int8_t *rows[KERNEL]; /* of their first pixel in the picture */
    int8_t *out;
    int32_t weights[TAPS];
    int32_t bias, factor, shift;
    int32_t rest;           /* half of what the shift divides by, and the output's zero point */
    int8_t outside;         /* what stands there */
    int32_t step, out_step; /* from a pixel to the next */
    int32_t columns, width; /* of the input, of the output */
    bool padded;            /* the first column read is outside */
} row_work;

/* A column of three taps. */
#define NEXT(i)                                                                                    \
    a##i = *a;                                                                                     \
    b##i = *b;                                                                                     \
    c##i = *c;                                                                                     \
    a += step;                                                                                     \
    b += step;                                                                                     \
    c += step
/* Behind the picture, the one byte again and again. */
#define END_PICTURE                                                                                \
    if (columns-- <= 0) {                                                                          \
        a = b = c = &w->outside;                                                                   \
        step = 0;                                                                                  \
    }
#define MOVE(from, to)                                                                             \
    a##to = a##from;                                                                               \
    b##to = b##from;                                                                               \
    c##to = c##from
/* An output of the columns i, j and k. */
#define PUT(i, j, k)                                                                               \
    {                                                                                              \
        int32_t sum = bias + a##i * w0 + a##j * w1 + a##k * w2;                                    \
        sum += b##i * w3 + b##j * w4 + b##k * w5;                                                  \
        sum += c##i * w6 + c##j * w7 + c##k * w8;                                                  \
        *out = nsk_saturate((sum * factor + rest) >> shift);                                       \
        out += out_step;                                                                           \
    }
#define BEGIN                                                                                      \
    const int32_t w0 = w->weights[0];                                                              \
    const int32_t w1 = w->weights[1];                                                              \
    const int32_t w2 = w->weights[2];                                                              \
    const int32_t w3 = w->weights[3];                                                              \
    const int32_t w4 = w->weights[4];                                                              \
    const int32_t w5 = w->weights[5];                                                              \
    const int32_t w6 = w->weights[6];                                                              \
    const int32_t w7 = w->weights[7];                                                              \
    const int32_t w8 = w->weights[8];                                                              \
    const int32_t bias = w->bias;                                                                  \
    const int32_t factor = w->factor;                                                              \
    const int32_t shift = w->shift;                                                                \
    const int32_t rest = w->rest;                                                                  \
    int32_t step = w->step;                                                                        \
    const int32_t out_step = w->out_step;                                                          \
    const int8_t *a = w->rows[0];                                                                  \
    const int8_t *b = w->rows[1];                                                                  \
    const int8_t *c = w->rows[2];                                                                  \
    int8_t *out = w->out;                                                                          \
    int32_t a0 = w->outside, a1, a2;                                                               \
    int32_t b0 = w->outside, b1, b2;                                                               \
    int32_t c0 = w->outside, c1, c2;                                                               \
    int32_t columns = w->columns; /* that are still to come */                                     \
    if (!w->padded) {                                                                              \
        NEXT(0);                                                                                   \
        columns--;                                                                                 \
    }

/* The kernel moves by one column. */
static NSK_NOINLINE void near_row(const row_work *w) {
    BEGIN
    NEXT(1);
    columns--;
    int32_t left = w->width;
    for (; left >= 3 && columns >= 3; left -= 3, columns -= 3) {
        NEXT(2);
        PUT(0, 1, 2)
        NEXT(0);
        PUT(1, 2, 0)
        NEXT(1);
        PUT(2, 0, 1)
    }
    for (; left > 0; left--) {
        END_PICTURE
        NEXT(2);
        PUT(0, 1, 2)
        MOVE(1, 0);
        MOVE(2, 1);
    }
}

/* By two. */
static NSK_NOINLINE void far_row(const row_work *w) {
    BEGIN
    for (int32_t left = w->width; left > 0; left--) {
        END_PICTURE
        NEXT(1);
        END_PICTURE
        NEXT(2);
        PUT(0, 1, 2)
        MOVE(2, 0);
    }
}

static NSK_SELDOM bool fits(const nsk_layer *l) {
    return l->kernel_height == KERNEL && l->kernel_width == KERNEL && l->dilate_down == 1 &&
           l->dilate_across == 1 && l->stride_across <= 2 && l->pad_left <= 1 && l->in.width >= 2 &&
           nsk_requantise_is_plain(l);
}

/* For input rows from `top` on: the weights of those outside of the picture are left out. */
static NSK_SELDOM void set_weights(const nsk_layer *l, const int8_t *weights, int32_t top,
                                   row_work *w) {
    const int32_t step = l->out.channels;
    int32_t *to = w->weights;
    for (int32_t k = 0; k < KERNEL; k++, top++) {
        const bool inside = top >= 0 && top < l->in.height;
        for (int32_t i = 0; i < KERNEL; i++, to++, weights += step) {
            *to = inside ? *weights : 0;
            w->bias += inside ? 0 : *weights * l->in.zero;
        }
    }
}

static NSK_SELDOM void run_channel(const nsk_layer *l, const int8_t *in, const int8_t *weights,
                                   int32_t requantise, int8_t *out) {
    row_work w;
    w.factor = nsk_requantise_factor(requantise);
    w.shift = nsk_requantise_shift(requantise);
    w.rest = (INT32_C(1) << (w.shift - 1)) + l->out.zero * (INT32_C(1) << w.shift);
    w.outside = (int8_t)l->in.zero;
    w.step = l->in.channels;
    w.out_step = l->out.pixel_stride;
    w.columns = l->in.width;
    w.width = l->out.width;
    w.padded = l->pad_left == 1;
    w.out = out;
    bool all = false; /* the weights are those of rows that are all in the picture */
    for (int32_t y = 0; y < l->out.height; y++, w.out += w.width * w.out_step) {
        const int32_t top = nsk_window_top(l, y);
        const bool inside = top >= 0 && top + KERNEL <= l->in.height;
        if (!inside || !all) {
            w.bias = nsk_requantise_bias(requantise);
            set_weights(l, weights, top, &w);
            all = inside;
        }
        for (int32_t k = 0; k < KERNEL; k++) { /* weights of 0 meet any row */
            const int32_t row = top + k;
            w.rows[k] = in + (row >= 0 && row < l->in.height ? row : 0) * w.columns * w.step;
        }
        if (l->stride_across == 1) {
            near_row(&w);
        } else {
            far_row(&w);
        }
    }
}

NSK_SELDOM void NSK_DIRECT_DEPTHWISE(const nsk_layer *l, int8_t *workspace) {
    const int32_t each = l->out.channels / l->in.channels;
    const bool usual = fits(l);
    for (int32_t c = 0; c < l->out.channels; c++) {
        const int32_t requantise = nsk_word(l->requantise, (uint32_t)c);
        if (usual && nsk_requantise_shift(requantise) <= MOST_SHIFT) {
            run_channel(l, workspace + l->in.offset + c / each, (const int8_t *)l->weights + c,
                        requantise, workspace + l->out.offset + c);
        } else {
            nsk_depthwise_run_plain(l, workspace, c, c + 1);
        }
    }
}

#endif
