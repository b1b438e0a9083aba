/* Slots of any bytes, such as flash has after power failed while it was written: which one starts,
 * its model's place, and another head. */
#include "netsuke/slots.h"
#include "__fc_builtin.h"

enum { BYTES = 128 };

static uint32_t flash[NSK_SLOTS][BYTES / 4];

static bool erase(void *context, unsigned slot) {
    (void)context;
    Frama_C_make_unknown((char *)flash[slot], sizeof flash[slot]);
    return Frama_C_nondet(0, 1);
}

/* It may take another byte than it is given. */
static bool write(void *context, unsigned slot, uint32_t at, const uint8_t *unit) {
    uint8_t *to = (uint8_t *)flash[slot] + at;
    (void)context;
    for (unsigned i = 0; i < NSK_SLOT_UNIT; i++) {
        to[i] = Frama_C_nondet(0, 1) ? unit[i] : (uint8_t)Frama_C_interval(0, 255);
    }
    return Frama_C_nondet(0, 1);
}

static const nsk_slots slots = {
    0, {(const uint8_t *)flash[0], (const uint8_t *)flash[1]}, BYTES, erase, write};

int main(void) {
    uint32_t bytes;
    for (unsigned slot = 0; slot < NSK_SLOTS; slot++) {
        erase(0, slot);
    }
    const unsigned last = nsk_slot_last(&slots);
    /*@ assert last <= NSK_SLOTS; */
    for (unsigned slot = 0; slot < NSK_SLOTS; slot++) {
        const uint8_t *model = (const uint8_t *)nsk_slot_model(&slots, slot, &bytes);
        /*@ assert model == 0 || bytes <= BYTES - NSK_SLOT_HEAD; */
        /*@ assert model == 0 || \valid_read(model + (0 .. bytes - 1)); */
    }
    nsk_slot_choose(&slots, (unsigned)Frama_C_interval(0, NSK_SLOTS - 1),
                    (uint32_t)Frama_C_interval(0, BYTES - NSK_SLOT_HEAD));
    Frama_C_show_each_end();
    return 0;
}
