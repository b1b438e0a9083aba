/* Weights in the order that a core's kernels want. */
#include <glib.h>
#include <string.h>

#include "device/arithmetic.h"
#include "device/check.h"
#include "device/crc.h"
#include "device/format.h"
#include "device/layer.h"
#include "modelfile/pack.h"
#include "netsuke/quantise.h"

/* An order, of which convolutions, and of which version a file with it is. */
typedef struct ordering {
    uint8_t flag, version;
    /* Of layers that others share no weights with. */
    bool (*wants)(const nsk_model *model, unsigned index, const nsk_layer *l, int row);
    /* To it, and back to the usual one: the rows of so many outputs of a group. */
    void (*turn)(uint8_t *rows, int outputs, int row);
    void (*turn_back)(uint8_t *rows, int outputs, int row);
} ordering;

/* Such kernels take four pixels at a time, others one: half as quickly. */
static bool pays(const nsk_model *model, unsigned index, const nsk_layer *l) {
    const bool pieces = index < model->streamed || nsk_writes_over_input(l);
    const int pixels = l->out.width * (pieces ? 1 : l->out.height);
    return pixels >= 2;
}

static bool is_packed(const nsk_layer *l) {
    return l->kind == NSK_KIND_CONV_PACKED;
}

static size_t weights_of(const nsk_layer *l, int row) {
    return (size_t)l->out.channels * (size_t)row;
}

/* All weights, a byte each, in the order that they have; g_free. */
static int8_t *bytes_of(const nsk_layer *l, int row) {
    const size_t count = weights_of(l, row);
    int8_t *bytes = g_malloc(count);
    if (is_packed(l)) {
        nsk_unpack_weights(l->weights, count, (int)(l->flags & NSK_FLAG_BITS), bytes);
    } else {
        memcpy(bytes, l->weights, count);
    }
    return bytes;
}

static bool sums_fit(const nsk_layer *l, int row) {
    int8_t *all = bytes_of(l, row);
    const int8_t *weights = all;
    bool fit = true;
    for (uint32_t c = 0; c < l->out.channels; c++, weights += row) {
        int64_t most = ABS((int64_t)nsk_requantise_bias(nsk_word(l->requantise, c)));
        for (int i = 0; i < row; i++) {
            most += 128 * ABS((int64_t)weights[i]);
        }
        fit = fit && most <= NSK_PAIRED_MOST;
    }
    g_free(all);
    return fit;
}

/* Whether another layer reads the same weights. */
static bool shares(const nsk_model *model, unsigned index, const nsk_layer *l) {
    bool shared = false;
    for (unsigned i = 0; i < model->layers && !shared; i++) {
        nsk_layer other;
        nsk_layer_decode(model, i, &other);
        shared = i != index && other.weights == l->weights;
    }
    return shared;
}

/* The taps of a half word, one after the other. */
static int tap_at(int i) {
    static const int order[4] = {0, 2, 1, 3};
    return i / 4 * 4 + order[i % 4];
}

/* Rows of a multiple of four bytes, as paired.h has them. */
static void pair(uint8_t *rows, int outputs, int row) {
    int8_t *usual = g_memdup2(rows, (gsize)outputs * (gsize)row);
    for (int c = 0; c < outputs; c += 2) {
        const int8_t *first = usual + c * row;
        const int8_t *second = first + row;
        for (int i = 0; i < row; i++, rows += 2) {
            const unsigned half = (unsigned)(first[tap_at(i)] + 256 * second[tap_at(i)]);
            rows[0] = (uint8_t)half;
            rows[1] = (uint8_t)(half >> 8);
        }
    }
    g_free(usual);
}

static void part(uint8_t *rows, int outputs, int row) {
    int8_t *paired = g_memdup2(rows, (gsize)outputs * (gsize)row);
    for (int c = 0; c < outputs; c++) {
        const int8_t *both = paired + (c & ~1) * row;
        for (int i = 0; i < row; i++) {
            *rows++ = (uint8_t)nsk_paired_weight(both, (uint32_t)i, c % 2 == 1);
        }
    }
    g_free(paired);
}

/* As blocked.h has them. */
static void block(uint8_t *rows, int outputs, int row) {
    uint8_t *usual = g_memdup2(rows, (gsize)outputs * (gsize)row);
    for (int i = 0; i < outputs * row; i++) {
        rows[nsk_blocked_place((uint32_t)outputs, (uint32_t)row, (uint32_t)(i / row),
                               (uint32_t)(i % row))] = usual[i];
    }
    g_free(usual);
}

static void unblock(uint8_t *rows, int outputs, int row) {
    uint8_t *blocked = g_memdup2(rows, (gsize)outputs * (gsize)row);
    for (int i = 0; i < outputs * row; i++) {
        rows[i] = blocked[nsk_blocked_place((uint32_t)outputs, (uint32_t)row, (uint32_t)(i / row),
                                            (uint32_t)(i % row))];
    }
    g_free(blocked);
}

