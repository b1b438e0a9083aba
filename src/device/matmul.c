/* Product of two tensors as matrices, one for each row: a pixel of the first meets each pixel of
 * the second, channel by channel. The result of each is a channel of the first's pixel. */
#include "arithmetic.h"
#include "check.h"
#include "format.h"

static bool check(const nsk_model *m, const nsk_layer *l) {
    int64_t most = (int64_t)nsk_reach(l->in.zero) * nsk_reach(l->second.zero) * l->in.channels;
    return l->has_second && l->second.height == l->in.height &&
           l->second.channels == l->in.channels && l->out.height == l->in.height &&
           l->out.width == l->in.width && l->out.channels == l->second.width && most <= INT32_MAX &&
           nsk_check_multipliers(m, l, 1, 1) && nsk_multiplier_is_good(l, 0);
}

static int32_t dot(const nsk_layer *l, const int8_t *a, const int8_t *b) {
    const int32_t left = l->in.zero;
    const int32_t right = l->second.zero;
    const uint32_t channels = l->in.channels;
    int32_t sum = 0;
    for (uint32_t c = 0; c < channels; c++) {
        sum += (a[c] - left) * (b[c] - right);
    }
    return sum;
}

static void run(const nsk_layer *l, int8_t *workspace) {
    const int8_t *in = workspace + l->in.offset;
    const int8_t *second = workspace + l->second.offset;
    int8_t *out = workspace + l->out.offset;
    const uint32_t channels = l->in.channels;
    const uint32_t outputs = l->out.channels;
    for (uint32_t y = 0; y < l->out.height; y++) {
        for (uint32_t x = 0; x < l->out.width; x++) {
            for (uint32_t k = 0; k < outputs; k++) {
                int32_t sum = dot(l, in, second + k * channels);
                int32_t level = nsk_rescale(sum, nsk_word(l->multipliers, 0), l->shifts[0]);
                *out++ = nsk_clamp(level + l->out.zero, l->low, l->high);
            }
            in += channels;
        }
        second += outputs * channels;
    }
}

const nsk_operation nsk_operation_matmul = {check, run};
