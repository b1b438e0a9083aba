/* Weights in the order that a core's kernels want: the same bytes of flash, the same scores. */
#include <string.h>

#include "../suites.h"
#include "../support.h"
#include "device/crc.h"
#include "device/format.h"
#include "device/layer.h"
#include "grid.h"
#include "reference/reference.h"

enum { PICTURE = 48 * 48 * 3, CLASSES = 6 };

static void draw_frame(uint8_t *frame) {
    for (int i = 0; i < PICTURE; i++) {
        frame[i] = (uint8_t)(i * 61 % 249);
    }
}

static int ordered_layers(const nsk_model_file *file) {
    nsk_model model;
    int count = 0;
    nsk_open(&model, file->bytes, file->size);
    for (unsigned i = 0; i < model.layers; i++) {
        nsk_layer l;
        nsk_layer_decode(&model, i, &l);
        count += nsk_weights_are_paired(&l) || nsk_weights_are_blocked(&l);
    }
    return count;
}

static bool same_bytes(const nsk_model_file *a, const nsk_model_file *b) {
    return a->size == b->size && memcmp(a->bytes, b->bytes, a->size) == 0;
}

/* All of its convolutions, none of its depthwise ones and of its dense one. */
static void the_kiln_line_is_ordered(void) {
    kiln k;
    uint8_t frame[PICTURE];
    int32_t plain[CLASSES];
    int32_t paired[CLASSES];
    int32_t expected[CLASSES];
    kiln_load(&k, 30);
    draw_frame(frame);
    nsk_model_file *m0 = nsk_model_file_for_core(k.file, "cortex-m0");
    nsk_model_file *m4 = nsk_model_file_for_core(k.file, "cortex-m4");
    nsk_model_file *again = nsk_model_file_for_core(m4, "cortex-m7");
    CU_ASSERT(same_bytes(m0, k.file));
    CU_ASSERT_EQUAL(m4->size, k.file->size);
    CU_ASSERT(!same_bytes(m4, k.file));
    CU_ASSERT(same_bytes(again, m4));
    nsk_model_file *back = nsk_model_file_for_core(m4, "cortex-m55");
    CU_ASSERT(same_bytes(back, k.file));
    nsk_model_file_free(back);
    CU_ASSERT_EQUAL(ordered_layers(m4), 6);
    model_scores(k.file, frame, plain);
    model_scores(m4, frame, paired);
    nsk_model model;
    nsk_open(&model, m4->bytes, m4->size);
    nsk_reference_scores(&model, frame, expected);
    CU_ASSERT_EQUAL(memcmp(plain, paired, sizeof plain), 0);
    CU_ASSERT_EQUAL(memcmp(plain, expected, sizeof plain), 0);
    nsk_model_file_free(m0);
    nsk_model_file_free(m4);
    nsk_model_file_free(again);
    kiln_free(&k);
}

/* The same scores, and each order from each other. */
static void blocks_are_the_same_model(void) {
    kiln k;
    uint8_t frame[PICTURE];
    int32_t plain[CLASSES];
    int32_t blocked[CLASSES];
    int32_t expected[CLASSES];
    nsk_model model;
    kiln_load(&k, 30);
    draw_frame(frame);
    nsk_model_file *vectors = nsk_model_file_for_core(k.file, "rv32imac-zve32x");
    nsk_model_file *m4 = nsk_model_file_for_core(vectors, "cortex-m4");
    nsk_model_file *again = nsk_model_file_for_core(m4, "rv32imac-zve32x");
    nsk_model_file *back = nsk_model_file_for_core(again, "rv32imac");
    CU_ASSERT_EQUAL(ordered_layers(vectors), 6);
    CU_ASSERT_EQUAL(vectors->bytes[NSK_H_VERSION], NSK_VERSION_BLOCKED);
    CU_ASSERT_EQUAL(m4->bytes[NSK_H_VERSION], NSK_VERSION_ORDERED);
    CU_ASSERT(same_bytes(again, vectors));
    CU_ASSERT(same_bytes(back, k.file));
    model_scores(k.file, frame, plain);
    model_scores(vectors, frame, blocked);
    CU_ASSERT_EQUAL_FATAL(nsk_open(&model, vectors->bytes, vectors->size), NSK_STATUS_OK);
    nsk_reference_scores(&model, frame, expected);
    CU_ASSERT_EQUAL(memcmp(plain, blocked, sizeof plain), 0);
    CU_ASSERT_EQUAL(memcmp(plain, expected, sizeof plain), 0);
    nsk_model_file *const files[] = {vectors, m4, again, back};
    for (size_t i = 0; i < G_N_ELEMENTS(files); i++) {
        nsk_model_file_free(files[i]);
    }
    kiln_free(&k);
}

