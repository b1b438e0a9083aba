/* Sixteen channels at a time, two taps at a time. Products are 16 bits wide, in an even and an odd
 * half; the sum of two fits in 16 bits too. Sums of 32 bits stand in four quarters: lane i of
 * quarter k is channel 4 i + k. The usual windows, three by three, go along rows of the picture. */
#include "../depthwise.h"

#include "../arch.h"

#if defined(NSK_ARCH_ARM_MVE)

#include "../arithmetic.h"
#include "../format.h"
#include "../sixteen.h"
#include "mve.h"

enum { QUARTERS = 4, LANES = 4 };

typedef struct block {
    int8_t weights[NSK_SIXTEEN_TAPS + 1][NSK_SIXTEEN];
    int32_t bias[QUARTERS][LANES];
    struct {
        int32_t factor[LANES], shift[LANES];
    } requantise[QUARTERS];
    int32_t pairs, zero, out_step;
} block;

static void start(void *state, const nsk_layer *l, int32_t first) {
    block *b = (block *)state;
    int32_t taps = (int32_t)nsk_kernel_area(l);
    const int8_t *w = (const int8_t *)l->weights + first;
    b->pairs = (taps + 1) / 2;
    b->zero = l->out.zero;
    b->out_step = l->out.pixel_stride;
    for (int32_t k = 0; k < taps; k++, w += l->out.channels) {
        vstrbq_s8(b->weights[k], vldrbq_s8(w));
    }
    vstrbq_s8(b->weights[taps], vdupq_n_s8(0));
    for (int32_t i = 0; i < NSK_SIXTEEN; i++) {
        uint32_t k = (uint32_t)(first + i);
        int32_t requantise = nsk_word(l->requantise, k);
        b->bias[i % 4][i / 4] = nsk_requantise_bias(requantise);
        b->requantise[i % 4].factor[i / 4] = nsk_requantise_factor(requantise);
        b->requantise[i % 4].shift[i / 4] = -nsk_requantise_shift(requantise);
    }
}

/* Two taps; compilers run out of the eight vectors. */
#define TWO_TAPS                                                                                   \
    "ldrd %[x], %[y], [%[at]], #8\n\t"                                                             \
    "add %[x], %[x], %[step]\n\t"                                                                  \
    "add %[y], %[y], %[step]\n\t"                                                                  \
    "vldrb.8 q0, [%[x]]\n\t"                                                                       \
    "vldrb.8 q1, [%[w]], #16\n\t"                                                                  \
    "vmullb.s8 q2, q0, q1\n\t"                                                                     \
    "vmullt.s8 q3, q0, q1\n\t"                                                                     \
    "vldrb.8 q0, [%[y]]\n\t"                                                                       \
    "vldrb.8 q1, [%[w]]\n\t"                                                                       \
    "vmullb.s8 q1, q0, q1\n\t"                                                                     \
    "vadd.i16 q2, q2, q1\n\t"                                                                      \
    "vldrb.8 q1, [%[w]], #16\n\t"                                                                  \
    "vmullt.s8 q1, q0, q1\n\t"                                                                     \
    "vadd.i16 q3, q3, q1\n\t"                                                                      \
    "vmovlb.s16 q0, q2\n\t"                                                                        \
    "vadd.i32 q4, q4, q0\n\t"                                                                      \
    "vmovlb.s16 q1, q3\n\t"                                                                        \
    "vadd.i32 q5, q5, q1\n\t"                                                                      \
    "vmovlt.s16 q0, q2\n\t"                                                                        \
    "vadd.i32 q6, q6, q0\n\t"                                                                      \
    "vmovlt.s16 q1, q3\n\t"                                                                        \
    "vadd.i32 q7, q7, q1\n\t"

/* nsk_scale_down_four of the quarter in `sum`; nsk_requantise_four. */
#define SCALE(sum)                                                                                 \
    "vldrw.32 q0, [%[w]], #16\n\t"                                                                 \
    "vldrw.32 q1, [%[w]], #16\n\t"                                                                 \
    "vmul.i32 " sum ", " sum ", q0\n\t"                                                            \
    "vrshl.s32 " sum ", " sum ", q1\n\t"
#define REQUANTISE(sum)                                                                            \
    SCALE(sum)                                                                                     \
    "vadd.i32 " sum ", " sum ", %[zero]\n\t"                                                       \
    "vqshl.s32 " sum ", " sum ", #24\n\t"                                                          \
    "vshr.s32 " sum ", " sum ", #24\n\t"

