/* Sixteen channels at a time, in four vectors of sums. */
#include "../pool.h"

#include "../arch.h"

#if defined(NSK_ARCH_ARM_MVE)

#include "../arithmetic.h"
#include "../format.h"
#include "mve.h"

enum { CHANNELS = 16, LANES = 4, VECTORS = 4 };

/* So that 255 of each pixel, and so much more, fit in 32 bits. */
enum { MOST_UP = 8, MOST_PIXELS = 1 << 15 };

typedef struct sums {
    int32x4_t of[VECTORS];
} sums;

static NSK_NOINLINE sums add_up(const int8_t *in, int32_t down, int32_t row, int32_t across,
                                int32_t step) {
    int32x4_t a = vdupq_n_s32(0);
    int32x4_t b = a;
    int32x4_t c = a;
    int32x4_t d = a;
    for (; down > 0; down--, in += row) {
        const int8_t *at = in;
        for (int32_t left = across; left > 0; left--, at += step) {
            a = vaddq_s32(a, vldrbq_s32(at));
            b = vaddq_s32(b, vldrbq_s32(at + LANES));
            c = vaddq_s32(c, vldrbq_s32(at + 2 * LANES));
            d = vaddq_s32(d, vldrbq_s32(at + 3 * LANES));
        }
    }
    return (sums){{a, b, c, d}};
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
    if (!nsk_requantise_is_plain(l) || l->out.channels < CHANNELS || up > MOST_UP ||
        pixels > MOST_PIXELS) {
        nsk_average_window_plain(l, in, down, across, out);
        return;
    }
    const int32_t row = l->dilate_down * l->in.width * l->in.channels;
    const int32_t step = l->dilate_across * l->in.channels;
    const int32_t last = l->out.channels - CHANNELS; /* part of it may have been done before */
    const int32x4_t multiplier = vdupq_n_s32(nsk_word(l->multipliers, k));
    for (int32_t next = 0; next < l->out.channels; next += CHANNELS) {
        const int32_t c = next < last ? next : last;
        const sums s = add_up(in + c, down, row, across, step);
        for (int32_t i = 0; i < VECTORS; i++) {
            /* nsk_rescale, by the high word and one rounding shift */
            int32x4_t value = vaddq_n_s32(s.of[i], -pixels * l->in.zero);
            value = vmulhq_s32(vshlq_r_s32(value, up), multiplier);
            value = vrshlq_n_s32(value, NSK_SHIFT_BY_HIGH_WORD - 1 - shift - up);
            nsk_put_four(out + c + i * LANES, vaddq_n_s32(value, l->out.zero));
        }
    }
}

#endif
