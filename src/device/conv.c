/* Convolution, grouped or not; weights as [out][row][column][in of the group], each output's
 * filled up to whole words. */
#include "conv.h"

#include <string.h>

#include "arch.h"
#include "blocked.h"
#include "gather.h"
#include "paired.h"

static NSK_SELDOM bool check(const nsk_model *m, const nsk_layer *l) {
    if (!nsk_conv_is_good(m, l)) {
        return false;
    }
    const nsk_weights_form form = nsk_conv_form(l);
    return nsk_check_weights(m, l, &form);
}

/* Few bytes: what a call of memcpy costs is a part of the whole. */
static NSK_NOINLINE int8_t *copy(int8_t *to, const int8_t *from, int32_t bytes) {
#if defined(__GNUC__)
    for (; bytes >= 4; bytes -= 4, to += 4, from += 4) {
        __builtin_memcpy(to, from, 4);
    }
    for (; bytes > 0; bytes--) {
        *to++ = *from++;
    }
    return to;
#else
    memcpy(to, from, (size_t)bytes);
    return to + bytes;
#endif
}

static int8_t *fill(int8_t *to, int32_t value, int32_t bytes) {
    memset(to, value, (size_t)bytes);
    return to + bytes;
}

/* A window in steps of a row: where its first tap is, and how many bytes a tap and a row have. */
typedef struct window {
    const nsk_layer *layer;
    const int8_t *in; /* of the group */
    int32_t length, bytes;
    int32_t size; /* of all of it, filled up to words */
    int32_t x, y; /* of the first tap, which may be outside of the picture */
} window;

/* One row; what is outside of the picture holds the zero point. */
static NSK_SELDOM int8_t *gather_row(const window *w, int32_t y, int8_t *to) {
    const nsk_layer *l = w->layer;
    int32_t x = w->x;
#if defined(NSK_HAS_VECTORS)
    if (l->count == 1 && l->dilate_across == 1) { /* what lies in the picture has no gaps */
        const int32_t from = x > 0 ? x : 0;
        const int32_t behind = x + l->kernel_width;
        const int32_t end = behind < l->in.width ? behind : l->in.width;
        to = fill(to, l->in.zero, (from - x) * w->length);
        to = copy(to, w->in + (y * l->in.width + from) * w->length, (end - from) * w->length);
        return fill(to, l->in.zero, (behind - end) * w->length);
    }
#endif
    for (int32_t kx = 0; kx < l->kernel_width; kx++, x += l->dilate_across) {
        to = x >= 0 && x < l->in.width
                 ? copy(to, w->in + (y * l->in.width + x) * l->in.channels, w->length)
                 : fill(to, l->in.zero, w->length);
    }
    return to;
}

/* What fills a window up, before its rows are written. */
static inline void clear_end(int8_t *end) {
    end[-4] = 0;
    end[-3] = 0;
    end[-2] = 0;
    end[-1] = 0;
}

/* Tap by tap. */
static NSK_SELDOM void gather(const window *w, int8_t *to) {
    const nsk_layer *l = w->layer;
    int32_t y = w->y;
    clear_end(to + w->size);
    for (int32_t ky = 0; ky < l->kernel_height; ky++, y += l->dilate_down) {
        to = y >= 0 && y < l->in.height ? gather_row(w, y, to) : fill(to, l->in.zero, w->bytes);
    }
}

#if defined(NSK_GATHERS_ROWS)
void NSK_PLAIN_BESIDE_VECTORS(nsk_gather_windows)(const nsk_windows *w, const int8_t *in,
                                                  int32_t count, int8_t *to) {
    for (; count > 0; count--, in += w->step, to += w->size) {
        const int8_t *from = in;
        int8_t *at = to;
        int32_t left = w->rows;
        clear_end(to + w->size);
#if defined(NSK_WORDS_ANYWHERE)
        for (; left > 1; left--, from += w->row, at += w->bytes) {
            for (int32_t i = 0; i < w->bytes; i += 4) {
                __builtin_memcpy(at + i, from + i, 4);
            }
        }
#endif
        for (; left > 0; left--, from += w->row) {
            at = copy(at, from, w->bytes);
        }
    }
}