static NSK_NOINLINE void write(const void *state, const int8_t *const *at, int32_t step,
                               int32_t pixels, int8_t *out) {
    const block *b = (const block *)state;
    for (int32_t moved = 0; pixels > 0; pixels--, moved += step, out += b->out_step) {
        const int8_t *const *tap = at;
        const void *w = b->weights;
        const int8_t *x;
        const int8_t *y;
        __asm__ volatile("vldrw.32 q4, [%[bias]]\n\t"
                         "vldrw.32 q5, [%[bias], #16]\n\t"
                         "vldrw.32 q6, [%[bias], #32]\n\t"
                         "vldrw.32 q7, [%[bias], #48]\n\t"
                         "dls lr, %[pairs]\n"
                         "1:\n\t" TWO_TAPS "le lr, 1b\n\t"
                         "mov %[w], %[requantise]\n\t" REQUANTISE("q4") REQUANTISE("q5")
                             REQUANTISE("q6") REQUANTISE("q7") "vsli.32 q4, q5, #8\n\t"
                                                               "vsli.32 q4, q6, #16\n\t"
                                                               "vsli.32 q4, q7, #24\n\t"
                                                               "vstrb.8 q4, [%[out]]\n\t"
                         : [at] "+&r"(tap), [w] "+&r"(w), [x] "=&r"(x), [y] "=&r"(y)
                         : [step] "r"(moved), [bias] "r"(b->bias), [requantise] "r"(b->requantise),
                           [pairs] "r"(b->pairs), [zero] "r"(b->zero), [out] "r"(out)
                         : "lr", "q0", "q1", "q2", "q3", "q4", "q5", "q6", "q7", "memory");
    }
}

/* ---- three by three ---- */

enum { KERNEL = 3, TAPS = KERNEL * KERNEL };

/* Of sixteen channels, in the order in which the loop below reads them. Taps that lie outside of
 * the picture have weights of 0, and their part in the bias. */
typedef struct nine {
    int32_t bias[QUARTERS][LANES];
    int8_t weights[TAPS][NSK_SIXTEEN];
    struct {
        int32_t factor[LANES], shift[LANES];
    } requantise[QUARTERS];
} nine;

#define WIDEN_AND_ADD                                                                              \
    "vmovlb.s16 q0, q2\n\t"                                                                        \
    "vadd.i32 q4, q4, q0\n\t"                                                                      \
    "vmovlb.s16 q1, q3\n\t"                                                                        \
    "vadd.i32 q5, q5, q1\n\t"                                                                      \
    "vmovlt.s16 q0, q2\n\t"                                                                        \
    "vadd.i32 q6, q6, q0\n\t"                                                                      \
    "vmovlt.s16 q1, q3\n\t"                                                                        \
    "vadd.i32 q7, q7, q1\n\t"
/* A tap's inputs, and what moves its row's pointer on. */
#define TAP_PAIR(row, move, next_row, next_move)                                                   \
    "vldrb.8 q0, [%[" row "]]\n\t"                                                                 \
    "vldrb.8 q1, [%[w]], #16\n\t"                                                                  \
    "vmullb.s8 q2, q0, q1\n\t"                                                                     \
    "add %[" row "], %[" row "], %[" move "]\n\t"                                                  \
    "vmullt.s8 q3, q0, q1\n\t"                                                                     \
    "vldrb.8 q1, [%[" next_row "]]\n\t"                                                            \
    "vldrb.8 q0, [%[w]]\n\t"                                                                       \
    "vmullb.s8 q0, q1, q0\n\t"                                                                     \
    "add %[" next_row "], %[" next_row "], %[" next_move "]\n\t"                                   \
    "vadd.i16 q2, q2, q0\n\t"                                                                      \
    "vldrb.8 q0, [%[w]], #16\n\t"                                                                  \
    "vmullt.s8 q1, q1, q0\n\t"                                                                     \
    "vadd.i16 q3, q3, q1\n\t" WIDEN_AND_ADD
#define TAP_ALONE(row, move)                                                                       \
    "vldrb.8 q0, [%[" row "]]\n\t"                                                                 \
    "vldrb.8 q1, [%[w]], #16\n\t"                                                                  \
    "vmullb.s8 q2, q0, q1\n\t"                                                                     \
    "add %[" row "], %[" row "], %[" move "]\n\t"                                                  \
    "vmullt.s8 q3, q0, q1\n\t" WIDEN_AND_ADD
/* The three rows' pixels, `step` bytes apart; those of outputs are `out_step`. */
typedef struct rows {
    const int8_t *at[KERNEL];
    int32_t step;
} rows;

