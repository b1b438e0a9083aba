#include "taps.h"

static uint32_t larger(uint32_t a, uint32_t b) {
    return a > b ? a : b;
}

static uint32_t smaller(uint32_t a, uint32_t b) {
    return a < b ? a : b;
}

/* From the middle of the frame's pixel to that of the picture's, in parts of 2 x `to`. */
static uint32_t distance(const nsk_axis *a, uint32_t i, uint32_t pixel) {
    uint32_t here = (2U * pixel + 1U) * a->to;
    uint32_t there = (2U * i + 1U) * a->from;
    return here > there ? here - there : there - here;
}

uint32_t nsk_tap_weight(const nsk_axis *a, uint32_t i, uint32_t pixel) {
    switch (a->way) {
    case NSK_RESAMPLE_NEAREST:
        return 1;
    case NSK_RESAMPLE_BILINEAR:
        return 2U * a->to - distance(a, i, pixel);
    case NSK_RESAMPLE_BILINEAR_SMOOTH:
        return 2U * a->from - distance(a, i, pixel);
    default: /* what the two have in common, the picture's pixel being `to` long */
        return smaller((pixel + 1U) * a->to, (i + 1U) * a->from) -
               larger(pixel * a->to, i * a->from);
    }
}

nsk_taps nsk_taps_of(const nsk_axis *a, uint32_t i) {
    const uint32_t middle = (2U * i + 1U) * a->from; /* in parts of 2 x `to` */
    nsk_taps t;
    t.total = 0;
    switch (a->way) {
    case NSK_RESAMPLE_NEAREST:
        t.first = middle / (2U * a->to);
        t.last = t.first + 1U;
        t.total = 1;
        break;
    case NSK_RESAMPLE_BILINEAR: /* middle is no less than `to` where `from` is no less */
        t.first = (middle - a->to) / (2U * a->to);
        t.last = t.first + ((middle - a->to) % (2U * a->to) > 0 ? 2U : 1U);
        t.total = 2U * a->to;
        break;
    case NSK_RESAMPLE_BILINEAR_SMOOTH: /* those less than 2 x `from` away */
        t.first = middle <= 2U * a->from + a->to
                      ? 0U
                      : (middle - 2U * a->from - a->to) / (2U * a->to) + 1U;
        t.last = smaller((middle + 2U * a->from - a->to - 1U) / (2U * a->to) + 1U, a->from);
        for (uint32_t k = t.first; k < t.last; k++) {
            t.total += nsk_tap_weight(a, i, k);
        }
        break;
    default:
        t.first = i * a->from / a->to;
        t.last = ((i + 1U) * a->from + a->to - 1U) / a->to;
        t.total = a->from;
        break;
    }
    return t;
}

void nsk_taps_add_row(const nsk_axis *across, bool colour, const uint8_t *row,
                      uint32_t *const sums[2], const uint32_t times[2]) {
    const uint32_t channels = colour ? 3U : 1U;
    for (uint32_t x = 0, at = 0; x < across->to; x++) {
        const nsk_taps t = nsk_taps_of(across, x);
        uint32_t sum[3] = {0, 0, 0};
        for (uint32_t k = t.first; k < t.last; k++) {
            const uint8_t *pixel = row + k * channels;
            const uint32_t w = nsk_tap_weight(across, x, k);
            for (uint32_t c = 0; c < channels; c++) {
                sum[c] += w * pixel[c];
            }
        }
        for (uint32_t c = 0; c < channels; c++, at++) {
            sums[0][at] += times[0] * sum[c];
            if (times[1] > 0) {
                sums[1][at] += times[1] * sum[c];
            }
        }
    }
}
