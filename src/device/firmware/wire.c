/* A link's bytes: frames, checksums, items. */
#include "../small.h"

#include "wire.h"

#include <string.h>

#include "../crc.h"

static const uint32_t MOST_TEXT = 255;

/* ---- out ---- */

static void flush(nsk_wire *w) {
    w->good = w->good && w->port->send(w->port->context, w->chunk, w->count);
    w->count = 0;
}

static void raw(nsk_wire *w, unsigned byte) {
    if (w->count == NSK_WIRE_CHUNK) {
        flush(w);
    }
    w->chunk[w->count++] = (uint8_t)byte;
}

static void escaped(nsk_wire *w, unsigned byte) {
    if (byte == NSK_SLIP_END || byte == NSK_SLIP_ESC) {
        raw(w, NSK_SLIP_ESC);
        raw(w, byte == NSK_SLIP_END ? NSK_SLIP_ESC_END : NSK_SLIP_ESC_ESC);
    } else {
        raw(w, byte);
    }
}

static void put(nsk_wire *w, const uint8_t *bytes, size_t count) {
    w->sum = nsk_crc32(w->sum, bytes, count);
    for (size_t i = 0; i < count; i++) {
        escaped(w, bytes[i]);
    }
}

void nsk_wire_begin(nsk_wire *wire, const nsk_link_port *port) {
    wire->port = port;
    wire->sum = 0;
    wire->count = 0;
    wire->good = true;
    raw(wire, NSK_SLIP_END);
}

void nsk_wire_head(nsk_wire *wire, enum nsk_cbor type, uint32_t number) {
    const unsigned size = number < 24 ? 0 : number <= 0xff ? 1 : number <= 0xffff ? 2 : 4;
    /* the number itself, or that one, two or four bytes of it follow, the highest first */
    static const uint8_t follow[] = {0, 24, 25, 0, 26};
    uint8_t bytes[5];
    bytes[0] = (uint8_t)((unsigned)type << 5 | (size == 0 ? number : follow[size]));
    for (unsigned i = 0; i < size; i++) {
        bytes[1 + i] = (uint8_t)(number >> 8 * (size - 1 - i));
    }
    put(wire, bytes, 1 + size);
}

void nsk_wire_number(nsk_wire *wire, unsigned key, uint32_t number) {
    nsk_wire_head(wire, NSK_CBOR_UNSIGNED, key);
    nsk_wire_head(wire, NSK_CBOR_UNSIGNED, number);
}

void nsk_wire_text(nsk_wire *wire, unsigned key, const char *text) {
    uint32_t length = 0;
    while (length < MOST_TEXT && text[length] != '\0') { /* without a bound, it becomes strlen */
        length++;
    }
    nsk_wire_head(wire, NSK_CBOR_UNSIGNED, key);
    nsk_wire_head(wire, NSK_CBOR_TEXT, length);
    put(wire, (const uint8_t *)text, length);
}

void nsk_wire_bytes(nsk_wire *wire, unsigned key, const uint8_t *bytes, uint32_t count) {
    nsk_wire_head(wire, NSK_CBOR_UNSIGNED, key);
    nsk_wire_head(wire, NSK_CBOR_BYTES, count);
    put(wire, bytes, count);
}

void nsk_wire_end(nsk_wire *wire) {
    const uint32_t sum = wire->sum;
    for (unsigned i = 0; i < NSK_WIRE_SUM; i++) {
        escaped(wire, sum >> 8 * i & 0xffU);
    }
    raw(wire, NSK_SLIP_END);
    flush(wire);
}

/* ---- in ---- */

/* The bytes behind a message, whose places are not aligned, say this. */
static bool has_sum(const uint8_t *bytes, uint32_t sum) {
    bool same = true;
    for (unsigned i = 0; i < NSK_WIRE_SUM; i++) {
        same = same && bytes[i] == (uint8_t)(sum >> 8 * i);
    }
    return same;
}

static bool is_whole(nsk_link_inbox *in) {
    uint32_t count = in->lost || in->escaped ? 0 : in->count;
    bool good = false;
    if (count > NSK_WIRE_SUM && count <= in->room) {
        count -= NSK_WIRE_SUM;
        good = has_sum(in->bytes + count, nsk_crc32(0, in->bytes, count));
    }
    in->count = good ? count : 0;
    in->lost = in->escaped = false;
    return good;
}

static void keep(nsk_link_inbox *in, uint8_t byte) {
    if (in->count >= in->room) {
        in->lost = true;
    } else {
        in->bytes[in->count++] = byte;
    }
}

