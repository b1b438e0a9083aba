/* Malformed model files: an ordinary input. */
#include <stdlib.h>
#include <string.h>

#include "../suites.h"
#include "../support.h"
#include "device/crc.h"
#include "device/format.h"

static void put32(uint8_t *at, uint32_t value) {
    for (int i = 0; i < 4; i++) {
        at[i] = (uint8_t)(value >> (8 * i));
    }
}

static uint32_t get32(const uint8_t *at) {
    return nsk_load16(at) | nsk_load16(at + 2) << 16;
}

/* Makes the checksum right again, as someone hostile would. */
static void reseal(uint8_t *bytes, size_t size) {
    uint32_t crc = nsk_crc32(0, bytes, NSK_H_CRC);
    put32(bytes + NSK_H_CRC, nsk_crc32(crc, bytes + NSK_H_WORKSPACE, size - NSK_H_WORKSPACE));
}

static void checksum_is_the_standards(void) {
    CU_ASSERT_EQUAL(nsk_crc32(0, (const uint8_t *)"123456789", 9), 0xcbf43926);
    uint32_t crc = nsk_crc32(0, (const uint8_t *)"1234", 4);
    CU_ASSERT_EQUAL(nsk_crc32(crc, (const uint8_t *)"56789", 5), 0xcbf43926);
}

static int opens_with(uint8_t *bytes, size_t size, size_t at, uint8_t mask) {
    nsk_model model;
    bytes[at] ^= mask;
    nsk_status status = nsk_open(&model, bytes, size);
    bytes[at] ^= mask;
    return status == NSK_OK;
}

static void every_flipped_byte_is_refused(void) {
    kiln k;
    nsk_model model;
    kiln_load(&k, 6);
    CU_ASSERT_EQUAL(nsk_open(&model, k.file->bytes, k.file->size), NSK_OK);
    int accepted = 0;
#pragma omp parallel reduction(+ : accepted)
    {
        uint8_t *copy = g_memdup2(k.file->bytes, k.file->size);
#pragma omp for schedule(dynamic, 256)
        for (size_t i = 0; i < k.file->size; i++) {
            accepted += opens_with(copy, k.file->size, i, (uint8_t)(1U << i % 8));
            if (i < 2000) { /* and every bit at once, where the structure stands */
                accepted += opens_with(copy, k.file->size, i, 0xff);
            }
        }
        g_free(copy);
    }
    CU_ASSERT_EQUAL(accepted, 0);
    kiln_free(&k);
}

static void every_cut_is_refused(void) {
    kiln k;
    nsk_model model;
    kiln_load(&k, 6);
    int accepted = 0;
    for (size_t size = 0; size < k.file->size; size += size < 512 ? 1 : 97) {
        uint8_t *copy = malloc(size + 1); /* so that a read past the cut is seen */
        memcpy(copy, k.file->bytes, size);
        accepted += nsk_open(&model, copy, size) == NSK_OK;
        free(copy);
    }
    CU_ASSERT_EQUAL(accepted, 0);
    CU_ASSERT_EQUAL(nsk_open(&model, k.file->bytes + 1, k.file->size - 1), NSK_MISALIGNED);
    kiln_free(&k);
}

