/* Weights of fewer than 8 bits in flash: the model that 8 bits with the same levels would be. */
#include <math.h>
#include <stdlib.h>
#include <string.h>

#include "../network_text.h"
#include "../suites.h"
#include "../support.h"
#include "device/crc.h"
#include "device/format.h"
#include "device/scratch.h"
#include "netsuke/compare.h"
#include "netsuke/narrower.h"
#include "reference/reference.h"

enum { PICTURE = 48 * 48 * 3, CLASSES = 6 };

static nsk_model_file *quantise(const kiln *k, int bits, nsk_streaming_wish streaming) {
    nsk_error error = {.text = ""};
    nsk_recipe recipe;
    nsk_recipe_init(&recipe);
    recipe.bits = bits;
    recipe.streaming = streaming;
    nsk_model_file *file = nsk_quantise(k->network, k->calibration, &recipe, &error);
    assert_error(&error, "");
    CU_ASSERT_PTR_NOT_NULL_FATAL(file);
    return file;
}

static void put32(uint8_t *at, uint32_t value) {
    for (int i = 0; i < 4; i++) {
        at[i] = (uint8_t)(value >> (8 * i));
    }
}

static void seal(uint8_t *bytes, size_t size) {
    uint32_t crc = nsk_crc32(0, bytes, NSK_H_CRC);
    put32(bytes + NSK_H_CRC, nsk_crc32(crc, bytes + NSK_H_WORKSPACE, size - NSK_H_WORKSPACE));
}

/* Bit by bit as docs/model-file.md has them: of weights in groups of 32, four words for their lower
 * halves, then those of what is above. */
static int level_at(const nsk_layer *l, size_t i, int bits) {
    const uint8_t *group = l->weights + i / 32 * (size_t)(4 * bits);
    const size_t word = i % 32 / 4;
    int level = group[word / 2 * 4 + i % 4] >> (word % 2 == 0 ? 0 : 4) & 15;
    if (bits == 5) {
        level += (group[16 + i % 4] >> word & 1) * 16;
    } else if (bits == 6) {
        level += (group[16 + word / 4 * 4 + i % 4] >> (word % 4 * 2) & 3) * 16;
    }
    return level - (1 << (bits - 1));
}

/* The same model with a byte for each weight, behind all else: its layers are of the kinds that
 * they are besides. g_free. */
static uint8_t *unpacked(const nsk_model_file *file, int bits, size_t *size, int *layers) {
    nsk_model model;
    CU_ASSERT_EQUAL_FATAL(nsk_open(&model, file->bytes, file->size), NSK_STATUS_OK);
    GByteArray *bytes = g_byte_array_new();
    g_byte_array_append(bytes, file->bytes, (guint)file->size);
    const uint8_t zeroes[4] = {0};
    *layers = 0;
    for (unsigned i = 0; i < model.layers; i++) {
        nsk_layer l;
        nsk_layer_decode(&model, i, &l);
        if (l.kind != NSK_KIND_CONV_PACKED && l.kind != NSK_KIND_DENSE_PACKED) {
            continue;
        }
        const bool conv = l.kind == NSK_KIND_CONV_PACKED;
        const int row = conv ? nsk_row_bytes(nsk_conv_taps(&l)) : (int)nsk_dense_row(&l);
        CU_ASSERT_EQUAL((int)(l.flags & 7U), bits);
        g_byte_array_append(bytes, zeroes, (4 - bytes->len % 4) % 4);
        uint8_t *record =
            bytes->data + nsk_load32(file->bytes + NSK_H_LAYERS_AT) + (size_t)NSK_LAYER_BYTES * i;
        record[NSK_L_KIND] = conv ? NSK_KIND_CONV : NSK_KIND_DENSE;
        put32(record + NSK_L_WEIGHTS_AT, bytes->len);
        for (int k = 0; k < l.out.channels * row; k++) {
            const int8_t level = (int8_t)level_at(&l, (size_t)k, bits);
            CU_ASSERT(abs(level) < 1 << (bits - 1));
            g_byte_array_append(bytes, (const uint8_t *)&level, 1);
        }
        ++*layers;
    }
    g_byte_array_append(bytes, zeroes, 1);
    put32(bytes->data + NSK_H_SIZE, bytes->len);
    seal(bytes->data, bytes->len);
    *size = bytes->len;
    return g_byte_array_free(bytes, FALSE);
}

