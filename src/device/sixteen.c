#include "sixteen.h"

#include <string.h>

#include "arch.h"

#if defined(NSK_ARCH_X86_64) || defined(NSK_ARCH_AARCH64) || defined(NSK_ARCH_ARM_MVE)

typedef struct block {
    const nsk_layer *layer;
    const int8_t *in; /* the block's channels of pixel 0 */
    int32_t inner_first, inner_last;
    int8_t zeroes[NSK_SIXTEEN]; /* what is outside of the picture */
} block;

static void find_taps(const block *b, int32_t y, int32_t x, const int8_t **to) {
    const nsk_layer *l = b->layer;
    const int8_t **at = to;
    int32_t row = y * l->stride_down - l->pad_top;
    for (int32_t ky = 0; ky < l->kernel_height; ky++, row += l->dilate_down) {
        bool inside = row >= 0 && row < l->in.height;
        int32_t column = x * l->stride_across - l->pad_left;
        for (int32_t kx = 0; kx < l->kernel_width; kx++, column += l->dilate_across) {
            *at++ = inside && column >= 0 && column < l->in.width
                        ? b->in + (row * l->in.width + column) * l->in.channels
                        : b->zeroes;
        }
    }
    *at = to[0]; /* NOLINT(clang-analyzer-core.uninitialized.Assign): there is a tap */
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
    int32_t top = y * l->stride_down - l->pad_top;
    bool inside = top >= 0 && top + (l->kernel_height - 1) * l->dilate_down < l->in.height;
    int32_t run;
    for (int32_t x = 0; x < l->out.width; x += run) {
        run = inside && x == b->inner_first && x < b->inner_last ? b->inner_last - x : 1;
        find_taps(b, y, x, at);
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
    int32_t last = l->out.channels - NSK_SIXTEEN; /* part of it may have been done before */
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
