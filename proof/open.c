/* Opens any bytes, of any length up to this one. */
#include "__fc_builtin.h"
#include "netsuke/device.h"

enum { MOST_BYTES = 512 };

static uint32_t file[MOST_BYTES / 4];

int main(void) {
    nsk_model model;
    Frama_C_make_unknown((char *)file, sizeof file);
    nsk_open(&model, file, (size_t)Frama_C_interval(0, MOST_BYTES));
    Frama_C_show_each_end();
    return 0;
}