static void the_same_scores(const nsk_model_file *file, int bits) {
    uint8_t frame[PICTURE];
    int32_t scores[CLASSES];
    int32_t plain[CLASSES];
    int32_t expected[CLASSES];
    nsk_model_file whole = {.bytes = NULL};
    nsk_model model;
    int layers = 0;
    whole.bytes = unpacked(file, bits, &whole.size, &layers);
    CU_ASSERT_EQUAL(layers, 6); /* all 1 x 1 convolutions, the dense one */
    CU_ASSERT_EQUAL_FATAL(nsk_open(&model, whole.bytes, whole.size), NSK_STATUS_OK);
    for (int i = 0; i < PICTURE; i++) {
        frame[i] = (uint8_t)(i * 61 % 249);
    }
    model_scores(file, frame, scores);
    model_scores(&whole, frame, plain);
    CU_ASSERT_EQUAL(memcmp(scores, plain, sizeof plain), 0);
    CU_ASSERT_EQUAL_FATAL(nsk_open(&model, file->bytes, file->size), NSK_STATUS_OK);
    nsk_reference_scores(&model, frame, expected);
    CU_ASSERT_EQUAL(memcmp(scores, expected, sizeof expected), 0);
    g_free(whole.bytes);
}

/* Whole and streamed, in the order of each core: the scores of 8 bits with the same levels. */
static void packed_weights_are_the_same_model(void) {
    kiln k;
    kiln_load(&k, 30);
    for (int bits = 4; bits <= 6; bits++) {
        nsk_model_file *file = quantise(&k, bits, NSK_STREAMING_NEVER);
        nsk_model_file *streamed = quantise(&k, bits, NSK_STREAMING_ALWAYS);
        the_same_scores(file, bits);
        the_same_scores(streamed, bits);
        const double share = (double)file->size / (double)k.file->size;
        CU_ASSERT(bits != 4 || share < 0.6);
        static const char *const cores[] = {"cortex-m4", "rv32imac-zve32x"};
        for (size_t c = 0; c < G_N_ELEMENTS(cores); c++) {
            uint8_t frame[PICTURE];
            int32_t scores[2][CLASSES];
            memset(frame, 77, sizeof frame);
            nsk_model_file *ordered = nsk_model_file_for_core(file, cores[c]);
            nsk_model_file *back = nsk_model_file_for_core(ordered, "cortex-m0");
            CU_ASSERT(memcmp(ordered->bytes, file->bytes, file->size) != 0);
            CU_ASSERT_EQUAL(memcmp(back->bytes, file->bytes, file->size), 0);
            model_scores(file, frame, scores[0]);
            model_scores(ordered, frame, scores[1]);
            CU_ASSERT_EQUAL(memcmp(scores[0], scores[1], sizeof scores[0]), 0);
            nsk_model_file_free(ordered);
            nsk_model_file_free(back);
        }
        nsk_model_file_free(file);
        nsk_model_file_free(streamed);
    }
    kiln_free(&k);
}

/* Four bits by the usual recipe on pictures of the held-out set. */
static void four_bits_keep_the_kiln_line(void) {
    kiln k;
    nsk_error error = {.text = ""};
    kiln_load(&k, 120);
    nsk_model_file *file = quantise(&k, 4, NSK_STREAMING_NEVER);
    nsk_comparison *c = nsk_compare(k.network, file, k.held_out, NULL, NULL, &error);
    CU_ASSERT_PTR_NOT_NULL_FATAL(c);
    CU_ASSERT(c->agree >= 0.97 * c->images);
    nsk_comparison_free(c);
    nsk_model_file_free(file);
    kiln_free(&k);
}

