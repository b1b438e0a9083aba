#include "sixteen.h"

#include <string.h>

#include "arch.h"

#if defined(NSK_ARCH_X86_64) || defined(NSK_ARCH_AARCH64) || defined(NSK_HAS_VECTORS)

typedef struct block {
    const nsk_layer *layer;
    const int8_t *in; /* the block's channels of pixel 0 */
    int32_t inner_first, inner_last;
    int8_t zeroes[NSK_SIXTEEN]; /* what is outside of the picture */
} block;

/* The input rows that an output row reads: the first tap's byte of each, counted from the picture's
 * edge, and how much of a column's place counts there: nothing outside of the picture. */
typedef struct rows {
    const int8_t *at[NSK_SIXTEEN_TAPS];
    int32_t counts[NSK_SIXTEEN_TAPS];
    bool inside; /* all of them */
} rows;

static void find_rows(const block *b, int32_t y, rows *to) {
    const nsk_layer *l = b->layer;
    int32_t row = y * l->stride_down - l->pad_top;
    to->inside = true;
    for (int32_t ky = 0; ky < l->kernel_height; ky++, row += l->dilate_down) {
        const bool inside = row >= 0 && row < l->in.height;
        to->at[ky] = inside ? b->in + row * l->in.width * l->in.channels : b->zeroes;
        to->counts[ky] = inside ? -1 : 0;
        to->inside = to->inside && inside;
    }
}

static NSK_NOINLINE void find_taps(const block *b, const rows *of, int32_t x, const int8_t **to) {
    const nsk_layer *l = b->layer;
    const int32_t height = l->kernel_height;
    const int32_t width = l->kernel_width;
    const int32_t columns = l->in.width;
    const int32_t channels = l->in.channels;
    const int32_t dilate = l->dilate_across;
    int32_t column = x * l->stride_across - l->pad_left;
    for (int32_t kx = 0; kx < width; kx++, column += dilate) {
        const int8_t **at = to + kx;
        if (column < 0 || column >= columns) {
            for (int32_t ky = 0; ky < height; ky++, at += width) {
                *at = b->zeroes;
            }
            continue;
        }
        const int32_t place = column * channels;
        for (int32_t ky = 0; ky < height; ky++, at += width) {
            *at = of->at[ky] + (place & of->counts[ky]);
        }
    }
    to[height * width] = to[0]; /* NOLINT(clang-analyzer-core.uninitialized.Assign): there is one */
}

/* The outputs along a row whose taps all lie in the picture: [first, last). */
static void find_inner(const nsk_layer *l, int32_t *first, int32_t *last) {
    int32_t reach = (l->kernel_width - 1) * l->dilate_across;
    int32_t room = l->in.width - 1 - reach + l->pad_left; /* the last one's first tap, padded */
    *first = (l->pad_left + l->stride_across - 1) / l->stride_across;
    *last = room < 0 ? 0 : room / l->stride_across + 1;
    *last = *last < l->out.width ? *last : l->out.width;
    *first = *first < *last ? *first : *last;
}

/* One row. Pixels whose taps all lie in the picture are one run, the others stand alone. */
static void write_row(const block *b, int32_t y, const nsk_sixteen_kernel *kernel,
                      const void *state, int8_t *out) {
    const nsk_layer *l = b->layer;
    const int8_t *at[NSK_SIXTEEN_TAPS + 1];
    int32_t step = l->stride_across * l->in.channels;
    rows of;
    int32_t run;
    find_rows(b, y, &of);
    for (int32_t x = 0; x < l->out.width; x += run) {
        run = of.inside && x == b->inner_first && x < b->inner_last ? b->inner_last - x : 1;
        find_taps(b, &of, x, at);
        kernel->write(state, at, step, run, out + x * l->out.pixel_stride);
    }
}

bool nsk_sixteen_fits(const nsk_layer *l) {
    return l->in.channels == l->out.channels && l->out.channels >= NSK_SIXTEEN &&
           nsk_kernel_area(l) <= NSK_SIXTEEN_TAPS;
}

void nsk_sixteen_run(const nsk_layer *l, int8_t *workspace, const nsk_sixteen_kernel *kernel,
                     void *state) {
    block b;
    b.layer = l;
    /* Part of it may have been done before; where there are fewer channels, a kernel takes those.
     */
    int32_t last = l->out.channels > NSK_SIXTEEN ? l->out.channels - NSK_SIXTEEN : 0;
    find_inner(l, &b.inner_first, &b.inner_last);
    memset(b.zeroes, l->in.zero, sizeof b.zeroes);
    for (int32_t c = 0; c < l->out.channels; c += NSK_SIXTEEN) {
        int32_t first = c < last ? c : last;
        int8_t *out = workspace + l->out.offset + first;
        b.in = workspace + l->in.offset + first;
        kernel->start(state, l, first);
        for (int32_t y = 0; y < l->out.height; y++) {
            write_row(&b, y, kernel, state, out + y * l->out.width * l->out.pixel_stride);
        }
    }
}

#endif
