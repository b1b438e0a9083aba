/* Brings any pictures of these sizes to the frame, by every fit and resampling. Rows are given and
 * taken in any order, too many and too few of them, too. */
#include "__fc_builtin.h"
#include "netsuke/firmware.h"

static const struct {
    uint16_t width, height; /* of the picture */
    uint16_t to_width, to_height;
    uint8_t channels;
} sizes[] = {{4, 4, 4, 4, 3}, {9, 7, 4, 3, 3}, {7, 9, 3, 4, 1}, {24, 5, 4, 4, 1}, {5, 24, 3, 3, 1}};

static uint8_t picture[24 * 3], frame[4 * 3];
static uint32_t memory[2 * 4 * 3];

static void bring(nsk_model *model, unsigned width, unsigned height) {
    nsk_scaler scaler;
    if (nsk_scaler_set(&scaler, model, width, height, memory) != NSK_STATUS_OK) {
        return;
    }
    /*@ loop unroll 0; */
    while (Frama_C_nondet(0, 1)) {
        nsk_scaler_start(&scaler);
        for (unsigned y = 0; y < height; y++) {
            Frama_C_make_unknown((char *)picture, sizeof picture);
            nsk_scaler_put(&scaler, picture);
            while (nsk_scaler_take(&scaler, frame)) {
            }
        }
    }
}

int main(void) {
    nsk_model model = {.width = 0};
    for (unsigned i = 0; i < sizeof sizes / sizeof *sizes; i++) {
        for (unsigned fit = NSK_FIT_STRETCH; fit <= NSK_FIT_PAD; fit++) {
            for (unsigned resample = 0; resample < NSK_RESAMPLES; resample++) {
                model.width = sizes[i].to_width;
                model.height = sizes[i].to_height;
                model.channels = sizes[i].channels;
                model.fit = (nsk_fit)fit;
                model.resample = (nsk_resample)resample;
                bring(&model, sizes[i].width, sizes[i].height);
            }
        }
    }
    Frama_C_show_each_end();
    return 0;
}
