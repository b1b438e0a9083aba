#include "packed.h"

#include "arch.h"
#include "weights.h"

enum { GROUP = NSK_PACKED_GROUP, WORD = 4, HALVES = 4 /* words that hold their lower bits */ };

static uint32_t bits_of(const nsk_layer *l) {
    return l->flags & NSK_FLAG_BITS;
}

/* Those of a weight that do not fit into half a byte: two at most. */
static uint32_t upper_bits(const nsk_layer *l) {
    const uint32_t bits = bits_of(l);
    return bits > 4U ? bits - 4U : 0U;
}

/* The weight that stands at this byte when they are unpacked. */
static int32_t byte_at(const nsk_layer *l, uint32_t at) {
    const uint32_t bits = bits_of(l);
    const uint32_t upper = upper_bits(l);
    const uint32_t word = at % GROUP / WORD;
    const uint8_t *lane = l->weights + at / GROUP * WORD * bits + at % WORD;
    uint32_t level = (uint32_t)lane[word / 2U * WORD] >> word % 2U * 4U & 15U;
    if (upper > 0) {
        const uint32_t first = word * upper; /* of the upper bits of this lane */
        const uint32_t byte = lane[(HALVES + first / 8U) * WORD];
        level |= (byte >> first % 8U & ((1U << upper) - 1U)) << 4;
    }
    return (int32_t)level - (int32_t)(8U << upper);
}

/* In the order that the flags say. */
static int32_t weight_at(const nsk_layer *l, uint32_t channel, uint32_t tap,
                         const nsk_weights_form *form) {
#if defined(NSK_READS_BLOCKS)
    if (nsk_weights_are_blocked(l)) {
        return byte_at(l, nsk_blocked_place(l->out.channels, form->start, channel, tap));
    }
#endif
    if (nsk_weights_are_paired(l)) {
        const uint32_t at = (channel & ~1U) * form->start + nsk_paired_place(tap);
        const int32_t first = byte_at(l, at);
        return channel % 2U == 0 ? first : byte_at(l, at + 1U) + (first < 0 ? 1 : 0);
    }
    return byte_at(l, channel * form->start + tap);
}

NSK_SELDOM bool nsk_packed_check(const nsk_model *m, const nsk_layer *l, const nsk_packed *packed,
                                 const nsk_weights_form *form) {
    const uint32_t bits = bits_of(l);
    const uint64_t bytes = nsk_packed_groups((uint64_t)l->out.channels * packed->row) * WORD * bits;
    return bits >= NSK_LEAST_BITS && bits <= NSK_MOST_BITS && bytes <= m->size &&
           nsk_lies_inside(m, l->weights, (uint32_t)bytes, WORD) &&
           nsk_lies_inside(m, l->requantise, 4U * l->out.channels, 4) &&
           nsk_scratch_is_good(m, l, packed->behind + nsk_unpacked_room(l, packed->row)) &&
           nsk_weights_fit(l, form, weight_at);
}

static inline void store(uint8_t *to, uint32_t word) {
#if defined(__GNUC__) && __BYTE_ORDER__ == __ORDER_LITTLE_ENDIAN__
    __builtin_memcpy(__builtin_assume_aligned(to, WORD), &word, sizeof word);
#else
    for (uint32_t i = 0; i < WORD; i++) {
        to[i] = (uint8_t)(word >> 8U * i);
    }
#endif
}

/* Of four weights, each so much above zero as the least is below it, the weights. No byte borrows
 * from the next: its highest bit is set first, and turned over afterwards. */
NSK_WRAPS static inline uint32_t centred(uint32_t four, uint32_t zero) {
    const uint32_t highest = UINT32_C(0x80808080);
    return ((four | highest) - zero) ^ highest;
}

/* Groups of weights that have four bits each. */
static NSK_NOINLINE const uint8_t *unpack_halves(const uint8_t *from, uint32_t words, uint8_t *to) {
    const uint32_t low = UINT32_C(0x0f0f0f0f);
    const uint32_t zero = UINT32_C(0x08080808);
    for (; words > 0; words--, from += WORD, to += 2 * WORD) {
        const uint32_t both = nsk_load32(from);
        store(to, centred(both & low, zero));
        store(to + WORD, centred(both >> 4 & low, zero));
    }
    return from;
}

/* Of five or six. */
static NSK_NOINLINE const uint8_t *unpack_more(const uint8_t *from, uint32_t groups, uint32_t upper,
                                               uint8_t *to) {
    const uint32_t low = UINT32_C(0x0f0f0f0f);
    const uint32_t one = UINT32_C(0x01010101);
    const uint32_t zero = one << (upper + 3U);
    const uint32_t high = one * ((1U << upper) - 1U);
    for (; groups > 0; groups--) {
        const uint8_t *more = from + HALVES * WORD;
        uint32_t rest = nsk_load32(more);
        for (uint32_t i = 0; i < HALVES; i++, from += WORD, to += 2 * WORD) {
            const uint32_t both = nsk_load32(from);
            if (i == HALVES / 2 && upper == 2U) {
                more += WORD;
                rest = nsk_load32(more);
            }
            store(to, centred((both & low) | (rest & high) << 4, zero));
            rest >>= upper;
            store(to + WORD, centred((both >> 4 & low) | (rest & high) << 4, zero));
            rest >>= upper;
        }
        from = more + WORD;
    }
    return from;
}

void nsk_packed_run(const nsk_layer *l, const nsk_packed *packed, int8_t *workspace) {
    const uint32_t upper = upper_bits(l);
    uint8_t *rows = (uint8_t *)workspace + l->scratch + packed->behind;
    const uint8_t *from = l->weights;
    nsk_layer piece = *l;
    piece.kind = packed->kind;
    piece.weights = rows;
    for (uint32_t left = l->out.channels; left > 0; left -= piece.out.channels) {
        piece.out.channels = (uint16_t)(left < NSK_UNPACKED ? left : (uint32_t)NSK_UNPACKED);
        const uint32_t groups = (uint32_t)nsk_packed_groups(piece.out.channels * packed->row);
        from = upper == 0 ? unpack_halves(from, groups * HALVES, rows)
                          : unpack_more(from, groups, upper, rows);
        packed->operation->run(&piece, workspace);
        piece.out.offset += piece.out.channels * (uint32_t)piece.out.element;
        piece.requantise += 4U * piece.out.channels;
    }
}