static bool wants_pairs(const nsk_model *model, unsigned index, const nsk_layer *l, int row) {
    return l->out.channels / l->count % 2 == 0 && pays(model, index, l) && sums_fit(l, row);
}

/* A vector takes fewer outputs in as much time: of few, other kernels are as quick. */
static bool wants_blocks(const nsk_model *model, unsigned index, const nsk_layer *l, int row) {
    enum { LEAST_OUTPUTS = 4 };
    (void)model;
    (void)index;
    (void)row;
    return l->out.channels / (int)l->count >= LEAST_OUTPUTS;
}

static const ordering in_pairs = {NSK_FLAG_PAIRED, NSK_VERSION_ORDERED, wants_pairs, pair, part};
static const ordering in_blocks = {NSK_FLAG_BLOCKED, NSK_VERSION_BLOCKED, wants_blocks, block,
                                   unblock};

/* That core's own, or NULL: the usual one. */
static const ordering *ordering_for(const char *core) {
    static const struct {
        const char *core;
        const ordering *its;
    } cores[] = {{"cortex-m4", &in_pairs},   {"cortex-m4f", &in_pairs},
                 {"cortex-m7", &in_pairs},   {"cortex-m33", &in_pairs},
                 {"cortex-m35p", &in_pairs}, {"rv32imac-zve32x", &in_blocks}};
    for (size_t i = 0; i < G_N_ELEMENTS(cores); i++) {
        if (g_str_equal(core, cores[i].core)) {
            return cores[i].its;
        }
    }
    return NULL;
}

static void put_checksum(uint8_t *bytes, size_t size) {
    uint32_t crc = nsk_crc32(0, bytes, NSK_H_CRC);
    crc = nsk_crc32(crc, bytes + NSK_H_WORKSPACE, size - NSK_H_WORKSPACE);
    for (int i = 0; i < 4; i++) {
        bytes[NSK_H_CRC + i] = (uint8_t)(crc >> (8 * i));
    }
}

/* All groups of a layer, and what its record says of them. */
static void turn_layer(const nsk_model *model, unsigned index, const nsk_layer *l, uint8_t flag,
                       void (*turn)(uint8_t *rows, int outputs, int row), uint8_t *bytes) {
    const int row = nsk_row_bytes(nsk_conv_taps(l));
    const int outputs = l->out.channels / (int)l->count;
    uint8_t *weights = bytes + (l->weights - model->bytes);
    int8_t *all = bytes_of(l, row);
    for (int group = 0; group < (int)l->count; group++) {
        turn((uint8_t *)all + group * outputs * row, outputs, row);
    }
    if (is_packed(l)) {
        nsk_pack_weights(all, weights_of(l, row), (int)(l->flags & NSK_FLAG_BITS), weights);
    } else {
        memcpy(weights, all, weights_of(l, row));
    }
    g_free(all);
    bytes[nsk_load32(bytes + NSK_H_LAYERS_AT) + NSK_LAYER_BYTES * index + NSK_L_FLAGS] ^= flag;
}

/* The layers that want it; or all that have it, back. */
static void turn_layers(nsk_model_file *file, const ordering *o, bool back) {
    nsk_model model;
    bool changed = false;
    uint8_t *bytes = g_memdup2(file->bytes, file->size);
    if (nsk_open(&model, file->bytes, file->size) == NSK_STATUS_OK) {
        for (unsigned i = 0; i < model.layers; i++) {
            nsk_layer l;
            nsk_layer_decode(&model, i, &l);
            if (nsk_kind_unpacked(l.kind) != NSK_KIND_CONV) {
                continue;
            }
            const bool has = (l.flags & o->flag) != 0;
            if (back ? has
                     : nsk_requantise_is_plain(&l) && !shares(&model, i, &l) &&
                           o->wants(&model, i, &l, nsk_row_bytes(nsk_conv_taps(&l)))) {
                turn_layer(&model, i, &l, o->flag, back ? o->turn_back : o->turn, bytes);
                changed = true;
            }
        }
    }
    if (changed) {
        bytes[NSK_H_VERSION] = back ? NSK_VERSION : o->version;
        put_checksum(bytes, file->size);
    }
    g_free(file->bytes);
    file->bytes = bytes;
}

nsk_model_file *nsk_model_file_for_core(const nsk_model_file *file, const char *core) {
    const ordering *own = ordering_for(core);
    nsk_model_file *ordered = g_memdup2(file, sizeof *file);
    ordered->bytes = g_memdup2(file->bytes, file->size);
    turn_layers(ordered, &in_pairs, true);
    turn_layers(ordered, &in_blocks, true);
    if (own != NULL) {
        turn_layers(ordered, own, false);
    }
    return ordered;
}
