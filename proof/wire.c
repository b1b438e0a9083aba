/* Takes any bytes as they may come over a link, any number of them, and reads any message: whole
 * ones, cut ones, nested ones. */
#include "../src/device/firmware/wire.h"
#include "__fc_builtin.h"

enum { ROOM = 48 };

static uint8_t room[ROOM];

static void one_byte(nsk_link_inbox *inbox, nsk_wire_map *map) {
    if (nsk_wire_take(inbox, (uint8_t)Frama_C_interval(0, 255))) {
        nsk_wire_read(map, inbox->bytes, inbox->count);
    }
}

int main(void) {
    nsk_link_inbox inbox = {room, ROOM, 0, false, false, false};
    nsk_wire_map map;
    while (Frama_C_nondet(0, 1)) {
        one_byte(&inbox, &map);
    }
    Frama_C_make_unknown((char *)room, sizeof room);
    nsk_wire_read(&map, room, (uint32_t)Frama_C_interval(0, ROOM));
    Frama_C_show_each_end();
    return 0;
}
