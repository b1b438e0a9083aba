/* A link's models: a new one is written into the slot that does not start, tried, and kept. */
#include "../small.h"

#include <string.h>

#include "link_parts.h"

/* ---- which one runs ---- */

/* The slot that may be written: never the one that starts. */
static unsigned spare_slot(const nsk_link *link) {
    return link->starts == 0 ? 1U : 0U;
}

nsk_status nsk_link_start_model(nsk_link *link) {
    const nsk_slots *slots = link->port->slots;
    const unsigned last = slots != NULL ? nsk_slot_last(slots) : (unsigned)NSK_SLOTS;
    for (unsigned i = 0; i < NSK_SLOTS && last < NSK_SLOTS; i++) {
        const unsigned slot = (last + i) % NSK_SLOTS;
        uint32_t bytes;
        const void *model = nsk_slot_model(slots, slot, &bytes);
        if (model != NULL && nsk_link_lay(link, model, bytes) == NSK_STATUS_OK) {
            link->starts = link->runs = (uint8_t)slot;
            return NSK_STATUS_OK;
        }
    }
    link->starts = link->runs = NSK_SLOTS;
    return nsk_link_lay(link, link->built_in, link->built_in_bytes);
}

/* ---- writing ---- */

/* What keeps a model from being written, before a byte of it is. */
static nsk_link_answer hindrance(const nsk_link *link, const nsk_wire_map *asked) {
    const nsk_slots *slots = link->port->slots;
    const uint32_t size = asked->number[NSK_KEY_SIZE];
    if (slots == NULL) {
        return NSK_LINK_NOT_KNOWN;
    }
    if ((asked->number[NSK_KEY_NEEDS] & ~nsk_link_kinds()) != 0) {
        return NSK_LINK_LACKS;
    }
    if (size > slots->bytes - NSK_SLOT_HEAD || asked->number[NSK_KEY_ROOM] > link->memory_bytes) {
        return NSK_LINK_NO_ROOM;
    }
    const uint32_t from = asked->number[NSK_KEY_FROM];
    const bool fits = asked->bytes != NULL && from < size && asked->byte_count <= size - from &&
                      (asked->byte_count % NSK_SLOT_UNIT == 0 || asked->byte_count == size - from);
    return fits && asked->byte_count > 0 ? NSK_LINK_DONE : NSK_LINK_UNFIT;
}

static bool is_that(const nsk_link *link, const nsk_wire_map *asked) {
    return link->spare.bytes > 0 && link->spare.bytes == asked->number[NSK_KEY_SIZE] &&
           link->spare.checksum == asked->number[NSK_KEY_SUM];
}

/* The slot is taken from whatever ran in it for a trial. */
static bool begin_model(nsk_link *link, const nsk_wire_map *asked) {
    const nsk_slots *slots = link->port->slots;
    memset(&link->spare, 0, sizeof link->spare);
    if ((link->runs != link->starts && nsk_link_start_model(link) != NSK_STATUS_OK) ||
        !slots->erase(slots->context, spare_slot(link))) {
        return false;
    }
    link->spare.bytes = asked->number[NSK_KEY_SIZE];
    link->spare.checksum = asked->number[NSK_KEY_SUM];
    return true;
}

/* Units of the slot, the last one filled up as flash is when it is empty. */
static bool write_piece(const nsk_link *link, const uint8_t *bytes, uint32_t count) {
    const nsk_slots *slots = link->port->slots;
    uint8_t unit[NSK_SLOT_UNIT];
    bool good = true;
    for (uint32_t at = 0; at < count && good; at += NSK_SLOT_UNIT) {
        const uint32_t left = count - at;
        memset(unit, 0xff, sizeof unit);
        memcpy(unit, bytes + at, left < sizeof unit ? left : sizeof unit);
        good = slots->write(slots->context, spare_slot(link),
                            NSK_SLOT_HEAD + link->spare.written + at, unit);
    }
    return good;
}

/* The first bytes of a model that is not being written begin it. The message's bytes are where they
 * were until memory is divided up anew: then the request is as if it had not come. */
void nsk_link_model(nsk_link *link, const nsk_wire_map *asked) {
    const nsk_link_answer hindered = hindrance(link, asked);
    if (hindered != NSK_LINK_DONE) {
        nsk_link_say(link, asked, hindered);
        return;
    }
    const uint32_t from = asked->number[NSK_KEY_FROM];
    const bool trial_ends = link->runs != link->starts;
    bool good = true;
    if (!is_that(link, asked)) {
        if (from > 0) {
            nsk_link_say(link, asked, NSK_LINK_NOT_THERE);
            return;
        }
        good = begin_model(link, asked);
    }
    if (good && from == link->spare.written && !trial_ends) {
        good = write_piece(link, asked->bytes, asked->byte_count);
        link->spare.written += asked->byte_count;
    }
    if (!good) {
        memset(&link->spare, 0, sizeof link->spare);
        nsk_link_say(link, asked, NSK_LINK_FLASH);
        return;
    }
    nsk_wire w;
    nsk_link_begin_answer(&w, link, asked, NSK_LINK_DONE, 1);
    nsk_wire_number(&w, NSK_KEY_FROM, link->spare.written);
    nsk_wire_end(&w);
}

/* ---- trying and keeping ---- */

void nsk_link_try(nsk_link *link, const nsk_wire_map *asked) {
    const uint32_t bytes = link->spare.bytes;
    const uint32_t sum = asked->number[NSK_KEY_SUM];
    if (link->port->slots == NULL || bytes == 0 || link->spare.written < bytes ||
        link->spare.checksum != sum) {
        nsk_link_say(link, asked, NSK_LINK_NOT_THERE);
        return;
    }
    const unsigned slot = spare_slot(link);
    nsk_link_answer answer = NSK_LINK_DONE;
    if (link->runs != slot) {
        const uint8_t *at = link->port->slots->at[slot] + NSK_SLOT_HEAD;
        const nsk_status status = nsk_link_lay(link, at, bytes);
        if (status == NSK_STATUS_OK) {
            link->runs = (uint8_t)slot;
        } else {
            answer = status == NSK_STATUS_KIND_MISSING ? NSK_LINK_LACKS
                     : status == NSK_STATUS_NO_MEMORY  ? NSK_LINK_NO_ROOM
                                                       : NSK_LINK_UNSOUND;
            memset(&link->spare, 0, sizeof link->spare);
            nsk_link_start_model(link);
        }
    }
    nsk_link_say(link, asked, answer);
}

/* Where the answer to it was lost, the model that runs is the one that starts already. */
void nsk_link_keep(nsk_link *link, const nsk_wire_map *asked) {
    nsk_link_answer answer = NSK_LINK_DONE;
    if (link->model.checksum != asked->number[NSK_KEY_SUM]) {
        answer = NSK_LINK_NOT_THERE;
    } else if (link->runs != link->starts) {
        answer = nsk_slot_choose(link->port->slots, link->runs, link->model.size) ? NSK_LINK_DONE
                                                                                  : NSK_LINK_FLASH;
        link->starts = answer == NSK_LINK_DONE ? link->runs : link->starts;
        memset(&link->spare, 0, sizeof link->spare);
    }
    nsk_link_say(link, asked, answer);
}

void nsk_link_back(nsk_link *link, const nsk_wire_map *asked) {
    const bool good = link->runs == link->starts || nsk_link_start_model(link) == NSK_STATUS_OK;
    nsk_link_say(link, asked, good ? NSK_LINK_DONE : NSK_LINK_UNSOUND);
}
