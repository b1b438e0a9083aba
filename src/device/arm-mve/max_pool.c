/* Sixteen channels at a time; the last round takes what is left. */
#include "../pool.h"

#include "../arch.h"

#if defined(NSK_ARCH_ARM_MVE)

#include "../format.h"
#include "mve.h"

enum { CHANNELS = 16 };

void nsk_most_window(const nsk_layer *l, const int8_t *in, int32_t down, int32_t across,
                     int8_t *out) {
    const int32_t row = l->dilate_down * l->in.width * l->in.channels;
    const int32_t step = l->dilate_across * l->in.channels;
    const int8x16_t turn = vdupq_n_s8((l->flags & NSK_FLAG_LEAST) != 0 ? -1 : 0);
    for (int32_t c = 0; c < l->out.channels; c += CHANNELS) {
        const mve_pred16_t there = vctp8q((uint32_t)(l->out.channels - c));
        const int8_t *in_row = in + c;
        int8x16_t most = vdupq_n_s8(-128);
        for (int32_t y = 0; y < down; y++, in_row += row) {
            const int8_t *at = in_row;
            for (int32_t left = across; left > 0; left--, at += step) {
                most = vmaxq_s8(most, veorq_s8(vldrbq_z_s8(at, there), turn));
            }
        }
        most = vmaxq_s8(veorq_s8(most, turn), vdupq_n_s8((int8_t)l->low));
        vstrbq_p_s8(out + c, vminq_s8(most, vdupq_n_s8((int8_t)l->high)), there);
    }
}

#endif