/* How many windows from this one on lie in the picture without gaps, `most` at most. */
static int32_t count_whole(const window *w, int32_t most) {
    const nsk_layer *l = w->layer;
    int32_t count = 0;
    int32_t x = w->x;
    if (l->count == 1 && l->dilate_across == 1 && l->dilate_down == 1 && x >= 0 && w->y >= 0 &&
        w->y + l->kernel_height <= l->in.height) {
        for (; count < most && x + l->kernel_width <= l->in.width; count++) {
            x += l->stride_across;
        }
    }
    return count;
}

/* Windows side by side, of which there are `most` at most: how many. */
static int32_t gather_some(const window *w, int32_t most, int8_t *to) {
    const nsk_layer *l = w->layer;
    const int32_t count = count_whole(w, most);
    const int32_t row = l->in.width * l->in.channels;
    if (count == 0) {
        gather(w, to);
        return 1;
    }
    const nsk_windows windows = {row, l->kernel_height, w->bytes, w->size,
                                 l->stride_across * l->in.channels};
    nsk_gather_windows(&windows, w->in + w->y * row + w->x * l->in.channels, count, to);
    return count;
}
#else
static int32_t gather_some(const window *w, int32_t most, int8_t *to) {
    (void)most;
    gather(w, to);
    return 1;
}
#endif

typedef void multiply(const nsk_matmul *p, const int8_t *in, int32_t pixels, int8_t *out);

/* By the order of the weights. */
static multiply *multiply_of(const nsk_layer *l) {
#if defined(NSK_READS_BLOCKS)
    if (nsk_weights_are_blocked(l)) {
        return nsk_multiply_blocked;
    }
#endif
    return nsk_weights_are_paired(l) ? nsk_multiply_paired : nsk_multiply_out;
}

/* All outputs of a group, `room` windows at a time. */
static void run_group(const nsk_layer *l, const int8_t *in, const nsk_matmul *p,
                      multiply *multiply_out, int8_t *windows, int32_t room, int8_t *out) {
    int32_t waiting = 0;
    window w;
    w.layer = l;
    w.in = in;
    w.length = l->in.channels / (int32_t)l->count;
    w.bytes = l->kernel_width * w.length;
    w.size = p->row;
    for (int32_t y = 0; y < l->out.height; y++) {
        w.y = y * l->stride_down - l->pad_top;
        w.x = -l->pad_left;
        for (int32_t left = l->out.width; left > 0;) {
            const int32_t most = left < room - waiting ? left : room - waiting;
            const int32_t some = gather_some(&w, most, windows + waiting * p->row);
            left -= some;
            w.x += some * l->stride_across;
            waiting += some;
            if (waiting == room) {
                multiply_out(p, windows, waiting, out);
                out += waiting * p->out_step;
                waiting = 0;
            }
        }
    }
    multiply_out(p, windows, waiting, out);
}

static void run(const nsk_layer *l, int8_t *workspace) {
    int32_t row = nsk_row_bytes(nsk_conv_taps(l));
    int8_t *scratch = workspace + l->scratch;
#if defined(NSK_HAS_VECTORS) /* of which no product widens inputs */
    int8_t *windows = scratch;
    int32_t room = NSK_WIDENED + NSK_GATHERED;
#else
    int8_t *windows = scratch + NSK_WIDENED * row;
    int32_t room = NSK_GATHERED;
#endif
#if defined(NSK_STACK_ROOM)
    int8_t stack[NSK_STACK_ROOM];
    if (row * NSK_GATHERED <= NSK_STACK_ROOM) {
        windows = stack;
        room = NSK_STACK_ROOM / row;
    }
#endif
    for (int32_t group = 0; group < (int32_t)l->count; group++) {
        nsk_matmul p = nsk_matmul_of(l, row, group);
        const int8_t *in = workspace + l->in.offset + group * (l->in.channels / (int32_t)l->count);
        int8_t *out = workspace + l->out.offset + group * p.outputs;
        multiply *const multiply_out = multiply_of(l);
        p.scratch = scratch;
        if (nsk_conv_is_direct(l)) {
            p.in_step = l->in.channels;
            multiply_out(&p, in, l->out.width * l->out.height, out);
        } else {
            run_group(l, in, &p, multiply_out, windows, room, out);
        }
    }
}

const nsk_operation nsk_operation_conv = {check, run};
