/* Two outputs by a window of halves of 16 bits: its numbers are put in the order in which weights
 * widen. */
#include "../fine.h"

#include "../arch.h"

#if defined(NSK_ARCH_ARM_DSP)

#include "dsp.h"

void nsk_meet_both(const int16_t *x, const int8_t *v, const int8_t *w, int32_t taps,
                   nsk_both_sums *sums) {
    sums->first = sums->second = 0;
    for (; taps > 0; taps -= NSK_FINE_RUN) {
        const int8_t *end = v + nsk_limit(taps, 0, NSK_FINE_RUN);
        int32_t first = 0;
        int32_t second = 0;
        for (; v < end; x += 4, v += 4, w += 4) {
            const uint32_t low = nsk_load_four((const int8_t *)(const void *)x);
            const uint32_t high = nsk_load_four((const int8_t *)(const void *)(x + 2));
            const uint32_t even = nsk_low_halves(low, high);
            const uint32_t odd = nsk_high_halves(low, high);
            const uint32_t a = nsk_load_four(v);
            const uint32_t b = nsk_load_four(w);
            first = nsk_add_both(nsk_even_bytes(a), even, first);
            first = nsk_add_both(nsk_odd_bytes(a), odd, first);
            second = nsk_add_both(nsk_even_bytes(b), even, second);
            second = nsk_add_both(nsk_odd_bytes(b), odd, second);
        }
        sums->first += first;
        sums->second += second;
    }
}

#endif
