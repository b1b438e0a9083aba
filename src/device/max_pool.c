/* Maximum, or minimum, over windows; pixels in the padding take no part. */
#include "arithmetic.h"
#include "check.h"
#include "format.h"
#include "pool.h"

static bool check(const nsk_model *m, const nsk_layer *l) {
    (void)m;
    return l->in.channels == l->out.channels && nsk_window_is_good(l);
}

/* The minimum is the maximum of the bits turned round: ~q = -1 - q. */
static int8_t window_most(const nsk_layer *l, const int8_t *in, nsk_window rows,
                          nsk_window columns) {
    int32_t turn = (l->flags & NSK_FLAG_LEAST) != 0 ? -1 : 0;
    int32_t most = -128;
    for (int32_t ky = rows.first; ky < rows.last; ky++) {
        int32_t y = rows.origin + ky * l->dilate_down;
        for (int32_t kx = columns.first; kx < columns.last; kx++) {
            int32_t x = columns.origin + kx * l->dilate_across;
            int32_t value = in[(y * l->in.width + x) * l->in.channels] ^ turn;
            most = value > most ? value : most;
        }
    }
    return nsk_clamp(most ^ turn, l->low, l->high);
}

static void run(const nsk_layer *l, int8_t *workspace) {
    nsk_pool(l, workspace, window_most);
}

const nsk_operation nsk_operation_max_pool = {check, run};
