/* Average over windows; pixels in the padding take no part. */
#include "arch.h"
#include "arithmetic.h"
#include "check.h"
#include "format.h"
#include "pool.h"

static NSK_SELDOM bool check(const nsk_model *m, const nsk_layer *l) {
    bool counted = (l->flags & NSK_FLAG_COUNTED) != 0;
    uint32_t multipliers = counted ? nsk_kernel_area(l) : 1U;
    bool good = l->in.channels == l->out.channels && nsk_window_is_good(l) &&
                nsk_check_multipliers(m, l, multipliers, multipliers);
    for (uint32_t k = 0; k < multipliers && good; k++) {
        good = nsk_multiplier_is_good(l, k);
    }
    return good;
}

static NSK_NOINLINE int32_t sum_of(const int8_t *in, int32_t step, int32_t count) {
    int32_t sum = 0;
    for (; count > 0; count--, in += step) {
        sum += *in;
    }
    return sum;
}

static int32_t average_of(const nsk_layer *l, const int8_t *in, int32_t down, int32_t across) {
    const int32_t pixels = down * across;
    int32_t row = l->in.width * l->in.channels;
    int32_t step = l->dilate_across * l->in.channels;
    int32_t sum = -pixels * l->in.zero;
    if (across == l->in.width && step == l->in.channels && l->dilate_down == 1) {
        across = pixels; /* whole rows are one run */
        down = 1;
    }
    for (; down > 0; down--, in += l->dilate_down * row) {
        sum += sum_of(in, step, across);
    }
    uint32_t k = (l->flags & NSK_FLAG_COUNTED) != 0 && pixels > 0 ? (uint32_t)pixels - 1U : 0U;
    return nsk_rescale(sum, nsk_word(l->multipliers, k), l->shifts[k]) + l->out.zero;
}

void NSK_PLAIN_BESIDE_VECTORS(nsk_average_window)(const nsk_layer *l, const int8_t *in,
                                                  int32_t down, int32_t across, int8_t *out) {
    for (int32_t c = 0; c < l->out.channels; c++) {
        int32_t level = nsk_limit(average_of(l, in + c, down, across), l->low, l->high);
        if (l->out.element == 2) {
            ((int16_t *)(void *)out)[c] = (int16_t)level;
        } else {
            out[c] = (int8_t)level;
        }
    }
}

static void run(const nsk_layer *l, int8_t *workspace) {
    nsk_pool(l, workspace, nsk_average_window);
}

const nsk_operation nsk_operation_average_pool = {check, run};