/* ---- files that are wrong ---- */

static nsk_status open_with(const nsk_model_file *file, size_t at, uint32_t value, int size) {
    nsk_model model;
    uint8_t *bytes = g_memdup2(file->bytes, file->size);
    for (int i = 0; i < size; i++) {
        bytes[at + (size_t)i] = (uint8_t)(value >> (8 * i));
    }
    seal(bytes, file->size);
    const nsk_status status = nsk_open(&model, bytes, file->size);
    g_free(bytes);
    return status;
}

/* Numbers of bits that there are not, groups, weights past the file's end or askew, a scratch with
 * no room for what is unpacked. */
static void wrong_packings_are_refused(void) {
    kiln k;
    nsk_model model;
    kiln_load(&k, 6);
    nsk_model_file *file = quantise(&k, 5, NSK_STREAMING_NEVER);
    CU_ASSERT_EQUAL_FATAL(nsk_open(&model, file->bytes, file->size), NSK_STATUS_OK);
    int seen = 0;
    for (unsigned i = 0; i < model.layers; i++) {
        nsk_layer l;
        nsk_layer_decode(&model, i, &l);
        const size_t at = nsk_load32(file->bytes + NSK_H_LAYERS_AT) + (size_t)NSK_LAYER_BYTES * i;
        if (nsk_kind_unpacked(l.kind) == l.kind) {
            continue;
        }
        seen++;
        const struct {
            size_t at;
            uint32_t value;
            int size;
        } wrong[] = {
            {at + NSK_L_FLAGS, 0, 1},
            {at + NSK_L_FLAGS, 3, 1},
            {at + NSK_L_FLAGS, 7, 1},
            {at + NSK_L_WEIGHTS_AT, (uint32_t)file->size - 8U, 4},
            {at + NSK_L_WEIGHTS_AT, UINT32_MAX - 3U, 4},
            {at + NSK_L_WEIGHTS_AT, nsk_load32(file->bytes + at + NSK_L_WEIGHTS_AT) + 2U, 4},
            {at + NSK_L_SCRATCH_AT, model.workspace_bytes - 4U, 4},
            {at + NSK_L_SCRATCH_AT, nsk_load32(file->bytes + at + NSK_L_SCRATCH_AT) + 2U, 4},
        };
        for (size_t w = 0; w < G_N_ELEMENTS(wrong); w++) {
            CU_ASSERT_EQUAL(open_with(file, wrong[w].at, wrong[w].value, wrong[w].size),
                            NSK_STATUS_INCONSISTENT);
        }
        if (l.kind == NSK_KIND_CONV_PACKED) {
            CU_ASSERT_EQUAL(open_with(file, at + NSK_L_COUNT, 2, 2), NSK_STATUS_INCONSISTENT);
        }
    }
    CU_ASSERT_EQUAL(seen, 6);
    nsk_model_file_free(file);
    kiln_free(&k);
}

/* ---- which layers ---- */

/* Nodes go by their outputs; what is none of them stays as it is. */
static const char *layer_of(const noisy *n, const char *part) {
    nsk_outline *o = nsk_network_outline(n->network);
    const char *found = part;
    for (int i = 0; i < o->count; i++) {
        found = strstr(o->layers[i].name, part) != NULL ? o->layers[i].name : found;
    }
    nsk_outline_free(o);
    return found;
}

