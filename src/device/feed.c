/* A frame's rows, prepared as they come. */
#include "feed.h"

#include "arch.h"
#include "format.h"

#if defined(NSK_HAS_VECTORS)
/* A table a channel, or one for all. */
static void prepare_by_tables(const int8_t *tables, const uint8_t *from, size_t bytes, size_t count,
                              int8_t *to) {
    for (size_t c = 0; c < count; c++, tables += 256) {
        nsk_prepare_by_table(tables, from + c, (uint32_t)(bytes / count), (uint32_t)count, to + c);
    }
}

/* A line a channel. */
static void prepare_by_lines(const uint8_t *lines, const uint8_t *from, size_t bytes,
                             size_t channels, int8_t *to) {
    for (size_t c = 0; c < channels; c++, lines += NSK_LINE_BYTES) {
        nsk_prepare_by_line(lines, from + c, (uint32_t)(bytes / channels), (uint32_t)channels,
                            to + c);
    }
}
#else
/* The same, portable. */
static void prepare_by_tables(const int8_t *tables, const uint8_t *from, size_t bytes, size_t count,
                              int8_t *to) {
    for (size_t c = 0; c < count; c++, tables += 256) {
        for (size_t i = c; i < bytes; i += count) {
            to[i] = tables[from[i]];
        }
    }
}

static void prepare_by_lines(const uint8_t *lines, const uint8_t *from, size_t bytes,
                             size_t channels, int8_t *to) {
    for (size_t c = 0; c < channels; c++, lines += NSK_LINE_BYTES) {
        int32_t slope = nsk_word(lines, NSK_P_SLOPE);
        int32_t start = nsk_word(lines, NSK_P_START);
        for (size_t i = c; i < bytes; i += channels) {
            to[i] = (int8_t)((from[i] * slope + start) >> NSK_LINE_BITS);
        }
    }
}

#endif

static void prepare(const nsk_model *model, const uint8_t *from, int8_t *to) {
    const uint8_t *at = model->bytes + nsk_load32(model->bytes + NSK_H_PREPARE_AT);
    size_t bytes = (size_t)model->width * model->channels;
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
    for (; count > 0 && feed->rows < model->height; count--, rows += stride) {
        prepare(model, rows, input + (size_t)(feed->rows - held->first) * row);
        feed->rows++;
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
