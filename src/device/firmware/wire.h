/* wire: a link's bytes. A message is CBOR (RFC 8949) with its CRC-32 behind it, the lowest byte
 * first, in a frame of SLIP (RFC 1055): an END before it and one behind it. */
#ifndef NSK_FIRMWARE_WIRE_H
#define NSK_FIRMWARE_WIRE_H

#include "netsuke/link.h"

/* RFC 1055. */
enum nsk_slip { NSK_SLIP_END = 0xc0, NSK_SLIP_ESC = 0xdb, NSK_SLIP_ESC_END, NSK_SLIP_ESC_ESC };

/* RFC 8949, 3.1: the major types. */
enum nsk_cbor {
    NSK_CBOR_UNSIGNED,
    NSK_CBOR_NEGATIVE,
    NSK_CBOR_BYTES,
    NSK_CBOR_TEXT,
    NSK_CBOR_ARRAY,
    NSK_CBOR_MAP,
    NSK_CBOR_TAG,
    NSK_CBOR_SIMPLE
};

enum nsk_wire_limit { NSK_WIRE_SUM = 4, NSK_WIRE_CHUNK = 32 };

/* ---- out ---- */

typedef struct nsk_wire {
    const nsk_link_port *port;
    uint32_t sum;
    uint8_t chunk[NSK_WIRE_CHUNK]; /* what is given to the port at once */
    uint8_t count;
    bool good; /* the port has taken all so far */
} nsk_wire;

void nsk_wire_begin(nsk_wire *wire, const nsk_link_port *port);
/* The head of an item: its type, and its number or length. */
void nsk_wire_head(nsk_wire *wire, enum nsk_cbor type, uint32_t number);
/* A key and its number, its text, of which 255 bytes are sent at most, or its bytes. */
void nsk_wire_number(nsk_wire *wire, unsigned key, uint32_t number);
void nsk_wire_text(nsk_wire *wire, unsigned key, const char *text);
void nsk_wire_bytes(nsk_wire *wire, unsigned key, const uint8_t *bytes, uint32_t count);
void nsk_wire_end(nsk_wire *wire);

/* ---- in ---- */

/* Takes a byte; true when a message is whole and its checksum right: `count` bytes then, without
 * the checksum, until the next byte is taken. */
bool nsk_wire_take(nsk_link_inbox *inbox, uint8_t byte);

enum nsk_wire_fields { NSK_WIRE_FIELDS = 16 };

/* A map's numbers by their key, and its one string of bytes. */
typedef struct nsk_wire_map {
    uint32_t has; /* a bit a key */
    uint32_t number[NSK_WIRE_FIELDS];
    const uint8_t *bytes;
    uint32_t byte_count;
} nsk_wire_map;

/* Reads a message that is one map of definite length. What has another key or is of another type is
 * passed over; false where it is cut, or no map, or goes on behind it. */
bool nsk_wire_read(nsk_wire_map *map, const uint8_t *bytes, uint32_t count);
static inline bool nsk_wire_has(const nsk_wire_map *map, unsigned key) {
    return (map->has >> key & 1U) != 0;
}

#endif