/* A run of pixels, whose first taps are `stride` of the input's pixels apart. */
static NSK_NOINLINE void write_run(const nine *n, const rows *of, int32_t stride, int32_t pixels,
                                   int32_t zero, int8_t *out, int32_t out_step) {
    const int8_t *a = of->at[0];
    const int8_t *b = of->at[1];
    const int8_t *c = of->at[2];
    const void *w = n;
    __asm__ volatile(
        "dls lr, %[pixels]\n"
        "1:\n\t"
        "vldrw.32 q4, [%[w]], #16\n\t"
        "vldrw.32 q5, [%[w]], #16\n\t"
        "vldrw.32 q6, [%[w]], #16\n\t"
        "vldrw.32 q7, [%[w]], #16\n\t" TAP_PAIR("a", "step", "a", "step")
            TAP_PAIR("a", "back", "b", "step") TAP_PAIR("b", "step", "b", "back")
                TAP_PAIR("c", "step", "c", "step") TAP_ALONE("c", "back") SCALE("q4") SCALE("q5")
                    SCALE("q6") SCALE("q7") "vqmovnb.s32 q4, q4\n\t"
                                            "sub %[w], %[w], %[all]\n\t"
                                            "vqmovnt.s32 q4, q6\n\t"
                                            "vqmovnb.s32 q5, q5\n\t"
                                            "vqmovnt.s32 q5, q7\n\t"
                                            "vqadd.s16 q4, q4, %[zero]\n\t"
                                            "vqadd.s16 q5, q5, %[zero]\n\t"
                                            "vqmovnb.s16 q4, q4\n\t"
                                            "vqmovnt.s16 q4, q5\n\t"
                                            "vstrb.8 q4, [%[out]]\n\t"
                                            "add %[out], %[out], %[out_step]\n\t"
                                            "le lr, 1b\n\t"
        : [a] "+&r"(a), [b] "+&r"(b), [c] "+&r"(c), [w] "+&r"(w), [out] "+&r"(out)
        : [pixels] "r"(pixels), [step] "r"(of->step), [back] "r"((stride - 2) * of->step),
          [zero] "r"(zero), [out_step] "r"(out_step), [all] "n"(sizeof *n)
        : "lr", "q0", "q1", "q2", "q3", "q4", "q5", "q6", "q7", "memory");
}

/* What does not change from one output row to the next. */
static void start_nine(nine *n, const nsk_layer *l, int32_t first) {
    const int32x4x4_t words = vld4q_s32((const int32_t *)(const void *)l->requantise + first);
    for (int32_t k = 0; k < QUARTERS; k++) {
        const nsk_four f = nsk_four_of(words.val[k]);
        vstrwq_s32(n->requantise[k].factor, f.factor);
        vstrwq_s32(n->requantise[k].shift, f.shift);
    }
}

/* Weights and biases for input rows from `top` on. */
static NSK_NOINLINE void set_taps(nine *n, const nsk_layer *l, int32_t first, int32_t top) {
    const int8_t *w = (const int8_t *)l->weights + first;
    const uint32x4_t every_fourth = vmulq_n_u32(vidupq_n_u32(0, 1), QUARTERS);
    const int32x4x4_t words = vld4q_s32((const int32_t *)(const void *)l->requantise + first);
    for (int32_t k = 0; k < QUARTERS; k++) {
        vstrwq_s32(n->bias[k], vshrq_n_s32(words.val[k], 9));
    }
    for (int32_t k = 0; k < TAPS; k++, w += l->out.channels) {
        const int32_t y = top + k / KERNEL;
        if (y >= 0 && y < l->in.height) {
            vstrbq_s8(n->weights[k], vldrbq_s8(w));
            continue;
        }
        vstrbq_s8(n->weights[k], vdupq_n_s8(0));
        for (int32_t i = 0; i < QUARTERS; i++) {
            const int32x4_t own = vldrbq_gather_offset_s32(w + i, every_fourth);
            vstrwq_s32(n->bias[i], vmlaq_n_s32(vldrwq_s32(n->bias[i]), own, l->in.zero));
        }
    }
}

