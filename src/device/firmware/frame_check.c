/* Whether what comes from the camera, and the model, can be trusted. */
#include <string.h>

#include "../crc.h"
#include "../format.h"
#include "netsuke/firmware.h"

size_t nsk_frame_check_bytes(unsigned width, unsigned height, unsigned channels) {
    return sizeof(uint32_t) * height + (size_t)width * channels + width;
}

void nsk_frame_check_set(nsk_frame_check *s, unsigned width, unsigned height, unsigned channels,
                         void *memory) {
    memset(s, 0, sizeof *s);
    s->sums = (uint32_t *)memory;
    s->above = (uint8_t *)(s->sums + height);
    s->width = (uint16_t)width;
    s->height = (uint16_t)height;
    s->channels = (uint8_t)channels;
}

void nsk_frame_check_start(nsk_frame_check *s) {
    s->rows = 0;
    s->frozen = s->repeated = s->flat = false;
}

/* Compares a row with the one above, which it then is. */
static void compare(nsk_frame_check *s, const uint8_t *row) {
    uint8_t *above = s->above;
    uint8_t *alike = above + (size_t)s->width * s->channels;
    unsigned all = 1;
    for (unsigned x = 0; x < s->width; x++) {
        unsigned same = 1;
        for (unsigned c = 0; c < s->channels; c++) {
            same &= *above == *row;
            *above++ = *row++;
        }
        alike[x] = (uint8_t)(alike[x] & same);
        all &= same;
    }
    s->repeated = s->repeated || all != 0;
}

static bool is_flat(const uint8_t *row, size_t bytes, unsigned channels) {
    size_t i = channels;
    while (i < bytes && row[i] == row[i - channels]) {
        i++;
    }
    return i >= bytes && bytes > channels;
}

void nsk_frame_check_row(nsk_frame_check *s, const uint8_t *row) {
    const size_t bytes = (size_t)s->width * s->channels;
    if (s->rows >= s->height) {
        return;
    }
    if (s->rows == 0) {
        memcpy(s->above, row, bytes);
        memset(s->above + bytes, 1, s->width);
    } else {
        compare(s, row);
    }
    uint32_t sum = nsk_crc32(0, row, bytes);
    s->frozen = s->frozen || (s->has_last && s->sums[s->rows] == sum);
    s->flat = s->flat || is_flat(row, bytes, s->channels);
    s->sums[s->rows++] = sum;
}

nsk_fault nsk_frame_check_end(nsk_frame_check *s) {
    const uint8_t *alike = s->above + (size_t)s->width * s->channels;
    s->has_last = true;
    for (unsigned x = 0; x < s->width && s->rows > 1; x++) {
        s->flat = s->flat || alike[x] != 0;
    }
    return s->frozen     ? NSK_FAULT_PICTURE_FROZEN
           : s->flat     ? NSK_FAULT_PIXELS_STUCK
           : s->repeated ? NSK_FAULT_ROWS_REPEATED
                         : NSK_FAULT_NONE;
}

bool nsk_intact(const nsk_model *model) {
    const uint8_t *bytes = model->bytes;
    uint32_t crc = nsk_crc32(0, bytes, NSK_H_CRC);
    crc = nsk_crc32(crc, bytes + NSK_H_CRC + 4, model->size - NSK_H_CRC - 4U);
    return crc == model->checksum && nsk_load32(bytes + NSK_H_CRC) == crc;
}