static void bits_go_where_they_can(void) {
    noisy n;
    nsk_error error = {.text = ""};
    nsk_recipe recipe;
    nsk_recipe_init(&recipe);
    noisy_load(&n,
               "Conv x w_8_3_3_3 b_8 > whole pads=l1,1,1,1; Conv whole d_8_1_3_3 > each group=i8 "
               "pads=l1,1,1,1; Conv each u_12_8_1_1 > l; GlobalAveragePool l > g; Flatten g > f; "
               "Gemm f h_5_12 c_5 > z transB=i1",
               5);
    static const struct {
        const char *layer, *said;
    } cases[] = {{"whole", ""},
                 {"each", "only dense layers and convolutions of one group"},
                 {"none", "no layer has this name"}};
    for (size_t i = 0; i < G_N_ELEMENTS(cases); i++) {
        nsk_bits_exception one = {(char *)layer_of(&n, cases[i].layer), 4};
        recipe.narrowed = &one;
        recipe.narrowed_count = 1;
        error.text[0] = '\0';
        nsk_model_file *file = nsk_quantise(n.network, n.images, &recipe, &error);
        assert_error(&error, cases[i].said);
        CU_ASSERT_EQUAL(file != NULL, cases[i].said[0] == '\0');
        nsk_model_file_free(file);
    }
    noisy_free(&n);
}

/* A dense layer of more inputs than a scratch has room for stays as it is, and says so by name. */
static void wide_layers_stay_whole(void) {
    noisy n;
    nsk_error error = {.text = ""};
    nsk_recipe recipe;
    nsk_recipe_init(&recipe);
    recipe.bits = 4;
    noisy_load(&n,
               "Conv x w_300_3_1_1 b_300 > a; Flatten a > f; Gemm f h_5_24300 c_5 > wide transB=i1",
               5);
    nsk_model_file *file = nsk_quantise(n.network, n.images, &recipe, &error);
    assert_error(&error, "");
    CU_ASSERT_PTR_NOT_NULL(file);
    nsk_model_file_free(file);
    nsk_bits_exception one = {(char *)layer_of(&n, "wide"), 4};
    recipe.narrowed = &one;
    recipe.narrowed_count = 1;
    CU_ASSERT_PTR_NULL(nsk_quantise(n.network, n.images, &recipe, &error));
    assert_error(&error, "with at most 16380 inputs");
    noisy_free(&n);
}

/* ---- as few as the flash needs ---- */

static void fewer_bits_where_flash_is_short(void) {
    kiln k;
    nsk_error error = {.text = ""};
    kiln_load(&k, 60);
    nsk_board *board = nsk_board_read("boards/trimmer.ini", &error);
    CU_ASSERT_PTR_NOT_NULL_FATAL(board);
    /* 0: a byte less than what the case before came to */
    static const struct {
        double flash;
        bool narrowed, fits;
    } cases[] = {{1e6, false, true},
                 {47e3, true, true},
                 {0, true, true},
                 {0, true, true},
                 {2e4, true, false}};
    double came_to = 0.0;
    for (size_t i = 0; i < G_N_ELEMENTS(cases); i++) {
        nsk_limits limits = k.brief->limits;
        limits.flash = cases[i].flash > 0.0 ? cases[i].flash : came_to - 1.0;
        nsk_narrower *n = nsk_narrower_choose(k.network, k.calibration, &k.brief->recipe, board,
                                              NULL, &limits, NULL, NULL, &error);
        assert_error(&error, "");
        CU_ASSERT_PTR_NOT_NULL_FATAL(n);
        CU_ASSERT_EQUAL(n->count, 6);
        CU_ASSERT_EQUAL(n->narrowed_count > 0, cases[i].narrowed);
        CU_ASSERT_EQUAL(n->after.flash <= limits.flash, cases[i].fits);
        came_to = n->after.flash;
        int least = 0;
        for (int l = 0; l < n->count; l++) {
            least += n->layer[l].bits == 4;
        }
        CU_ASSERT_EQUAL(least == n->count, !cases[i].fits);
        nsk_narrower_free(n);
    }
    nsk_board_free(board);
    kiln_free(&k);
}

CU_TestInfo packed_tests[] = {
    {"packed weights are the same model", packed_weights_are_the_same_model},
    {"four bits keep the kiln line", four_bits_keep_the_kiln_line},
    {"wrong packings are refused", wrong_packings_are_refused},
    {"bits go where they can", bits_go_where_they_can},
    {"wide layers stay whole", wide_layers_stay_whole},
    {"fewer bits where flash is short", fewer_bits_where_flash_is_short},
    CU_TEST_INFO_NULL,
};