/* Sixteen outputs stand together, tap by tap; what is left, in a block of its own. */
static void blocks_stand_as_documented(void) {
    const grid_shape shape = {NSK_KIND_CONV, 4, 8, 20, 1, 1};
    nsk_error error = {.text = ""};
    nsk_model models[2];
    nsk_layer l[2];
    nsk_model_file *file = grid_model(&shape, GRID_PLAIN, &error);
    nsk_model_file *blocked = nsk_model_file_for_core(file, "rv32imac-zve32x");
    CU_ASSERT_EQUAL_FATAL(nsk_open(&models[0], file->bytes, file->size), NSK_STATUS_OK);
    CU_ASSERT_EQUAL_FATAL(nsk_open(&models[1], blocked->bytes, blocked->size), NSK_STATUS_OK);
    nsk_layer_decode(&models[0], GRID_TESTED_LAYER, &l[0]);
    nsk_layer_decode(&models[1], GRID_TESTED_LAYER, &l[1]);
    for (int c = 0; c < 20; c++) {
        for (int tap = 0; tap < 8; tap++) {
            const int at = c < 16 ? 16 * tap + c : 16 * 8 + 4 * tap + c - 16;
            CU_ASSERT_EQUAL(l[1].weights[at], l[0].weights[8 * c + tap]);
        }
    }
    nsk_model_file_free(blocked);
    nsk_model_file_free(file);
}

/* A file in a core's order is read in the usual one. */
static void files_are_read_in_either_order(void) {
    kiln k;
    nsk_error error;
    char *folder = scratch_new();
    char *path = scratch_path(folder, "m.nsk");
    kiln_load(&k, 6);
    nsk_model_file *m4 = nsk_model_file_for_core(k.file, "cortex-m33");
    CU_ASSERT_FATAL(nsk_model_file_write(m4, path, &error));
    nsk_model_file *read = nsk_model_file_read(path, &error);
    CU_ASSERT_PTR_NOT_NULL_FATAL(read);
    CU_ASSERT(same_bytes(read, k.file));
    CU_ASSERT_EQUAL(read->weight_bytes, k.file->weight_bytes);
    nsk_model_file_free(read);
    nsk_model_file_free(m4);
    g_free(path);
    scratch_remove(folder);
    kiln_free(&k);
}

/* Odd outputs, and so few pixels that others are quicker. */
static void what_gains_nothing_stays(void) {
    static const struct {
        grid_shape shape;
        bool paired;
    } cases[] = {{{NSK_KIND_CONV, 12, 16, 20, 3, 1}, true},
                 {{NSK_KIND_CONV, 12, 16, 21, 3, 1}, false},
                 {{NSK_KIND_CONV, 2, 16, 20, 1, 1}, true},
                 {{NSK_KIND_CONV, 1, 16, 20, 1, 1}, false},
                 {{NSK_KIND_DENSE, 1, 16, 20, 1, 1}, false}};
    for (size_t i = 0; i < G_N_ELEMENTS(cases); i++) {
        nsk_error error = {.text = ""};
        nsk_model model;
        nsk_layer l;
        nsk_model_file *file = grid_model(&cases[i].shape, GRID_PLAIN, &error);
        nsk_model_file *m4 = nsk_model_file_for_core(file, "cortex-m4");
        CU_ASSERT_EQUAL_FATAL(nsk_open(&model, m4->bytes, m4->size), NSK_STATUS_OK);
        nsk_layer_decode(&model, GRID_TESTED_LAYER, &l);
        CU_ASSERT_EQUAL(nsk_weights_are_paired(&l), cases[i].paired);
        nsk_model_file_free(m4);
        nsk_model_file_free(file);
    }
}

