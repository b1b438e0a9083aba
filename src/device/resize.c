/* Resizing: each output is blended from two rows and two columns of the input; which, and how much
 * of each, stands in a table. */
#include "arithmetic.h"
#include "check.h"
#include "format.h"

static NSK_SELDOM bool check(const nsk_model *m, const nsk_layer *l) {
    uint32_t rows = l->out.height;
    uint32_t all = rows + l->out.width;
    if (l->in.channels != l->out.channels ||
        !nsk_lies_inside(m, l->blends, NSK_BLEND_BYTES * all, 2)) {
        return false;
    }
    for (uint32_t i = 0; i < all; i++) {
        const uint8_t *at = l->blends + NSK_BLEND_BYTES * i;
        uint32_t size = i < rows ? l->in.height : l->in.width;
        if (nsk_load16(at + NSK_B_FIRST) >= size || nsk_load16(at + NSK_B_SECOND) >= size ||
            nsk_load16(at + NSK_B_PART) > NSK_BLEND_ONE) {
            return false;
        }
    }
    return true;
}

typedef struct blend {
    int32_t first, second, part;
} blend;

static blend blend_at(const nsk_layer *l, int32_t index) {
    const uint8_t *at = l->blends + NSK_BLEND_BYTES * index;
    blend b = {(int32_t)nsk_load16(at + NSK_B_FIRST), (int32_t)nsk_load16(at + NSK_B_SECOND),
               (int32_t)nsk_load16(at + NSK_B_PART)};
    return b;
}

static void blend_pixel(const nsk_layer *l, const int8_t *upper, const int8_t *lower, blend across,
                        int32_t down, int8_t *out) {
    int32_t channels = l->in.channels;
    int32_t first = across.first * channels;
    int32_t second = across.second * channels;
    for (int32_t c = 0; c < channels; c++) {
        int32_t above = nsk_blend_pair(upper[first + c] - l->in.zero,
                                       upper[second + c] - l->in.zero, across.part);
        int32_t below = nsk_blend_pair(lower[first + c] - l->in.zero,
                                       lower[second + c] - l->in.zero, across.part);
        int32_t value = nsk_blend_round(nsk_blend_pair(above, below, down));
        out[c] = nsk_clamp(value + l->out.zero, l->low, l->high);
    }
}

static void run(const nsk_layer *l, int8_t *workspace) {
    const int8_t *in = workspace + l->in.offset;
    int8_t *out = workspace + l->out.offset;
    int32_t row = l->in.width * l->in.channels;
    for (int32_t y = 0; y < l->out.height; y++) {
        blend down = blend_at(l, y);
        for (int32_t x = 0; x < l->out.width; x++, out += l->out.channels) {
            blend_pixel(l, in + down.first * row, in + down.second * row,
                        blend_at(l, l->out.height + x), down.part, out);
        }
    }
}

const nsk_operation nsk_operation_resize = {check, run};
