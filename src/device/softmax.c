/* Softmax over the channels of each pixel. The table holds round(65535 e^(-scale d)) as u16 for
 * d = 0, 1, ... steps below the highest input; past its end the share is nothing. */
#include "arithmetic.h"
#include "check.h"
#include "format.h"

static bool check(const nsk_model *m, const nsk_layer *l) {
    return nsk_same_size(&l->in, &l->out) && l->count >= 1 && l->count <= 256 &&
           nsk_lies_inside(m, l->weights, l->count, 2, 2) && nsk_load16(l->weights) > 0;
}

static uint32_t part(const nsk_layer *l, int32_t below) {
    return (uint32_t)below < l->count ? nsk_load16(l->weights + 2 * below) : 0U;
}

static void softmax_pixel(const nsk_layer *l, const int8_t *in, int8_t *out) {
    int32_t top = -128;
    uint32_t sum = 0;
    for (uint32_t c = 0; c < l->in.channels; c++) {
        top = in[c] > top ? in[c] : top;
    }
    for (uint32_t c = 0; c < l->in.channels; c++) {
        sum += part(l, top - in[c]);
    }
    for (uint32_t c = 0; c < l->in.channels; c++) {
        out[c] = nsk_share(part(l, top - in[c]), sum);
    }
}

static void run(const nsk_layer *l, int8_t *workspace) {
    const int8_t *in = workspace + l->in.place;
    int8_t *out = workspace + l->out.place;
    uint32_t pixels = (uint32_t)l->in.height * l->in.width;
    for (uint32_t i = 0; i < pixels; i++) {
        softmax_pixel(l, in, out);
        in += l->in.channels;
        out += l->in.channels;
    }
}

const nsk_operation nsk_softmax = {check, run};
