/* Looks at any pictures of these sizes, any number of them, of too many or too few rows, too. */
#include "__fc_builtin.h"
#include "netsuke/firmware.h"

static const struct {
    unsigned width, height, channels;
} sizes[] = {{1, 1, 1}, {1, 1, 3}, {1, 5, 3}, {7, 1, 1}, {5, 3, 1}, {6, 4, 3}, {24, 16, 3}};

static uint8_t row[24 * 3];
static uint32_t memory[16 + 2 * 24 * 3 / 4];

static void look(unsigned width, unsigned height, unsigned channels) {
    nsk_frame_check frame_check;
    nsk_frame_check_set(&frame_check, width, height, channels, memory);
    /*@ loop unroll 0; */
    while (Frama_C_nondet(0, 1)) {
        nsk_frame_check_start(&frame_check);
        /*@ loop unroll 0; */
        while (Frama_C_nondet(0, 1)) {
            Frama_C_make_unknown((char *)row, sizeof row);
            nsk_frame_check_row(&frame_check, row);
        }
        nsk_frame_check_end(&frame_check);
    }
}

int main(void) {
    for (unsigned i = 0; i < sizeof sizes / sizeof *sizes; i++) {
        look(sizes[i].width, sizes[i].height, sizes[i].channels);
    }
    Frama_C_show_each_end();
    return 0;
}
