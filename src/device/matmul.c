/* Product of two tensors as matrices, one for each row: a pixel of the first meets each pixel of
 * the second, channel by channel. The result of each is a channel of the first's pixel. */
#include "arithmetic.h"
#include "check.h"
#include "dots.h"
#include "format.h"

static NSK_SELDOM bool check(const nsk_model *m, const nsk_layer *l) {
    int64_t most = (int64_t)nsk_reach(l->in.zero) * nsk_reach(l->second.zero) * l->in.channels;
    return l->has_second && l->second.height == l->in.height &&
           l->second.channels == l->in.channels && l->out.height == l->in.height &&
           l->out.width == l->in.width && l->out.channels == l->second.width && most <= INT32_MAX &&
           nsk_check_multipliers(m, l, 1, 1) && nsk_multiplier_is_good(l, 0);
}

/* Pixels x and x + 1 of the first, k and k + 1 of the second, as far as there are such. */
static void put_four(const nsk_layer *l, const nsk_dots *d, int8_t *out) {
    const uint32_t apart = d->left_apart > 0 ? l->out.channels : 0U;
    int32_t sum[4];
    nsk_four_dots(d, sum);
    for (uint32_t i = 0; i < 4; i++) {
        if ((i % 2U == 0 || d->right_apart > 0) && (i < 2U || d->left_apart > 0)) {
            int32_t level = nsk_rescale(sum[i], nsk_word(l->multipliers, 0), l->shifts[0]);
            out[i / 2U * apart + i % 2U] = nsk_clamp(level + l->out.zero, l->low, l->high);
        }
    }
}

static void run(const nsk_layer *l, int8_t *workspace) {
    const uint32_t channels = l->in.channels;
    const uint32_t outputs = l->out.channels;
    const uint32_t pixels = l->out.width;
    const int8_t *second = workspace + l->second.offset;
    int8_t *out = workspace + l->out.offset;
    nsk_dots d;
    d.left = workspace + l->in.offset;
    d.channels = channels;
    d.left_zero = l->in.zero;
    d.right_zero = l->second.zero;
    for (uint32_t y = 0; y < l->out.height; y++) {
        for (uint32_t x = 0; x < pixels; x += 2U) {
            const uint32_t pair = pixels - x > 1U ? 2U : 1U;
            d.left_apart = pair > 1U ? channels : 0;
            d.right = second;
            for (uint32_t k = 0; k < outputs; k += 2U) {
                d.right_apart = outputs - k > 1U ? channels : 0;
                put_four(l, &d, out + k);
                d.right += 2U * channels;
            }
            d.left += pair * channels;
            out += pair * outputs;
        }
        second += outputs * channels;
    }
}

const nsk_operation nsk_operation_matmul = {check, run};
