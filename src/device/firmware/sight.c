/* Whether what comes from the camera, and the model, can be trusted. */
#include <string.h>

#include "../crc.h"
#include "../format.h"
#include "netsuke/firmware.h"

size_t nsk_sight_bytes(unsigned width, unsigned channels) {
    return (size_t)width * channels + width;
}

void nsk_sight_set(nsk_sight *s, unsigned width, unsigned channels, void *memory) {
    s->first = (uint8_t *)memory;
    s->width = (uint16_t)width;
    s->channels = (uint8_t)channels;
    s->has_last = false;
    s->rows = s->sum = s->last = 0;
}

void nsk_sight_start(nsk_sight *s) {
    s->rows = s->sum = 0;
}

void nsk_sight_row(nsk_sight *s, const uint8_t *row) {
    const size_t bytes = (size_t)s->width * s->channels;
    uint8_t *alike = s->first + bytes;
    if (s->rows++ == 0) {
        memcpy(s->first, row, bytes);
        memset(alike, 1, s->width);
    } else {
        const uint8_t *a = s->first;
        const uint8_t *b = row;
        for (unsigned x = 0; x < s->width; x++) {
            for (unsigned c = 0; c < s->channels; c++) {
                alike[x] = (uint8_t)(alike[x] & (*a++ == *b++));
            }
        }
    }
    s->sum = nsk_crc32(s->sum, row, bytes);
}

nsk_trouble nsk_sight_end(nsk_sight *s) {
    const uint8_t *alike = s->first + (size_t)s->width * s->channels;
    bool frozen = s->has_last && s->sum == s->last;
    s->has_last = true;
    s->last = s->sum;
    if (frozen) {
        return NSK_PICTURE_FROZEN;
    }
    for (unsigned x = 0; x < s->width && s->rows > 1; x++) {
        if (alike[x] != 0) {
            return NSK_PIXELS_STUCK;
        }
    }
    return NSK_NO_TROUBLE;
}

bool nsk_intact(const nsk_model *model) {
    const uint8_t *bytes = model->bytes;
    uint32_t crc = nsk_crc32(0, bytes, NSK_H_CRC);
    crc = nsk_crc32(crc, bytes + NSK_H_CRC + 4, model->size - NSK_H_CRC - 4U);
    return crc == nsk_load32(bytes + NSK_H_CRC) && nsk_load32(bytes + NSK_H_SIZE) == model->size;
}
