/* Convolution, grouped or not; weights as [out][row][column][in of the group], each output's
 * filled up to whole words. */
#include <string.h>

#include "arch.h"
#include "check.h"
#include "product.h"

static bool check(const nsk_model *m, const nsk_layer *l) {
    if (l->count < 1 || l->in.channels % l->count != 0 || l->out.channels % l->count != 0 ||
        !nsk_window_is_good(l) || !l->has_second || l->second.place % 4 != 0 ||
        (uint64_t)nsk_kernel_area(l) * l->in.channels > NSK_MOST_TAPS ||
        nsk_tensor_bytes(&l->second) < (uint32_t)nsk_conv_scratch(l)) {
        return false;
    }
    uint32_t row = (uint32_t)nsk_row_bytes(nsk_conv_taps(l));
    nsk_weights_form form = {(uint64_t)row * l->out.channels, row, 1, row, 128};
    return nsk_check_weights(m, l, &form);
}

/* Where an output's window stands. */
typedef struct spot {
    int32_t x, y; /* of its first tap in the picture, or outside */
} spot;

/* One row of a window, `length` bytes a pixel; what is outside of the picture holds zero. */
static int8_t *gather_row(const nsk_layer *l, const int8_t *in, spot at, int32_t length,
                          int8_t *to) {
    for (int32_t kx = 0; kx < l->kernel_width; kx++, to += length) {
        int32_t x = at.x + kx * l->dilate_across;
        if (x >= 0 && x < l->in.width) {
            memcpy(to, in + (at.y * l->in.width + x) * l->in.channels, (size_t)length);
        } else {
            memset(to, l->in.zero, (size_t)length);
        }
    }
    return to;
}

/* A row that lies in the picture without gaps is one copy. */
static bool row_is_whole(const nsk_layer *l, spot at) {
    return l->count == 1 && l->dilate_across == 1 && at.x >= 0 &&
           at.x + l->kernel_width <= l->in.width;
}

static void gather_window(const nsk_layer *l, const int8_t *in, spot at, int8_t *to) {
    int32_t length = l->in.channels / (int32_t)l->count;
    int32_t bytes = l->kernel_width * length;
    bool whole = row_is_whole(l, at);
    for (int32_t ky = 0; ky < l->kernel_height; ky++, at.y += l->dilate_down) {
        if (at.y < 0 || at.y >= l->in.height) {
            memset(to, l->in.zero, (size_t)bytes);
            to += bytes;
        } else if (whole) {
            memcpy(to, in + (at.y * l->in.width + at.x) * l->in.channels, (size_t)bytes);
            to += bytes;
        } else {
            to = gather_row(l, in, at, length, to);
        }
    }
    memset(to, 0, (size_t)(nsk_row_bytes(l->kernel_height * bytes) - l->kernel_height * bytes));
}

/* All outputs of a group, `room` windows at a time. */
static void run_group(const nsk_layer *l, const int8_t *in, const nsk_product *p, int8_t *windows,
                      int32_t room, int8_t *out) {
    int32_t pixels = l->out.width * l->out.height;
    int32_t waiting = 0;
    for (int32_t i = 0, x = 0, y = 0; i < pixels; i++) {
        spot at = {x * l->stride_across - l->pad_left, y * l->stride_down - l->pad_top};
        gather_window(l, in, at, windows + waiting * p->row);
        if (++waiting == room || i + 1 == pixels) {
            nsk_multiply_out(p, windows, waiting, out);
            out += waiting * p->out_step;
            waiting = 0;
        }
        if (++x == l->out.width) {
            x = 0;
            y++;
        }
    }
}

static void run(const nsk_layer *l, int8_t *workspace) {
    int32_t row = nsk_row_bytes(nsk_conv_taps(l));
    int8_t *scratch = workspace + l->second.place;
    int8_t *windows = scratch + 4 * row;
    int32_t room = NSK_GATHERED;
#if defined(NSK_STACK_ROOM)
    int8_t stack[NSK_STACK_ROOM];
    if (row * NSK_GATHERED <= NSK_STACK_ROOM) {
        windows = stack;
        room = NSK_STACK_ROOM / row;
    }
#endif
    for (int32_t group = 0; group < (int32_t)l->count; group++) {
        nsk_product p = nsk_product_of(l, row, group);
        const int8_t *in = workspace + l->in.place + group * (l->in.channels / (int32_t)l->count);
        int8_t *out = workspace + l->out.place + group * p.outputs;
        p.scratch = scratch;
        if (nsk_conv_is_direct(l)) {
            p.in_step = l->in.channels;
            nsk_multiply_out(&p, in, l->out.width * l->out.height, out);
        } else {
            run_group(l, in, &p, windows, room, out);
        }
    }
}

const nsk_operation nsk_conv = {check, run};