/* What may stand in a header or record, and what nsk_open must say to it. */
static void impossible_facts_are_refused(void) {
    static const struct {
        int record; /* 0: header, 1: first tensor, 2: second layer (depthwise) */
        int field, width;
        uint32_t value;
        nsk_status status;
    } cases[] = {
        {0, NSK_H_MAGIC, 4, 0x12345678, NSK_NOT_A_MODEL},
        {0, NSK_H_VERSION, 2, 9, NSK_OTHER_VERSION},
        {0, NSK_H_SIZE, 4, 1U << 30, NSK_TRUNCATED},
        {0, NSK_H_SIZE, 4, 64, NSK_INCONSISTENT},
        {0, NSK_H_WORKSPACE, 4, 100, NSK_INCONSISTENT},
        {0, NSK_H_WORKSPACE, 4, 0xffffffff, NSK_INCONSISTENT},
        {0, NSK_H_LAYERS, 2, 0, NSK_INCONSISTENT},
        {0, NSK_H_LAYERS, 2, 60000, NSK_INCONSISTENT},
        {0, NSK_H_TENSORS, 2, 1, NSK_INCONSISTENT},
        {0, NSK_H_CLASSES, 2, 7, NSK_INCONSISTENT},
        {0, NSK_H_INPUT, 2, 99, NSK_INCONSISTENT},
        {0, NSK_H_OUTPUT, 2, 0, NSK_INCONSISTENT},
        {0, NSK_H_WIDTH, 2, 47, NSK_INCONSISTENT},
        {0, NSK_H_CHANNELS, 1, 2, NSK_INCONSISTENT},
        {0, NSK_H_COLOUR, 1, 3, NSK_INCONSISTENT},
        {0, NSK_H_FIT, 1, 3, NSK_INCONSISTENT},
        {0, NSK_H_TABLES, 1, 2, NSK_INCONSISTENT},
        {0, NSK_H_TENSORS_AT, 4, 66, NSK_INCONSISTENT},
        {0, NSK_H_LAYERS_AT, 4, 0xfffffff0, NSK_INCONSISTENT},
        {0, NSK_H_PREPARE_AT, 4, 0xffffff00, NSK_INCONSISTENT},
        {0, NSK_H_LABELS_AT, 4, 3, NSK_INCONSISTENT},
        {0, NSK_H_NAME_AT, 4, 0xffffffff, NSK_INCONSISTENT},
        {1, NSK_T_PLACE, 4, 0xfffffff0, NSK_INCONSISTENT},
        {1, NSK_T_HEIGHT, 2, 0, NSK_INCONSISTENT},
        {1, NSK_T_CHANNELS, 2, 65535, NSK_INCONSISTENT},
        {2, NSK_L_KIND, 1, 0, NSK_INCONSISTENT},
        {2, NSK_L_KIND, 1, 200, NSK_INCONSISTENT},
        {2, NSK_L_KIND, 1, NSK_SOFTMAX, NSK_INCONSISTENT},
        {2, NSK_L_KIND, 1, NSK_ADD, NSK_INCONSISTENT},
        {2, NSK_L_KIND, 1, NSK_DENSE, NSK_INCONSISTENT},
        {2, NSK_L_INPUT, 2, 500, NSK_INCONSISTENT},
        {2, NSK_L_SECOND, 2, 500, NSK_INCONSISTENT},
        {2, NSK_L_OUTPUT, 2, 500, NSK_INCONSISTENT},
        {2, NSK_L_KERNEL_HEIGHT, 1, 0, NSK_INCONSISTENT},
        {2, NSK_L_STRIDE_ACROSS, 1, 0, NSK_INCONSISTENT},
        {2, NSK_L_STRIDE_ACROSS, 1, 9, NSK_INCONSISTENT},
        {2, NSK_L_DILATE_DOWN, 1, 0, NSK_INCONSISTENT},
        {2, NSK_L_PAD_TOP, 1, 200, NSK_INCONSISTENT},
        {2, NSK_L_WEIGHTS_AT, 4, 0xffffffff, NSK_INCONSISTENT},
        {2, NSK_L_BIAS_AT, 4, 2, NSK_INCONSISTENT},
        {2, NSK_L_MULTIPLIERS_AT, 4, 64, NSK_INCONSISTENT},
        {2, NSK_L_SHIFTS_AT, 4, 0x7fffffff, NSK_INCONSISTENT},
        {2, NSK_L_NAME_AT, 4, 0x7fffffff, NSK_INCONSISTENT},
    };
    kiln k;
    kiln_load(&k, 6);
    uint8_t *bytes = k.file->bytes;
    size_t records[] = {0, get32(bytes + NSK_H_TENSORS_AT),
                        get32(bytes + NSK_H_LAYERS_AT) + NSK_LAYER_BYTES};
    for (size_t i = 0; i < G_N_ELEMENTS(cases); i++) {
        uint8_t *copy = g_memdup2(bytes, k.file->size);
        uint8_t *at = copy + records[cases[i].record] + cases[i].field;
        for (int b = 0; b < cases[i].width; b++) {
            at[b] = (uint8_t)(cases[i].value >> (8 * b));
        }
        reseal(copy, k.file->size);
        nsk_model model;
        nsk_status status = nsk_open(&model, copy, k.file->size);
        if (status != cases[i].status) {
            fprintf(stderr, "\n    case %zu: status %d\n", i, (int)status);
        }
        CU_ASSERT_EQUAL(status, cases[i].status);
        g_free(copy);
    }
    kiln_free(&k);
}

