/* Two slots for models: heads, turns, and which one starts. */
#include "../small.h"

#include "netsuke/slots.h"

#include <string.h>

#include "../crc.h"

/* Of a head, its words in the core's own order; the CRC-32 of those before it stands last. */
enum head_word {
    HEAD_MAGIC,
    HEAD_TURN,
    HEAD_BYTES, /* of the model */
    HEAD_SUM = NSK_SLOT_HEAD / 4 - 1,
    HEAD_WORDS
};

static const uint32_t MAGIC = UINT32_C(0x746c736e); /* "nslt" */

static uint32_t sum_of(const uint32_t *head) {
    return nsk_crc32(0, (const uint8_t *)head, HEAD_SUM * sizeof *head);
}

/* Reads a head; false where there is none. */
static bool read_head(const nsk_slots *slots, unsigned slot, uint32_t *head) {
    memcpy(head, slots->at[slot], NSK_SLOT_HEAD);
    return head[HEAD_MAGIC] == MAGIC && head[HEAD_SUM] == sum_of(head) &&
           head[HEAD_BYTES] <= slots->bytes - NSK_SLOT_HEAD;
}

const void *nsk_slot_model(const nsk_slots *slots, unsigned slot, uint32_t *bytes) {
    uint32_t head[HEAD_WORDS];
    const bool good = read_head(slots, slot, head);
    *bytes = good ? head[HEAD_BYTES] : 0;
    return good ? slots->at[slot] + NSK_SLOT_HEAD : NULL;
}

/* Turns may pass 2^32: the later one is ahead by less than half of that. */
static bool is_later(uint32_t turn, uint32_t than) {
    const uint32_t half = UINT32_C(0x80000000);
    return turn > than ? turn - than < half : than - turn > half;
}

unsigned nsk_slot_last(const nsk_slots *slots) {
    uint32_t head[HEAD_WORDS];
    uint32_t turn = 0;
    unsigned last = NSK_SLOTS;
    for (unsigned i = 0; i < NSK_SLOTS; i++) {
        if (read_head(slots, i, head) && (last == NSK_SLOTS || is_later(head[HEAD_TURN], turn))) {
            last = i;
            turn = head[HEAD_TURN];
        }
    }
    return last;
}

const void *nsk_slots_start(const nsk_slots *slots, const void *built_in, size_t built_in_bytes,
                            size_t *bytes) {
    const unsigned last = nsk_slot_last(slots);
    for (unsigned i = 0; i < NSK_SLOTS && last < NSK_SLOTS; i++) {
        uint32_t size;
        nsk_model opened;
        const void *model = nsk_slot_model(slots, (last + i) % NSK_SLOTS, &size);
        if (model != NULL && nsk_open(&opened, model, size) == NSK_STATUS_OK) {
            *bytes = size;
            return model;
        }
    }
    *bytes = built_in_bytes;
    return built_in;
}

bool nsk_slot_choose(const nsk_slots *slots, unsigned slot, uint32_t model_bytes) {
    uint32_t head[HEAD_WORDS];
    const unsigned last = nsk_slot_last(slots);
    uint32_t turn = 0;
    if (last < NSK_SLOTS && read_head(slots, last, head)) {
        turn = head[HEAD_TURN] < UINT32_MAX ? head[HEAD_TURN] + 1U : 0U;
    }
    memset(head, 0xff, sizeof head);
    head[HEAD_MAGIC] = MAGIC;
    head[HEAD_TURN] = turn;
    head[HEAD_BYTES] = model_bytes;
    head[HEAD_SUM] = sum_of(head);
    return slots->write(slots->context, slot, 0, (const uint8_t *)head) &&
           nsk_slot_last(slots) == slot;
}
