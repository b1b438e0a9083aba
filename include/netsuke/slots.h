/* netsuke/slots.h: two places in flash for models that come later, so that a new one is written
 * beside the one that runs, and the board starts with a sound one wherever power fails. Like
 * device.h: integers only, no heap, no global state, memcpy and memset of the C library.
 *
 * A slot begins with a head of 32 bytes, the model behind it. The head is written last, in one
 * piece, when the model has been tried: a slot without a sound head holds nothing. Each head has a
 * turn, one more than the one before: the last turn's model starts, where nsk_open finds it sound;
 * else the other slot's; else the one that is built in. docs/link.md draws it.
 */
#ifndef NETSUKE_SLOTS_H
#define NETSUKE_SLOTS_H

#include "netsuke/device.h"

#ifdef __cplusplus
extern "C" {
#endif

/* What flash is written by: the page of most parts is one of these, or some. */
enum nsk_slot_sizes { NSK_SLOTS = 2, NSK_SLOT_UNIT = 32, NSK_SLOT_HEAD = NSK_SLOT_UNIT };

/* What a board gives. */
typedef struct nsk_slots {
    void *context;                /* handed to both functions */
    const uint8_t *at[NSK_SLOTS]; /* where they are read, aligned to NSK_ALIGNMENT */
    uint32_t bytes;               /* of each: whole sectors, that nothing else is in */
    /* Makes a slot ready to be written: at least its head reads as no head then. */
    bool (*erase)(void *context, unsigned slot);
    /* Writes NSK_SLOT_UNIT bytes, `at` a multiple of that, once between two times that the slot is
     * erased. False: the flash would not take them. */
    bool (*write)(void *context, unsigned slot, uint32_t at, const uint8_t *unit);
} nsk_slots;

/* The model of a slot, whose head is sound; NULL where there is none. Whether the model is,
 * nsk_open says. */
const void *nsk_slot_model(const nsk_slots *slots, unsigned slot, uint32_t *bytes);
/* The slot whose turn to start it is: NSK_SLOTS where no head is sound. */
unsigned nsk_slot_last(const nsk_slots *slots);
/* The model that starts: the last one that nsk_open finds sound, or the one that is built in. For a
 * product that has no link: netsuke/link.h starts it by itself. */
const void *nsk_slots_start(const nsk_slots *slots, const void *built_in, size_t built_in_bytes,
                            size_t *bytes);
/* Writes the head of a slot whose model is there, whole: it is the one that starts from now on.
 * False where it does not read as it was written. */
bool nsk_slot_choose(const nsk_slots *slots, unsigned slot, uint32_t model_bytes);

#ifdef __cplusplus
}
#endif
#endif
