/* A frame's rows, prepared as they come. */
#include "format.h"
#include "layer.h"

static void prepare_row(const int8_t *table, const uint8_t *from, size_t bytes, int8_t *to) {
    for (const uint8_t *end = from + bytes; from < end;) {
        *to++ = table[*from++];
    }
}

/* A table a channel. */
static void prepare_colours(const int8_t *tables, const uint8_t *from, size_t pixels, int8_t *to) {
    for (; pixels > 0; pixels--, from += 3, to += 3) {
        to[0] = tables[from[0]];
        to[1] = tables[256U + from[1]];
        to[2] = tables[512U + from[2]];
    }
}

/* A line a channel. */
static void prepare_lines(const uint8_t *lines, const uint8_t *from, size_t bytes, size_t channels,
                          int8_t *to) {
    for (size_t c = 0; c < channels; c++, lines += NSK_LINE_BYTES) {
        int32_t slope = nsk_word(lines, NSK_P_SLOPE);
        int32_t start = nsk_word(lines, NSK_P_START);
        for (size_t i = c; i < bytes; i += channels) {
            to[i] = (int8_t)((from[i] * slope + start) >> NSK_LINE_BITS);
        }
    }
}

static void prepare(const nsk_model *model, const uint8_t *from, int8_t *to) {
    const uint8_t *at = model->bytes + nsk_load32(model->bytes + NSK_H_PREPARE_AT);
    size_t bytes = (size_t)model->width * model->channels;
    switch (model->bytes[NSK_H_TABLES]) {
    case 0:
        prepare_lines(at, from, bytes, model->channels, to);
        break;
    case 1:
        prepare_row((const int8_t *)at, from, bytes, to);
        break;
    default:
        prepare_colours((const int8_t *)at, from, model->width, to);
        break;
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