bool nsk_wire_take(nsk_link_inbox *inbox, uint8_t byte) {
    if (inbox->ended) {
        inbox->count = 0;
        inbox->ended = false;
    }
    if (byte == NSK_SLIP_END) {
        inbox->ended = true;
        return is_whole(inbox);
    }
    if (inbox->escaped) {
        inbox->escaped = false;
        inbox->lost = inbox->lost || (byte != NSK_SLIP_ESC_END && byte != NSK_SLIP_ESC_ESC);
        keep(inbox, byte == NSK_SLIP_ESC_END ? NSK_SLIP_END : NSK_SLIP_ESC);
    } else if (byte == NSK_SLIP_ESC) {
        inbox->escaped = true;
    } else {
        keep(inbox, byte);
    }
    return false;
}

/* A message, and how far it has been read. */
typedef struct reader {
    const uint8_t *bytes;
    uint32_t count, at;
    bool good;
} reader;

typedef struct item {
    unsigned type;
    uint32_t number; /* or length; of what needs more than 32 bits, 2^32 - 1 */
} item;

/* Past the end it is zeroes, and no good message. */
static unsigned next_byte(reader *r) {
    if (r->at >= r->count) {
        r->good = false;
        return 0;
    }
    return r->bytes[r->at++];
}

/* The head of the next item. Lists and strings without a length are not of a link's messages. */
static item next(reader *r) {
    static const uint8_t sizes[8] = {1, 2, 4, 8}; /* of the number behind it, from 24 on */
    const unsigned first = next_byte(r);
    const unsigned info = first & 31U;
    const unsigned size = info < 24 ? 0U : sizes[info - 24U];
    item it = {first >> 5, size == 0 ? info : 0U};
    bool high = false;
    r->good = r->good && info < 28;
    for (unsigned i = 0; i < size; i++) {
        high = high || it.number >> 24 != 0;
        it.number = (it.number & 0xffffffU) << 8 | next_byte(r);
    }
    it.number = high ? UINT32_MAX : it.number;
    return it;
}

static uint32_t left_of(const reader *r) {
    return r->at < r->count ? r->count - r->at : 0U;
}

/* The bytes of a string. */
static const uint8_t *take(reader *r, uint32_t count) {
    const uint32_t from = r->at;
    r->good = r->good && count <= left_of(r);
    r->at = r->good ? from + count : r->count;
    return r->good ? r->bytes + from : NULL;
}

/* All that is in an item whose head was read. Each item has a byte at least: no more can be to come
 * than bytes are left. */
static void pass(reader *r, item it) {
    uint32_t to_come = 1; /* this one with them */
    for (;;) {
        const uint32_t bytes = left_of(r);
        const bool holds = it.type == NSK_CBOR_ARRAY || it.type == NSK_CBOR_MAP;
        const uint32_t within = holds ? it.number : it.type == NSK_CBOR_TAG ? 1U : 0U;
        r->good = r->good && within <= bytes;
        if (it.type == NSK_CBOR_BYTES || it.type == NSK_CBOR_TEXT) {
            take(r, it.number);
        }
        to_come = to_come - 1 + (r->good ? within << (it.type == NSK_CBOR_MAP ? 1 : 0) : 0U);
        r->good = r->good && to_come <= bytes;
        if (!r->good || to_come == 0) {
            return;
        }
        it = next(r);
    }
}

static void read_value(nsk_wire_map *map, reader *r, uint32_t key) {
    const item value = next(r);
    if (key < NSK_WIRE_FIELDS && value.type == NSK_CBOR_UNSIGNED) {
        map->number[key] = value.number;
        map->has |= UINT32_C(1) << key;
    } else if (key < NSK_WIRE_FIELDS && value.type == NSK_CBOR_BYTES) {
        map->bytes = take(r, value.number);
        map->byte_count = r->good ? value.number : 0;
    } else {
        pass(r, value);
    }
}

bool nsk_wire_read(nsk_wire_map *map, const uint8_t *bytes, uint32_t count) {
    reader r = {bytes, count, 0, true};
    const item head = next(&r);
    memset(map, 0, sizeof *map);
    r.good = r.good && head.type == NSK_CBOR_MAP;
    for (uint32_t i = 0; i < head.number && r.good; i++) {
        const item key = next(&r);
        if (key.type == NSK_CBOR_UNSIGNED) {
            read_value(map, &r, key.number);
        } else {
            pass(&r, key);
            pass(&r, next(&r));
        }
    }
    return r.good && r.at == r.count;
}
