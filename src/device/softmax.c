/* Softmax over the channels of each pixel. Two tables of sixteen u16: e^(-scale d) of d = 0, 16, 32
 * ... and of d = 0, 1, 2 ... steps below the highest input, in units of 1/65535. */
#include "arithmetic.h"
#include "check.h"
#include "format.h"

static uint32_t part(const nsk_layer *l, int32_t below) {
    const uint8_t *coarse = l->table + 2 * (below >> 4);
    const uint8_t *fine = l->table + 2 * NSK_SOFTMAX_ENTRIES + 2 * (below & 15);
    return (nsk_load16(coarse) * nsk_load16(fine) + 0x8000U) >> 16;
}

static NSK_SELDOM bool check(const nsk_model *m, const nsk_layer *l) {
    return nsk_same_size(&l->in, &l->out) &&
           nsk_lies_inside(m, l->table, 2 * 2 * NSK_SOFTMAX_ENTRIES, 2) && part(l, 0) > 0;
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
    const int8_t *in = workspace + l->in.offset;
    int8_t *out = workspace + l->out.offset;
    uint32_t pixels = (uint32_t)l->in.height * l->in.width;
    for (uint32_t i = 0; i < pixels; i++) {
        softmax_pixel(l, in, out);
        in += l->in.channels;
        out += l->in.channels;
    }
}

const nsk_operation nsk_operation_softmax = {check, run};
