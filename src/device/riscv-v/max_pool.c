/* As many channels at a time as a register holds. */
#include "../pool.h"

#include "../arch.h"

#if defined(NSK_ARCH_RISCV_VECTOR)

#include "../format.h"
#include "rvv.h"

/* Bytes from a row and a pixel of the window to the next. */
typedef struct steps {
    int32_t row, pixel;
} steps;

/* So many channels. What is turned round becomes the minimum. */
static NSK_NOINLINE void some_channels(const nsk_layer *l, const int8_t *in, int32_t down,
                                       int32_t across, steps step, int32_t lanes, int8_t *out) {
    const int32_t turn = (l->flags & NSK_FLAG_LEAST) != 0 ? -1 : 0;
    const int8_t *at;
    int32_t left;
    __asm__ volatile(RVV_BEGIN "vsetvli zero, %[lanes], e8, m1, ta, ma\n\t"
                               "vmv.v.x v0, %[least]\n"
                               "1:\n\t"
                               "mv %[at], %[in]\n\t"
                               "mv %[left], %[across]\n"
                               "2:\n\t"
                               "vle8.v v1, (%[at])\n\t"
                               "addi %[left], %[left], -1\n\t"
                               "add %[at], %[at], %[pixel]\n\t"
                               "vxor.vx v1, v1, %[turn]\n\t"
                               "vmax.vv v0, v0, v1\n\t"
                               "bnez %[left], 2b\n\t"
                               "addi %[down], %[down], -1\n\t"
                               "add %[in], %[in], %[row]\n\t"
                               "bnez %[down], 1b\n\t"
                               "vxor.vx v0, v0, %[turn]\n\t"
                               "vmax.vx v0, v0, %[low]\n\t"
                               "vmin.vx v0, v0, %[high]\n\t"
                               "vse8.v v0, (%[out])\n\t" RVV_END
                     : [in] "+&r"(in), [down] "+&r"(down), [at] "=&r"(at), [left] "=&r"(left)
                     : [across] "r"(across), [row] "r"(step.row), [pixel] "r"(step.pixel),
                       [lanes] "r"(lanes), [least] "r"(-128), [turn] "r"(turn), [low] "r"(l->low),
                       [high] "r"(l->high), [out] "r"(out)
                     : RVV_CLOBBERS);
}

void nsk_most_window(const nsk_layer *l, const int8_t *in, int32_t down, int32_t across,
                     int8_t *out) {
    const steps step = {l->dilate_down * l->in.width * l->in.channels,
                        l->dilate_across * l->in.channels};
    if (down < 1 || across < 1) {
        nsk_most_window_plain(l, in, down, across, out);
        return;
    }
    int32_t lanes;
    for (int32_t c = 0; c < l->out.channels; c += lanes) {
        lanes = nsk_lanes(l->out.channels - c);
        some_channels(l, in + c, down, across, step, lanes, out + c);
    }
}

#endif
