/* Whether what comes from the camera, and the model, can be trusted. */
#include <string.h>

#include "../arch.h"
#include "hash.h"
#include "netsuke/firmware.h"

/* Room for so many bytes, in whole words. */
static size_t in_words(size_t bytes) {
    return (bytes + 3U) & ~(size_t)3U;
}

size_t nsk_frame_check_bytes(unsigned width, unsigned height, unsigned channels) {
    return sizeof(uint32_t) * height + 2U * in_words((size_t)width * channels);
}

void nsk_frame_check_set(nsk_frame_check *s, unsigned width, unsigned height, unsigned channels,
                         void *memory) {
    memset(s, 0, sizeof *s);
    s->sums = (uint32_t *)memory;
    s->above = (uint8_t *)(s->sums + height);
    s->differs = s->above + in_words((size_t)width * channels);
    s->width = (uint16_t)width;
    s->height = (uint16_t)height;
    s->channels = (uint8_t)channels;
}

void nsk_frame_check_start(nsk_frame_check *s) {
    s->rows = 0;
    s->frozen = s->repeated = s->flat = false;
}

static inline uint32_t word_at(const uint8_t *at) {
    uint32_t word;
#if defined(__GNUC__) /* never a call, hosted or not */
    __builtin_memcpy(&word, at, sizeof word);
#else
    memcpy(&word, at, sizeof word);
#endif
    return word;
}

/* From and to a place of the frame check's own, aligned to four. */
static inline uint32_t own_word(const uint8_t *at) {
#if defined(__GNUC__)
    return word_at((const uint8_t *)__builtin_assume_aligned(at, 4));
#else
    return word_at(at);
#endif
}

static inline void set_word(uint8_t *at, uint32_t word) {
#if defined(__GNUC__)
    __builtin_memcpy(__builtin_assume_aligned(at, 4), &word, sizeof word);
#else
    memcpy(at, &word, sizeof word);
#endif
}

/* Compares a row with the one above, which it then is. The caller's row may stand anywhere. */
static void compare(nsk_frame_check *s, const uint8_t *row) {
    const size_t bytes = (size_t)s->width * s->channels;
    uint8_t *above = s->above;
    uint8_t *differs = s->differs;
    uint32_t any = 0;
    size_t i = 0;
#if defined(NSK_ARCH_ARM_MVE)
    typedef uint32_t four __attribute__((vector_size(16)));
    four anys = {0};
    for (; i + sizeof anys <= bytes; i += sizeof anys) {
        four now;
        four was;
        four had;
        __builtin_memcpy(&now, row + i, sizeof now);
        __builtin_memcpy(&was, above + i, sizeof was);
        __builtin_memcpy(&had, differs + i, sizeof had);
        had |= now ^ was;
        anys |= now ^ was;
        __builtin_memcpy(above + i, &now, sizeof now);
        __builtin_memcpy(differs + i, &had, sizeof had);
    }
    any = anys[0] | anys[1] | anys[2] | anys[3];
#endif
    for (; i + 4U <= bytes; i += 4U) {
        const uint32_t now = word_at(row + i);
        const uint32_t bits = now ^ own_word(above + i);
        any |= bits;
        set_word(above + i, now);
        set_word(differs + i, own_word(differs + i) | bits);
    }
    for (; i < bytes; i++) {
        const unsigned bits = above[i] ^ (unsigned)row[i];
        above[i] = row[i];
        any |= bits;
        differs[i] = (uint8_t)(differs[i] | bits);
    }
    s->repeated = s->repeated || any == 0;
}

static bool is_flat(const uint8_t *row, size_t bytes, unsigned channels) {
    size_t i = channels;
    while (i < bytes && row[i] == row[i - channels]) {
        i++;
    }
    return i >= bytes && bytes > channels;
}

void nsk_frame_check_row(nsk_frame_check *s, const uint8_t *row) {
    const size_t bytes = (size_t)s->width * s->channels;
    if (s->rows >= s->height) {
        return;
    }
    if (s->rows == 0) {
        memcpy(s->above, row, bytes);
        memset(s->differs, 0, bytes);
    } else {
        compare(s, row);
    }
    const uint32_t sum = nsk_hash(0, s->above, bytes);
    s->frozen = s->frozen || (s->has_last && s->sums[s->rows] == sum);
    s->flat = s->flat || is_flat(row, bytes, s->channels);
    s->sums[s->rows++] = sum;
}

nsk_fault nsk_frame_check_end(nsk_frame_check *s) {
    const uint8_t *differs = s->differs;
    s->has_last = true;
    for (unsigned x = 0; x < s->width && s->rows > 1; x++) {
        unsigned bits = 0;
        for (unsigned c = 0; c < s->channels; c++) {
            bits |= *differs++;
        }
        s->flat = s->flat || bits == 0;
    }
    return s->frozen     ? NSK_FAULT_PICTURE_FROZEN
           : s->flat     ? NSK_FAULT_PIXELS_STUCK
           : s->repeated ? NSK_FAULT_ROWS_REPEATED
                         : NSK_FAULT_NONE;
}

uint32_t nsk_hash_of(const nsk_model *model) {
    return nsk_hash(0, model->bytes, model->size);
}

bool nsk_intact(const nsk_model *model, uint32_t hash) {
    return nsk_hash_of(model) == hash;
}
