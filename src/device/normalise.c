/* Normalisation: of a block of numbers each less their mean, over their standard deviation, times a
 * gain and plus an offset of its channel's own. A block is a group of a pixel's channels, or such a
 * group of the whole picture's. Where the network subtracts no mean, none is.
 *
 * With n numbers q in the block, their sum S (or 0, without a mean) and E, which stands in the file
 * for what the network adds to the variance:
 *
 *     V = n x sum of q^2 - S^2 + E          the deviation is sqrt(V) / n
 *     V = v x 4^power, v of 32 bits         root = floor(sqrt(v)), of 16
 *     d = (n q - S) / 2^(power + 4)         in units of 16 / root
 *     z = d x factor / 2^14                 factor = 2^28 / root; z in units of 2^-10
 *
 * Nothing leaves 32 bits behind V: no number is further from the mean than sqrt(n) deviations, so
 * that (n q - S)^2 <= n V, and d is held at 2^17, which is 32 deviations at the least. */
#include "normalise.h"

#include "check.h"

enum { CENTRED = NSK_FLAG_CENTRED, MOST_COUNT = 1 << 22, MOST_LEAST = 1 << 30 };

/* A group's channels of so many pixels. */
typedef struct block {
    const nsk_layer *layer;
    const int8_t *in;
    uint32_t first, channels, pixels;
} block;

static uint32_t root_of(uint32_t v) {
    uint32_t root = 0;
    for (uint32_t bit = 0x8000; bit != 0; bit >>= 1) {
        uint32_t next = root | bit;
        root = next * next <= v ? next : root;
    }
    return root;
}

nsk_spread nsk_spread_of(int32_t count, int32_t from, uint64_t variance) {
    nsk_spread s = {count, from, 1, 0, 0};
    int32_t power = 0;
    while (variance >> 32 != 0) {
        variance >>= 2;
        power++;
    }
    uint32_t v = (uint32_t)variance;
    while (v >> 30 == 0) {
        v <<= 2;
        power--;
    }
    const uint32_t root = root_of(v);
    s.up = power < -4 ? INT32_C(1) << (-4 - power) : 1;
    s.down = power > -4 ? power + 4 : 0;
    s.factor = (int32_t)(((UINT32_C(1) << 28) + root / 2U) / root);
    return s;
}

static nsk_spread measure(const block *b) {
    const nsk_layer *l = b->layer;
    const int32_t zero = l->in.zero;
    const int8_t *in = b->in;
    int32_t sum = 0;
    uint64_t squares = 0;
    for (uint32_t p = 0; p < b->pixels; p++) {
        uint32_t of_pixel = 0; /* 65535 squares of 255 fit */
        for (uint32_t c = 0; c < b->channels; c++) {
            int32_t q = in[c] - zero;
            sum += q;
            of_pixel += (uint32_t)(q * q);
        }
        squares += of_pixel;
        in += l->in.channels;
    }
    const uint32_t count = b->pixels * b->channels;
    sum = (l->flags & CENTRED) != 0 ? sum : 0;
    return nsk_spread_of((int32_t)count, (int32_t)count * zero + sum,
                         count * squares - (uint64_t)((int64_t)sum * sum) + nsk_normalise_least(l));
}

/* A function of its own, and with copies of what does not change: bytes that are written could
 * stand anywhere, for all that a compiler knows. */
static NSK_NOINLINE void write_channels(const block *b, const nsk_spread *s, const int8_t *in,
                                        int8_t *out) {
    const nsk_layer *l = b->layer;
    const uint8_t *gain = l->table + 2U * b->first;
    const uint8_t *offset = l->requantise + 4U * b->first;
    const int8_t *end = in + b->channels;
    const int32_t shift = nsk_word(l->multipliers, NSK_N_SHIFT);
    const int32_t low = l->low;
    const int32_t high = l->high;
    const nsk_spread by = *s;
    for (; in < end; gain += 2, offset += 4) {
        *out++ = nsk_clamp(
            nsk_normalised(&by, *in++, (int16_t)nsk_load16(gain), nsk_word(offset, 0), shift), low,
            high);
    }
}

/* All groups of `pixels` pixels. */
static void normalise(const nsk_layer *l, const int8_t *in, int8_t *out, uint32_t pixels) {
    const uint32_t channels = l->in.channels / l->count;
    for (uint32_t first = 0; first < l->in.channels; first += channels) {
        const block b = {l, in + first, first, channels, pixels};
        const nsk_spread s = measure(&b);
        for (uint32_t p = 0; p < pixels; p++) {
            write_channels(&b, &s, b.in + p * l->in.channels, out + first + p * l->in.channels);
        }
    }
}

static NSK_SELDOM bool numbers_are_good(const nsk_layer *l, uint32_t most) {
    int32_t shift = nsk_word(l->multipliers, NSK_N_SHIFT);
    uint32_t high = (uint32_t)nsk_word(l->multipliers, NSK_N_LEAST + 1);
    bool good = shift >= 0 && shift < 31 && high < most &&
                (high | (uint32_t)nsk_word(l->multipliers, NSK_N_LEAST)) != 0;
    for (uint32_t c = 0; c < l->in.channels && good; c++) {
        int32_t gain = (int16_t)nsk_load16(l->table + 2U * c);
        int32_t offset = nsk_word(l->requantise, c);
        good = gain >= -NSK_MOST_GAIN && gain <= NSK_MOST_GAIN && offset >= -NSK_MOST_OFFSET &&
               offset <= NSK_MOST_OFFSET;
    }
    return good;
}

bool nsk_check_normalise(const nsk_model *m, const nsk_layer *l, uint32_t pixels, uint32_t most) {
    const uint32_t channels = l->in.channels;
    const uint32_t each = l->count > 0 ? channels / l->count : 0;
    return nsk_same_size(&l->in, &l->out) && each > 0 && each * l->count == channels &&
           pixels <= MOST_COUNT / each && nsk_lies_inside(m, l->table, 2 * channels, 2) &&
           nsk_lies_inside(m, l->requantise, 4 * channels, 4) &&
           nsk_lies_inside(m, l->multipliers, 4 * NSK_N_WORDS, 4) && numbers_are_good(l, most);
}

static NSK_SELDOM bool check(const nsk_model *m, const nsk_layer *l) {
    return nsk_check_normalise(m, l, 1, MOST_LEAST);
}

static void run(const nsk_layer *l, int8_t *workspace) {
    const uint32_t channels = l->in.channels;
    const uint32_t end = nsk_tensor_elements(&l->in);
    for (uint32_t at = 0; at < end; at += channels) {
        normalise(l, workspace + l->in.offset + at, workspace + l->out.offset + at, 1);
    }
}

const nsk_operation nsk_operation_normalise = {check, run};

static NSK_SELDOM bool check_whole(const nsk_model *m, const nsk_layer *l) {
    return nsk_check_normalise(m, l, (uint32_t)l->in.height * l->in.width, MOST_LEAST);
}

static void run_whole(const nsk_layer *l, int8_t *workspace) {
    normalise(l, workspace + l->in.offset, workspace + l->out.offset,
              (uint32_t)l->in.height * l->in.width);
}

const nsk_operation nsk_operation_normalise_whole = {check_whole, run_whole};