static void seal(nsk_model_file *file) {
    uint32_t crc = nsk_crc32(0, file->bytes, NSK_H_CRC);
    crc = nsk_crc32(crc, file->bytes + NSK_H_WORKSPACE, file->size - NSK_H_WORKSPACE);
    for (int i = 0; i < 4; i++) {
        file->bytes[NSK_H_CRC + i] = (uint8_t)(crc >> (8 * i));
    }
}

/* A flag that a file's version does not know; a pair that stands for a weight of 128; sums that
 * have no room beside each other. */
static void wrong_pairs_are_refused(void) {
    kiln k;
    nsk_model model;
    kiln_load(&k, 6);
    nsk_model_file *m4 = nsk_model_file_for_core(k.file, "cortex-m4");
    m4->bytes[NSK_H_VERSION] = NSK_VERSION;
    seal(m4);
    CU_ASSERT_EQUAL(nsk_open(&model, m4->bytes, m4->size), NSK_STATUS_INCONSISTENT);
    m4->bytes[NSK_H_VERSION] = NSK_VERSION_ORDERED;
    seal(m4);
    CU_ASSERT_EQUAL_FATAL(nsk_open(&model, m4->bytes, m4->size), NSK_STATUS_OK);
    nsk_layer l;
    nsk_layer_decode(&model, 0, &l);
    uint8_t *weights = m4->bytes + (l.weights - model.bytes);
    uint8_t *requantise = m4->bytes + (l.requantise - model.bytes);
    const uint8_t was[] = {weights[0], weights[1]};
    weights[0] = 0xff; /* -1 + 256 x 128 */
    weights[1] = 0x7f;
    seal(m4);
    CU_ASSERT_EQUAL(nsk_open(&model, m4->bytes, m4->size), NSK_STATUS_INCONSISTENT);
    memcpy(weights, was, sizeof was);
    requantise[3] = 0x7f; /* a bias of nearly 2^22 and the weights' sums: within 2^23 */
    seal(m4);
    CU_ASSERT_EQUAL(nsk_open(&model, m4->bytes, m4->size), NSK_STATUS_OK);
    for (int i = 0; i < 2 * 28; i++) { /* and with weights of 127 no more */
        weights[i] = 127;
    }
    seal(m4);
    CU_ASSERT_EQUAL(nsk_open(&model, m4->bytes, m4->size), NSK_STATUS_INCONSISTENT);
    nsk_model_file_free(m4);
    kiln_free(&k);
}

/* In a file of a version that has none; with a weight that has no room. */
static void wrong_blocks_are_refused(void) {
    kiln k;
    nsk_model model;
    nsk_layer l;
    kiln_load(&k, 6);
    nsk_model_file *vectors = nsk_model_file_for_core(k.file, "rv32imac-zve32x");
    const uint8_t others[] = {NSK_VERSION, NSK_VERSION_ORDERED};
    for (size_t i = 0; i < sizeof others; i++) {
        vectors->bytes[NSK_H_VERSION] = others[i];
        seal(vectors);
        CU_ASSERT_EQUAL(nsk_open(&model, vectors->bytes, vectors->size), NSK_STATUS_INCONSISTENT);
    }
    vectors->bytes[NSK_H_VERSION] = NSK_VERSION_BLOCKED;
    seal(vectors);
    CU_ASSERT_EQUAL_FATAL(nsk_open(&model, vectors->bytes, vectors->size), NSK_STATUS_OK);
    nsk_layer_decode(&model, 0, &l);
    vectors->bytes[l.weights - model.bytes] = 0x80;
    seal(vectors);
    CU_ASSERT_EQUAL(nsk_open(&model, vectors->bytes, vectors->size), NSK_STATUS_INCONSISTENT);
    nsk_model_file_free(vectors);
    kiln_free(&k);
}

CU_TestInfo ordered_tests[] = {
    {"the kiln line is ordered", the_kiln_line_is_ordered},
    {"files are read in either order", files_are_read_in_either_order},
    {"what gains nothing stays", what_gains_nothing_stays},
    {"wrong pairs are refused", wrong_pairs_are_refused},
    {"blocks are the same model", blocks_are_the_same_model},
    {"blocks stand as documented", blocks_stand_as_documented},
    {"wrong blocks are refused", wrong_blocks_are_refused},
    CU_TEST_INFO_NULL,
};