/* A pixel some of whose columns lie outside of the picture: its window, put together. */
static NSK_NOINLINE void write_edge(const nine *n, const nsk_layer *l, const rows *of,
                                    int32_t column, int8_t *out) {
    int8_t window[TAPS][NSK_SIXTEEN];
    const rows own = {{window[0], window[KERNEL], window[2 * KERNEL]}, NSK_SIXTEEN};
    const int8x16_t outside = vdupq_n_s8((int8_t)l->in.zero);
    const int32_t place = column * of->step;
    const int8_t *a = of->at[0] + place;
    const int8_t *b = of->at[1] + place;
    const int8_t *c = of->at[2] + place;
    int8_t *to = window[0];
    for (int32_t x = column; x < column + KERNEL; x++, to += NSK_SIXTEEN) {
        const bool inside = x >= 0 && x < l->in.width;
        vstrbq_s8(to, inside ? vldrbq_s8(a) : outside);
        vstrbq_s8(to + KERNEL * NSK_SIXTEEN, inside ? vldrbq_s8(b) : outside);
        vstrbq_s8(to + 2 * KERNEL * NSK_SIXTEEN, inside ? vldrbq_s8(c) : outside);
        a += of->step;
        b += of->step;
        c += of->step;
    }
    write_run(n, &own, 1, 1, l->out.zero, out, 0);
}

/* The outputs along a row whose windows lie in the picture, and the column of the first one's. */
typedef struct columns {
    int32_t first, count;
    int32_t column;
} columns;

static columns whole_columns(const nsk_layer *l) {
    columns c = {0, 0, -l->pad_left};
    for (; c.column < 0; c.column += l->stride_across) {
        c.first++;
    }
    for (int32_t x = c.column; x + KERNEL <= l->in.width && c.first + c.count < l->out.width;
         x += l->stride_across) {
        c.count++;
    }
    return c;
}

/* An output row. `of`: where the picture's rows begin. */
static void write_row_of_nine(const nine *n, const nsk_layer *l, const rows *of,
                              const columns *whole, int8_t *out) {
    const int32_t behind = whole->first + whole->count;
    int32_t column = -l->pad_left;
    for (int32_t x = 0; x < l->out.width; x++, column += l->stride_across) {
        if (x == whole->first && whole->count > 0) {
            const int32_t place = column * of->step;
            const rows from = {{of->at[0] + place, of->at[1] + place, of->at[2] + place}, of->step};
            write_run(n, &from, l->stride_across, whole->count, l->out.zero,
                      out + x * l->out.pixel_stride, l->out.pixel_stride);
            column += whole->count * l->stride_across;
            x = behind;
        }
        if (x < l->out.width) {
            write_edge(n, l, of, column, out + x * l->out.pixel_stride);
        }
    }
}

/* Sixteen channels. */
static void run_nine(const nsk_layer *l, const int8_t *in, int32_t first, int8_t *out) {
    const columns whole = whole_columns(l);
    const int32_t row_bytes = l->in.width * l->in.channels;
    nine n;
    bool all = false; /* `n` is for rows that are all in the picture */
    start_nine(&n, l, first);
    for (int32_t y = 0; y < l->out.height; y++, out += l->out.width * l->out.pixel_stride) {
        const int32_t top = nsk_window_top(l, y);
        const bool inside = top >= 0 && top + KERNEL <= l->in.height;
        rows of;
        if (!inside || !all) {
            set_taps(&n, l, first, top);
            all = inside;
        }
        of.step = l->in.channels;
        for (int32_t k = 0; k < KERNEL; k++) { /* weights of 0 meet any row */
            const int32_t row = top + k;
            of.at[k] = in + (row >= 0 && row < l->in.height ? row : 0) * row_bytes;
        }
        write_row_of_nine(&n, l, &of, &whole, out);
    }
}

static bool is_nine(const nsk_layer *l) {
    return l->kernel_height == KERNEL && l->kernel_width == KERNEL && l->dilate_down == 1 &&
           l->dilate_across == 1;
}

/* A function of its own, so that the usual windows take no such stack. */
static NSK_NOINLINE void run_any(const nsk_layer *l, int8_t *workspace) {
    static const nsk_sixteen_kernel kernel = {start, write};
    block b;
    nsk_sixteen_run(l, workspace, &kernel, &b);
}

void nsk_depthwise_run(const nsk_layer *l, int8_t *workspace) {
    if (!nsk_sixteen_fits(l) || !nsk_requantise_is_plain(l)) {
        nsk_depthwise_run_plain(l, workspace, 0, l->out.channels);
    } else if (is_nine(l)) {
        const int32_t last = l->out.channels - NSK_SIXTEEN; /* part may have been done before */
        for (int32_t next = 0; next < l->out.channels; next += NSK_SIXTEEN) {
            const int32_t c = next < last ? next : last;
            run_nine(l, workspace + l->in.offset + c, c, workspace + l->out.offset + c);
        }
    } else {
        run_any(l, workspace);
    }
}

#endif