/* Noise in the records under a right checksum: refused, or run without leaving the workspace. */
static void resealed_noise_is_safe(void) {
    kiln k;
    random_state r = {5};
    int opened = 0;
    kiln_load(&k, 6);
    uint8_t *frame = g_malloc0(1 << 16);
    for (int round = 0; round < 3000; round++) {
        uint8_t *copy = g_memdup2(k.file->bytes, k.file->size);
        for (int n = 1 + random_below(&r, 2); n > 0; n--) {
            size_t at = NSK_HEADER_BYTES + (size_t)random_below(&r, 800);
            copy[at] = (uint8_t)random_bits(&r);
        }
        reseal(copy, k.file->size);
        nsk_model model;
        if (nsk_open(&model, copy, k.file->size) == NSK_OK) {
            opened++;
            void *workspace = malloc(model.workspace_bytes);
            if (round % 16 == 0) {
                nsk_prepare(&model, frame, (size_t)model.width * model.channels, workspace);
                nsk_run(&model, workspace, NULL);
                nsk_best(&model, nsk_scores(&model, workspace));
            }
            free(workspace);
        }
        g_free(copy);
    }
    CU_ASSERT(opened > 100); /* places, scales and clamps may be anything */
    g_free(frame);
    kiln_free(&k);
}

/* Weights that could overflow an accumulator do not open, whoever wrote them. */
static void overflow_is_refused(void) {
    kiln k;
    nsk_model model;
    kiln_load(&k, 6);
    size_t layer = get32(k.file->bytes + NSK_H_LAYERS_AT);
    uint8_t *bias = k.file->bytes + get32(k.file->bytes + layer + NSK_L_BIAS_AT);
    put32(bias, 0x7fffffff);
    reseal(k.file->bytes, k.file->size);
    CU_ASSERT_EQUAL(nsk_open(&model, k.file->bytes, k.file->size), NSK_INCONSISTENT);
    put32(bias, 0x80000000);
    reseal(k.file->bytes, k.file->size);
    CU_ASSERT_EQUAL(nsk_open(&model, k.file->bytes, k.file->size), NSK_INCONSISTENT);
    kiln_free(&k);
}

static void statuses_have_words(void) {
    for (int s = NSK_OK; s <= NSK_TOO_SMALL; s++) {
        CU_ASSERT(strlen(nsk_status_text((nsk_status)s)) > 3);
    }
    CU_ASSERT_STRING_EQUAL(nsk_status_text((nsk_status)99), "unknown");
}

CU_TestInfo open_tests[] = {
    {"checksum", checksum_is_the_standards},
    {"every flipped byte of the demo's model is refused", every_flipped_byte_is_refused},
    {"every cut is refused", every_cut_is_refused},
    {"impossible facts are refused", impossible_facts_are_refused},
    {"noise under a right checksum is safe", resealed_noise_is_safe},
    {"accumulators that could overflow are refused", overflow_is_refused},
    {"statuses in words", statuses_have_words},
    CU_TEST_INFO_NULL,
};
