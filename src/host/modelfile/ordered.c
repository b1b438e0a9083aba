/* Weights in the order that a core's kernels want. */
#include <glib.h>

#include "device/arithmetic.h"
#include "device/check.h"
#include "device/crc.h"
#include "device/format.h"
#include "device/layer.h"
#include "netsuke/quantise.h"

static bool has_pairs(const char *core) {
    static const char *const cores[] = {"cortex-m4",  "cortex-m4f",  "cortex-m7",
                                        "cortex-m33", "cortex-m35p", NULL};
    return g_strv_contains(cores, core) != FALSE;
}

/* Such kernels take four pixels at a time, others one: half as quickly. */
static bool pays(const nsk_model *model, unsigned index, const nsk_layer *l) {
    const bool pieces = index < model->streamed || nsk_writes_over_input(l);
    const int pixels = l->out.width * (pieces ? 1 : l->out.height);
    return pixels >= 2;
}

static bool sums_fit(const nsk_layer *l, int row) {
    const int8_t *weights = (const int8_t *)l->weights;
    for (uint32_t c = 0; c < l->out.channels; c++, weights += row) {
        int64_t most = ABS((int64_t)nsk_requantise_bias(nsk_word(l->requantise, c)));
        for (int i = 0; i < row; i++) {
            most += 128 * ABS((int64_t)weights[i]);
        }
        if (most > NSK_PAIRED_MOST) {
            return false;
        }
    }
    return true;
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

/* Two rows, of a multiple of four bytes, as paired.h has them. */
static void pair_rows(uint8_t *rows, int row) {
    int8_t *first = g_memdup2(rows, 2 * (gsize)row);
    const int8_t *second = first + row;
    for (int i = 0; i < row; i++, rows += 2) {
        const int tap = tap_at(i);
        const unsigned half = (unsigned)(first[tap] + 256 * second[tap]);
        rows[0] = (uint8_t)half;
        rows[1] = (uint8_t)(half >> 8);
    }
    g_free(first);
}

/* The other way. */
static void part_rows(uint8_t *rows, int row) {
    int8_t *pair = g_memdup2(rows, 2 * (gsize)row);
    for (int i = 0; i < 2 * row; i++) {
        rows[i] = (uint8_t)nsk_paired_weight(pair, (uint32_t)(i % row), i >= row);
    }
    g_free(pair);
}

/* Turns all rows of a layer, and what its record says of them. */
static void turn_layer(const nsk_model *model, unsigned index, const nsk_layer *l,
                       void (*turn)(uint8_t *rows, int row), uint8_t *bytes) {
    const int row = nsk_row_bytes(nsk_conv_taps(l));
    uint8_t *weights = bytes + (l->weights - model->bytes);
    for (int c = 0; c < l->out.channels; c += 2, weights += 2 * row) {
        turn(weights, row);
    }
    bytes[nsk_load32(bytes + NSK_H_LAYERS_AT) + NSK_LAYER_BYTES * index + NSK_L_FLAGS] ^=
        NSK_FLAG_PAIRED;
}

static bool wants_pairs(const nsk_model *model, unsigned index, const nsk_layer *l) {
    return l->kind == NSK_KIND_CONV && nsk_requantise_is_plain(l) &&
           l->out.channels / l->count % 2 == 0 && pays(model, index, l) &&
           !shares(model, index, l) && sums_fit(l, nsk_row_bytes(nsk_conv_taps(l)));
}

static void put_checksum(uint8_t *bytes, size_t size) {
    uint32_t crc = nsk_crc32(0, bytes, NSK_H_CRC);
    crc = nsk_crc32(crc, bytes + NSK_H_WORKSPACE, size - NSK_H_WORKSPACE);
    for (int i = 0; i < 4; i++) {
        bytes[NSK_H_CRC + i] = (uint8_t)(crc >> (8 * i));
    }
}

/* From the usual order, or to it. */
static void turn_layers(nsk_model_file *file, bool to_pairs) {
    nsk_model model;
    bool changed = false;
    uint8_t *bytes = g_memdup2(file->bytes, file->size);
    if (nsk_open(&model, file->bytes, file->size) == NSK_STATUS_OK) {
        for (unsigned i = 0; i < model.layers; i++) {
            nsk_layer l;
            nsk_layer_decode(&model, i, &l);
            if (to_pairs ? wants_pairs(&model, i, &l) : nsk_weights_are_paired(&l)) {
                turn_layer(&model, i, &l, to_pairs ? pair_rows : part_rows, bytes);
                changed = true;
            }
        }
    }
    if (changed) {
        bytes[NSK_H_VERSION] = to_pairs ? NSK_VERSION_ORDERED : NSK_VERSION;
        put_checksum(bytes, file->size);
    }
    g_free(file->bytes);
    file->bytes = bytes;
}

nsk_model_file *nsk_model_file_for_core(const nsk_model_file *file, const char *core) {
    nsk_model_file *ordered = g_memdup2(file, sizeof *file);
    ordered->bytes = g_memdup2(file->bytes, file->size);
    turn_layers(ordered, false);
    if (has_pairs(core)) {
        turn_layers(ordered, true);
    }
    return ordered;
}
