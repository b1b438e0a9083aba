/* A frame's rows, prepared as they come. */
#include "feed.h"
#include "arch.h"
#include "format.h"

#if defined(NSK_OWN_FEED)
#define prepare_by_tables nsk_prepare_by_tables
#define prepare_by_lines  nsk_prepare_by_lines
#else
/* A table a channel, or one for all. */
static void prepare_by_tables(const int8_t *tables, const uint8_t *from, size_t bytes, size_t count,
                              int8_t *to) {
    for (size_t c = 0; c < count; c++, tables += 256) {
        for (size_t i = c; i < bytes; i += count) {
            to[i] = tables[from[i]];
        }
    }
}

static inline int8_t on_line(int32_t x, int32_t slope, int32_t start) {
    return (int8_t)((x * slope + start) >> NSK_LINE_BITS);
}

/* A line a channel; two pixels at a time, but where code is to be small. */
static void prepare_by_lines(const uint8_t *lines, const uint8_t *from, size_t bytes,
                             size_t channels, int8_t *to) {
    for (size_t c = 0; c < channels; c++, lines += NSK_LINE_BYTES) {
        int32_t slope = nsk_word(lines, NSK_P_SLOPE);
        int32_t start = nsk_word(lines, NSK_P_START);
        size_t i = c;
#if defined(__OPTIMIZE_SIZE__)
        for (; i < bytes; i += channels) {
            to[i] = on_line(from[i], slope, start);
        }
#else
        for (; i + channels < bytes; i += 2 * channels) {
            const int32_t next = from[i + channels];
            to[i] = on_line(from[i], slope, start);
            to[i + channels] = on_line(next, slope, start);
        }
        if (i < bytes) {
            to[i] = on_line(from[i], slope, start);
        }
#endif
    }
}
#endif

/* Rows that stand one behind the other. */
static void prepare(const nsk_model *model, const uint8_t *from, unsigned rows, int8_t *to) {
    const uint8_t *at = model->bytes + nsk_load32(model->bytes + NSK_H_PREPARE_AT);
    size_t bytes = (size_t)model->width * model->channels * rows;
    size_t tables = model->bytes[NSK_H_TABLES];
    if (tables == 0) {
        prepare_by_lines(at, from, bytes, model->channels, to);
    } else {
        prepare_by_tables((const int8_t *)at, from, bytes, tables, to);
    }
}

unsigned nsk_feed_rows(nsk_feed *feed, const uint8_t *rows, size_t stride, unsigned count) {
    const nsk_model *model = feed->model;
    const nsk_held *held = &feed->held[model->streamed > 0 ? model->input : 0];
    int8_t *input = feed->workspace + nsk_tensor_at(model, model->input).offset;
    size_t row = (size_t)model->width * model->channels;
#if defined(NSK_OWN_FEED) /* what comes before a loop pays once */
    const unsigned left = (unsigned)(model->height - feed->rows);
    const unsigned all = count < left ? count : left;
    const unsigned at_once = model->streamed == 0 && stride == row && all > 0 ? all : 1U;
#else
    const unsigned at_once = 1U;
#endif
    for (; count >= at_once && feed->rows < model->height; count -= at_once, rows += stride) {
        prepare(model, rows, at_once, input + (size_t)(feed->rows - held->first) * row);
        feed->rows = (uint16_t)(feed->rows + at_once);
        if (model->streamed > 0 && (feed->rows % model->band == 0 || feed->rows == model->height)) {
            nsk_streaming_of_build->advance(feed);
        }
    }
    return (unsigned)(model->height - feed->rows);
}

void nsk_prepare(const nsk_model *model, const uint8_t *frame, size_t stride, void *workspace) {
    nsk_feed feed;
    nsk_start(&feed, model, workspace, NULL);
    nsk_feed_rows(&feed, frame, stride, model->height);
}
