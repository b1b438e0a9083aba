/* Pictures to frames, a row at a time.
 *
 * Along an axis, each pixel of the frame is a weighted sum of some of the picture's: taps. Weights
 * are whole numbers; a pixel's sum of both axes' products, divided by the product of the axes'
 * totals, is exact but for the one rounding. As the picture is no smaller than the frame, a row of
 * it has a part in two rows of the frame at most. */
#include <string.h>

#include "../layer.h"
#include "netsuke/firmware.h"
#include "taps.h"

enum { ACROSS, DOWN };

static nsk_axis axis_of(const nsk_scaler *s, int which) {
    nsk_axis a = {s->model->resample, s->from[which], s->to[which]};
    if (a.way == NSK_RESAMPLE_BILINEAR_SMOOTH && a.from == a.to) { /* nothing to smooth */
        a.way = NSK_RESAMPLE_AREA;
    }
    return a;
}

/* ---- where the picture's part goes ---- */

/* One side so that it is to the other as `a` to `b`, rounded. */
static uint32_t in_proportion(uint32_t other, uint32_t a, uint32_t b) {
    uint32_t side = (other * a + b / 2U) / b;
    return side > 0U ? side : 1U;
}

static void place(nsk_scaler *s, uint32_t width, uint32_t height) {
    const nsk_model *m = s->model;
    uint32_t from[2] = {width, height};
    uint32_t to[2] = {m->width, m->height};
    bool wide = width * m->height > height * m->width;
    if (m->fit == NSK_FIT_CROP && wide) {
        from[ACROSS] = in_proportion(height, m->width, m->height);
    } else if (m->fit == NSK_FIT_CROP) {
        from[DOWN] = in_proportion(width, m->height, m->width);
    } else if (m->fit == NSK_FIT_PAD && wide) {
        to[DOWN] = in_proportion(m->width, height, width);
    } else if (m->fit == NSK_FIT_PAD) {
        to[ACROSS] = in_proportion(m->height, width, height);
    }
    s->left = (uint16_t)((width - from[ACROSS]) / 2U);
    s->top = (uint16_t)((height - from[DOWN]) / 2U);
    s->to_left = (uint16_t)((m->width - to[ACROSS]) / 2U);
    s->to_top = (uint16_t)((m->height - to[DOWN]) / 2U);
    for (int k = 0; k < 2; k++) {
        s->from[k] = (uint16_t)from[k];
        s->to[k] = (uint16_t)to[k];
    }
}

/* The most that the weights of one pixel come to. */
static uint64_t most_total(const nsk_axis *a) {
    uint64_t most = 0;
    for (uint32_t i = 0; i < a->to; i++) {
        nsk_taps t = nsk_taps_of(a, i);
        most = t.total > most ? t.total : most;
    }
    return most;
}

size_t nsk_scaler_bytes(const nsk_model *model) {
    return 2U * sizeof(uint32_t) * model->width * model->channels;
}

nsk_status nsk_scaler_set(nsk_scaler *s, const nsk_model *model, unsigned width, unsigned height,
                          void *memory) {
    enum { MOST = 4096 };
    s->model = model;
    s->sums = (uint32_t *)memory;
    if (width > MOST || height > MOST) {
        return NSK_STATUS_INCONSISTENT;
    }
    if (width < 1 || height < 1) {
        return NSK_STATUS_PICTURE_SMALL;
    }
    place(s, width, height);
    if (s->from[ACROSS] < s->to[ACROSS] || s->from[DOWN] < s->to[DOWN]) {
        return NSK_STATUS_PICTURE_SMALL;
    }
    const nsk_axis across = axis_of(s, ACROSS);
    const nsk_axis down = axis_of(s, DOWN);
    uint64_t most = most_total(&across) * most_total(&down);
    nsk_scaler_start(s);
    return most * 255U + most / 2U <= UINT32_MAX ? NSK_STATUS_OK : NSK_STATUS_INCONSISTENT;
}

void nsk_scaler_start(nsk_scaler *s) {
    s->put = s->taken = 0;
    memset(s->sums, 0, nsk_scaler_bytes(s->model));
}

/* ---- rows ---- */

static uint32_t *sums_of(const nsk_scaler *s, uint32_t row) {
    return s->sums + row % 2U * s->model->width * s->model->channels;
}

/* sum += times x a pixel, or another sum; written out, so that sums stay in registers. */
static inline void add_bytes(uint32_t *sum, uint32_t times, const uint8_t *pixel, bool colour) {
    sum[0] += times * pixel[0];
    if (colour) {
        sum[1] += times * pixel[1];
        sum[2] += times * pixel[2];
    }
}

static inline void add_sums(uint32_t *to, uint32_t times, const uint32_t *sum, bool colour) {
    to[0] += times * sum[0];
    if (colour) {
        to[1] += times * sum[1];
        to[2] += times * sum[2];
    }
}

