/* Pictures to frames, a row at a time.
 *
 * Along an axis, each pixel of the frame is a weighted sum of some of the picture's: taps. Weights
 * are whole numbers; a pixel's sum of both axes' products, divided by the product of the axes'
 * totals, is exact but for the one rounding. As the picture is no smaller than the frame, a row of
 * it has a part in two rows of the frame at most. */
#include <string.h>

#include "../layer.h"
#include "netsuke/firmware.h"

enum { ACROSS, DOWN };

typedef struct taps {
    uint32_t first, last; /* [first, last) */
    uint32_t total;       /* of their weights */
} taps;

/* How pixel `i` of `to` is made along an axis of `from` pixels. */
typedef struct axis {
    nsk_resample way;
    uint32_t from, to;
} axis;

static axis axis_of(const nsk_scaler *s, int which) {
    axis a = {s->model->resample, s->from[which], s->to[which]};
    if (a.way == NSK_RESAMPLE_BILINEAR_SMOOTH && a.from == a.to) { /* nothing to smooth */
        a.way = NSK_RESAMPLE_AREA;
    }
    return a;
}

static uint32_t larger(uint32_t a, uint32_t b) {
    return a > b ? a : b;
}

static uint32_t smaller(uint32_t a, uint32_t b) {
    return a < b ? a : b;
}

/* From the middle of the frame's pixel to that of the picture's, in parts of 2 x `to`. */
static uint32_t distance(const axis *a, uint32_t i, uint32_t pixel) {
    uint32_t here = (2U * pixel + 1U) * a->to;
    uint32_t there = (2U * i + 1U) * a->from;
    return here > there ? here - there : there - here;
}

static uint32_t weight(const axis *a, uint32_t i, uint32_t pixel) {
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

static taps taps_of(const axis *a, uint32_t i) {
    const uint32_t middle = (2U * i + 1U) * a->from; /* in parts of 2 x `to` */
    taps t;
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
            t.total += weight(a, i, k);
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
static uint64_t most_total(const axis *a) {
    uint64_t most = 0;
    for (uint32_t i = 0; i < a->to; i++) {
        taps t = taps_of(a, i);
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
    const axis across = axis_of(s, ACROSS);
    const axis down = axis_of(s, DOWN);
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

/* Adds a row of the picture to one or two rows of sums, `times` each. */
static void add_row(const nsk_scaler *s, const uint8_t *row, uint32_t *const sums[2],
                    const uint32_t times[2]) {
    const uint32_t channels = s->model->channels == 1 ? 1U : 3U;
    const axis across = axis_of(s, ACROSS);
    for (uint32_t x = 0, at = 0; x < across.to; x++) {
        const taps t = taps_of(&across, x);
        uint32_t sum[3] = {0, 0, 0};
        for (uint32_t k = t.first; k < t.last; k++) {
            const uint8_t *pixel = row + (s->left + k) * channels;
            const uint32_t w = weight(&across, x, k);
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

/* Rows from `origin` on; those above it wrap on purpose, to ones far below. */
#if defined(__clang__)
__attribute__((no_sanitize("unsigned-integer-overflow")))
#endif
static inline uint32_t
rows_from(uint32_t origin, uint32_t row) {
    return row - origin;
}

void nsk_scaler_put(nsk_scaler *s, const uint8_t *row) {
    const axis down = axis_of(s, DOWN);
    uint32_t *sums[2] = {NULL, NULL};
    uint32_t times[2] = {0, 0};
    unsigned found = 0;
    const uint32_t y = rows_from(s->top, s->put++);
    const uint32_t next = s->taken > s->to_top ? (uint32_t)s->taken - s->to_top : 0U;
    for (uint32_t i = next; i < next + 2U && i < down.to; i++) {
        const taps t = taps_of(&down, i);
        if (y >= t.first && y < t.last) {
            sums[found] = sums_of(s, i);
            times[found++] = weight(&down, i, y);
        }
    }
    if (found > 0 && y < down.from) {
        add_row(s, row, sums, times);
    }
}

/* Divides row `i` of the sums out. */
static void finish(const nsk_scaler *s, uint32_t i, uint32_t total, uint8_t *to) {
    const uint32_t channels = s->model->channels;
    const axis across = axis_of(s, ACROSS);
    uint32_t *sum = sums_of(s, i);
    for (uint32_t x = 0; x < across.to; x++) {
        const uint32_t all = taps_of(&across, x).total * total;
        for (uint32_t c = 0; c < channels; c++, sum++) {
            *to++ = (uint8_t)((*sum + all / 2U) / all);
            *sum = 0;
        }
    }
}

bool nsk_scaler_take(nsk_scaler *s, uint8_t *row) {
    const nsk_model *m = s->model;
    const uint32_t i = rows_from(s->to_top, s->taken);
    const bool inside = s->taken >= s->to_top && i < s->to[DOWN];
    const axis down = axis_of(s, DOWN);
    taps t = {0, 0, 1};
    if (s->taken >= m->height) {
        return false;
    }
    if (inside) {
        t = taps_of(&down, i);
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
