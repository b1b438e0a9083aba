/* Normalisation of groups of a pixel's channels that are fine: in parts of a level, everything of
 * the usual one is 256 times as large, variances 65536 times. Outputs are levels. */
#include "check.h"
#include "fine.h"
#include "normalise.h"

/* So many numbers in a block, and so large an upper word added to their variance, keep all of it in
 * 64 bits, and sums in 32. */
enum { MOST_COUNT = 1 << 12, MOST_LEAST = 1 << 14 };

static bool check(const nsk_model *m, const nsk_layer *l) {
    return nsk_elements_are_fine(l) && l->in.element == 2 && l->out.element == 1 &&
           nsk_check_normalise(m, l, 1, MOST_LEAST) && l->in.channels <= MOST_COUNT * l->count;
}

static nsk_spread measure(const nsk_layer *l, const int16_t *in, int32_t count) {
    const int32_t zero = nsk_zero_parts(&l->in);
    int32_t sum = 0;
    uint64_t squares = 0;
    for (const int16_t *end = in + count; in < end; in++) {
        const int32_t q = *in - zero;
        const uint32_t size = (uint32_t)(q < 0 ? -q : q);
        sum += q;
        squares += size * size;
    }
    sum = (l->flags & NSK_FLAG_CENTRED) != 0 ? sum : 0;
    return nsk_spread_of(count, count * zero + sum,
                         (uint32_t)count * squares - (uint64_t)((int64_t)sum * sum) +
                             (nsk_normalise_least(l) << (2 * NSK_PART_BITS)));
}

/* A group of a pixel's channels, from channel `first` on. */
static void write_group(const nsk_layer *l, const int16_t *in, int8_t *out, uint32_t first,
                        int32_t count) {
    const nsk_spread by = measure(l, in, count);
    const uint8_t *gain = l->table + 2U * first;
    const uint8_t *offset = l->requantise + 4U * first;
    const int32_t shift = nsk_word(l->multipliers, NSK_N_SHIFT);
    const int32_t low = l->low;
    const int32_t high = l->high;
    for (const int16_t *end = in + count; in < end; gain += 2, offset += 4) {
        *out++ = nsk_clamp(
            nsk_normalised(&by, *in++, (int16_t)nsk_load16(gain), nsk_word(offset, 0), shift), low,
            high);
    }
}

static void run(const nsk_layer *l, int8_t *workspace) {
    const uint32_t channels = l->in.channels;
    const uint32_t group = channels / l->count;
    const uint32_t end = nsk_tensor_elements(&l->in);
    const int16_t *in = (const int16_t *)(const void *)(workspace + l->in.offset);
    int8_t *out = workspace + l->out.offset;
    for (uint32_t at = 0; at < end; at += group) {
        write_group(l, in + at, out + at, at % channels, (int32_t)group);
    }
}

const nsk_operation nsk_operation_normalise_fine = {check, run};
