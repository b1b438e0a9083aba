/* Numbers out of bytes, and bytes of a file: maker.h. */
#include "maker.h"

/* ---- numbers ---- */

uint8_t draw_byte(draws *d) {
    if (d->at < d->end) {
        return *d->at++;
    }
    d->state = (uint32_t)((uint64_t)d->state * 1664525U + 1013904223U);
    return (uint8_t)(d->state >> 24);
}

uint32_t made_draw_16(draws *d) {
    uint32_t low = draw_byte(d);
    return low | (uint32_t)draw_byte(d) << 8;
}

uint32_t draw(draws *d, uint32_t below) {
    return (below <= 256 ? draw_byte(d) : made_draw_16(d)) % below;
}

bool draw_chance(draws *d, uint32_t of256) {
    return draw_byte(d) < of256;
}

uint32_t made_draw_size(draws *d) {
    uint32_t way = draw_byte(d);
    return 1U + draw(d, way < 200 ? 6U : way < 240 ? 24U : way < 252 ? 255U : 600U);
}

void made_put8(maker *m, uint32_t at, uint32_t value) {
    m->file[at < MADE_ROOM ? at : MADE_ROOM - 1] = (uint8_t)value;
}

void made_put16(maker *m, uint32_t at, uint32_t value) {
    made_put8(m, at, value);
    made_put8(m, at + 1, value >> 8);
}

void made_put32(maker *m, uint32_t at, uint32_t value) {
    made_put16(m, at, value);
    made_put16(m, at + 2, value >> 16);
}

uint32_t made_take(maker *m, uint32_t bytes, uint32_t align) {
    uint32_t at = (m->used + align - 1) / align * align;
    if (bytes > MADE_ROOM || at + bytes > MADE_ROOM - 64) {
        m->full = true;
        return NSK_HEADER_BYTES;
    }
    m->used = at + bytes;
    return at;
}

uint32_t made_take_drawn(maker *m, uint32_t bytes, uint32_t align) {
    uint32_t at = made_take(m, bytes, align);
    for (uint32_t i = 0; i < bytes && !m->full; i++) {
        made_put8(m, at + i, draw_byte(m->d));
    }
    return at;
}