/* By area, as nsk_taps_add_row does it, but along the row: a pixel of the picture is `to` long, one
 * of the frame `from`. Each is filled before the next is begun, which gets the rest of a pixel. */
static inline void fill_pixels(const nsk_axis *across, const bool colour, const uint8_t *pixel,
                               uint32_t *const sums[2], const uint32_t times[2]) {
    const uint32_t to = across->to;
    const uint32_t from = across->from;
    const unsigned channels = colour ? 3U : 1U;
    uint32_t *first = sums[0];
    uint32_t *second = sums[1];
    uint32_t sum[3] = {0, 0, 0};
    uint32_t wanted = from;
    for (uint32_t k = 0; k < from; k++, pixel += channels) {
        if (to < wanted) {
            add_bytes(sum, to, pixel, colour);
            wanted -= to;
            continue;
        }
        add_bytes(sum, wanted, pixel, colour);
        add_sums(first, times[0], sum, colour);
        first += channels;
        if (times[1] > 0) {
            add_sums(second, times[1], sum, colour);
            second += channels;
        }
        const uint32_t rest = to - wanted;
        sum[0] = sum[1] = sum[2] = 0;
        add_bytes(sum, rest, pixel, colour);
        wanted = from - rest;
    }
}

static void add_row(const nsk_scaler *s, const uint8_t *row, uint32_t *const sums[2],
                    const uint32_t times[2]) {
    const uint32_t channels = s->model->channels == 1 ? 1U : 3U;
    const nsk_axis across = axis_of(s, ACROSS);
    row += s->left * channels;
    if (across.way != NSK_RESAMPLE_AREA) {
        nsk_taps_add_row(&across, channels == 3, row, sums, times);
    } else if (channels == 1) {
        fill_pixels(&across, false, row, sums, times);
    } else {
        fill_pixels(&across, true, row, sums, times);
    }
}

/* Rows from `origin` on; those above it wrap on purpose, to ones far below. */
#if defined(__clang__)
__attribute__((no_sanitize("unsigned-integer-overflow")))
#endif
static inline uint32_t
rows_from(uint32_t origin, uint32_t row) {
    return row - origin;
}

void nsk_scaler_put(nsk_scaler *s, const uint8_t *row) {
    const nsk_axis down = axis_of(s, DOWN);
    uint32_t *sums[2] = {NULL, NULL};
    uint32_t times[2] = {0, 0};
    unsigned found = 0;
    const uint32_t y = rows_from(s->top, s->put++);
    const uint32_t next = s->taken > s->to_top ? (uint32_t)s->taken - s->to_top : 0U;
    for (uint32_t i = next; i < next + 2U && i < down.to; i++) {
        const nsk_taps t = nsk_taps_of(&down, i);
        if (y >= t.first && y < t.last) {
            sums[found] = sums_of(s, i);
            times[found++] = nsk_tap_weight(&down, i, y);
        }
    }
    if (found > 0 && y < down.from) {
        add_row(s, row, sums, times);
    }
}

/* Divides some sums out, and clears them. */
static uint8_t *divide(uint32_t *sum, uint32_t count, uint32_t all, uint8_t *to) {
    for (uint32_t i = 0; i < count; i++) {
        *to++ = (uint8_t)((sum[i] + all / 2U) / all);
        sum[i] = 0;
    }
    return to;
}

/* Row `i` of the sums. */
static void finish(const nsk_scaler *s, uint32_t i, uint32_t total, uint8_t *to) {
    const uint32_t channels = s->model->channels;
    const nsk_axis across = axis_of(s, ACROSS);
    uint32_t *sum = sums_of(s, i);
    if (across.way != NSK_RESAMPLE_BILINEAR_SMOOTH) { /* all pixels have one total */
        divide(sum, across.to * channels, nsk_taps_of(&across, 0).total * total, to);
        return;
    }
    for (uint32_t x = 0; x < across.to; x++) {
        const uint32_t all = nsk_taps_of(&across, x).total * total;
        to = divide(sum + x * channels, channels, all, to);
    }
}

bool nsk_scaler_take(nsk_scaler *s, uint8_t *row) {
    const nsk_model *m = s->model;
    const uint32_t i = rows_from(s->to_top, s->taken);
    const bool inside = s->taken >= s->to_top && i < s->to[DOWN];
    const nsk_axis down = axis_of(s, DOWN);
    nsk_taps t = {0, 0, 1};
    if (s->taken >= m->height) {
        return false;
    }
    if (inside) {
        t = nsk_taps_of(&down, i);
        if (s->put < s->top + t.last) {
            return false;
        }
    }
    memset(row, 0, (size_t)m->width * m->channels); /* bars are black */
    if (inside) {
        finish(s, i, t.total, row + (size_t)s->to_left * m->channels);
    }
    s->taken++;
    return true;
}
