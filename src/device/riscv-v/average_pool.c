/* As many channels at a time as four registers hold in words. */
#include "../pool.h"

#include "../arch.h"

#if defined(NSK_ARCH_RISCV_VECTOR)

#include "../arithmetic.h"
#include "../format.h"
#include "rvv.h"

/* So that 255 of each pixel, and so much more, fit in 32 bits. */
enum { MOST_UP = 8, MOST_PIXELS = 1 << 15 };

/* A window, and what makes an output of its sum. */
typedef struct window {
    int32_t down, across;
    int32_t row, pixel; /* bytes to the next */
    int32_t rest;       /* added to the sum: the zero points */
    int32_t up, multiplier, shift, zero;
} window;

/* So many channels: nsk_rescale, by the high word and one rounding shift. */
static NSK_NOINLINE void some_channels(const window *w, const int8_t *in, int32_t lanes,
                                       int8_t *out) {
    int32_t down = w->down;
    const int8_t *at;
    int32_t left;
    __asm__ volatile(
        RVV_BEGIN RVV_ROUND_UP RVV_START("%[lanes]") "vmv.v.x v8, %[rest]\n"
                                                     "1:\n\t"
                                                     "mv %[at], %[in]\n\t"
                                                     "mv %[left], %[across]\n"
                                                     "2:\n\t"
                                                     "vle8.v v0, (%[at])\n\t"
                                                     "addi %[left], %[left], -1\n\t"
                                                     "add %[at], %[at], %[pixel]\n\t"
                                                     "vsext.vf4 v4, v0\n\t"
                                                     "vadd.vv v8, v8, v4\n\t"
                                                     "bnez %[left], 2b\n\t"
                                                     "addi %[down], %[down], -1\n\t"
                                                     "add %[in], %[in], %[row]\n\t"
                                                     "bnez %[down], 1b\n\t"
                                                     "vsll.vx v8, v8, %[up]\n\t"
                                                     "vmulh.vx v8, v8, %[multiplier]\n\t"
                                                     "vssra.vx v8, v8, %[shift]\n\t"
                                                     "vadd.vx v8, v8, %[zero]\n\t" RVV_SATURATE(
                                                         "v8", "v4",
                                                         "v0") "vse8.v v0, (%[out])\n\t" RVV_END
        : [in] "+&r"(in), [down] "+&r"(down), [at] "=&r"(at), [left] "=&r"(left)
        : [across] "r"(w->across), [row] "r"(w->row), [pixel] "r"(w->pixel), [lanes] "r"(lanes),
          [rest] "r"(w->rest), [up] "r"(w->up), [multiplier] "r"(w->multiplier),
          [shift] "r"(w->shift), [zero] "r"(w->zero), [out] "r"(out)
        : RVV_CLOBBERS);
}

void nsk_average_window(const nsk_layer *l, const int8_t *in, int32_t down, int32_t across,
                        int8_t *out) {
    const int32_t pixels = down * across;
    const bool counted = (l->flags & NSK_FLAG_COUNTED) != 0 && pixels > 0;
    const uint32_t k = counted ? (uint32_t)pixels - 1U : 0U;
    /* Small shifts, as of two by two pixels, become those that the high word serves: the sum goes
     * up by as much. */
    const int32_t shift = l->shifts[k];
    const int32_t up = shift < NSK_SHIFT_BY_HIGH_WORD ? NSK_SHIFT_BY_HIGH_WORD - shift : 0;
    if (!nsk_requantise_is_plain(l) || up > MOST_UP || pixels > MOST_PIXELS || pixels < 1) {
        nsk_average_window_plain(l, in, down, across, out);
        return;
    }
    const window w = {.down = down,
                      .across = across,
                      .row = l->dilate_down * l->in.width * l->in.channels,
                      .pixel = l->dilate_across * l->in.channels,
                      .rest = -pixels * l->in.zero,
                      .up = up,
                      .multiplier = nsk_word(l->multipliers, k),
                      .shift = shift + up - NSK_SHIFT_BY_HIGH_WORD + 1,
                      .zero = l->out.zero};
    int32_t lanes;
    for (int32_t c = 0; c < l->out.channels; c += lanes) {
        lanes = nsk_lanes(l->out.channels - c);
        some_channels(&w, in + c, lanes, out + c);
    }
}

#endif
