/* Maximum, or minimum, over windows; pixels in the padding take no part. */
#include "arch.h"
#include "arithmetic.h"
#include "check.h"
#include "format.h"
#include "pool.h"

static NSK_SELDOM bool check(const nsk_model *m, const nsk_layer *l) {
    (void)m;
    return l->in.channels == l->out.channels && nsk_window_is_good(l);
}

/* The minimum is the maximum of the bits turned round: ~q = -1 - q. */
static int32_t most_of(const nsk_layer *l, const int8_t *in, int32_t down, int32_t across) {
    const int32_t turn = (l->flags & NSK_FLAG_LEAST) != 0 ? -1 : 0;
    const int32_t step = l->dilate_across * l->in.channels;
    const int32_t row = l->dilate_down * l->in.width * l->in.channels;
    int32_t most = -128;
    for (; down > 0; down--, in += row) {
        const int8_t *at = in;
        for (int32_t left = across; left > 0; left--, at += step) {
            int32_t value = *at ^ turn;
            most = value > most ? value : most;
        }
    }
    return most ^ turn;
}

void NSK_PLAIN_BESIDE_VECTORS(nsk_most_window)(const nsk_layer *l, const int8_t *in, int32_t down,
                                               int32_t across, int8_t *out) {
    for (int32_t c = 0; c < l->out.channels; c++) {
        out[c] = nsk_clamp(most_of(l, in + c, down, across), l->low, l->high);
    }
}

static void run(const nsk_layer *l, int8_t *workspace) {
    nsk_pool(l, workspace, nsk_most_window);
}

const nsk_operation nsk_operation_max_pool = {check, run};
