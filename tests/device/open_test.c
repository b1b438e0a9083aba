/* Malformed model files: an ordinary input. */
#include <stdlib.h>
#include <string.h>

#include "../network_text.h"
#include "../suites.h"
#include "base/random.h"
#include "device/crc.h"
#include "device/format.h"
#include "grid.h"

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
    return status == NSK_STATUS_OK;
}

static void every_flipped_byte_is_refused(void) {
    kiln k;
    nsk_model model;
    kiln_load(&k, 6);
    CU_ASSERT_EQUAL(nsk_open(&model, k.file->bytes, k.file->size), NSK_STATUS_OK);
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
        accepted += nsk_open(&model, copy, size) == NSK_STATUS_OK;
        free(copy);
    }
    CU_ASSERT_EQUAL(accepted, 0);
    CU_ASSERT_EQUAL(nsk_open(&model, k.file->bytes + 1, k.file->size - 1), NSK_STATUS_MISALIGNED);
    kiln_free(&k);
}

/* What may stand in a header or record, and what nsk_open must say to it. */
static void impossible_facts_are_refused(void) {
    static const struct {
        int record; /* 0: header, 1: first tensor, 2: second layer (depthwise),
                     * 3: preparation */
        int field, width;
        uint32_t value;
        nsk_status status;
    } cases[] = {
        {0, NSK_H_MAGIC, 4, 0x12345678, NSK_STATUS_NOT_A_MODEL},
        {0, NSK_H_VERSION, 2, NSK_VERSION_BLOCKED + 1, NSK_STATUS_OTHER_VERSION},
        {0, NSK_H_SIZE, 4, 1U << 30, NSK_STATUS_TRUNCATED},
        {0, NSK_H_SIZE, 4, 64, NSK_STATUS_INCONSISTENT},
        {0, NSK_H_WORKSPACE, 4, 100, NSK_STATUS_INCONSISTENT},
        {0, NSK_H_WORKSPACE, 4, 0xffffffff, NSK_STATUS_INCONSISTENT},
        {0, NSK_H_LAYERS, 2, 0, NSK_STATUS_INCONSISTENT},
        {0, NSK_H_LAYERS, 2, 60000, NSK_STATUS_INCONSISTENT},
        {0, NSK_H_TENSORS, 2, 1, NSK_STATUS_INCONSISTENT},
        {0, NSK_H_CLASSES, 2, 7, NSK_STATUS_INCONSISTENT},
        {0, NSK_H_INPUT, 2, 99, NSK_STATUS_INCONSISTENT},
        {0, NSK_H_OUTPUT, 2, 0, NSK_STATUS_INCONSISTENT},
        {0, NSK_H_WIDTH, 2, 47, NSK_STATUS_INCONSISTENT},
        {0, NSK_H_CHANNELS, 1, 2, NSK_STATUS_INCONSISTENT},
        {0, NSK_H_COLOUR, 1, 3, NSK_STATUS_INCONSISTENT},
        {0, NSK_H_FIT, 1, 3, NSK_STATUS_INCONSISTENT},
        {0, NSK_H_TABLES, 1, 2, NSK_STATUS_INCONSISTENT},
        {3, NSK_P_SLOPE, 4, 0x20000, NSK_STATUS_INCONSISTENT},
        {3, 4 * NSK_P_START, 4, 0x00800000, NSK_STATUS_INCONSISTENT},
        {0, NSK_H_TENSORS_AT, 4, 66, NSK_STATUS_INCONSISTENT},
        {0, NSK_H_LAYERS_AT, 4, 0xfffffff0, NSK_STATUS_INCONSISTENT},
        {0, NSK_H_PREPARE_AT, 4, 0xffffff00, NSK_STATUS_INCONSISTENT},
        {0, NSK_H_LABELS_AT, 4, 3, NSK_STATUS_INCONSISTENT},
        {0, NSK_H_FACTS_AT, 4, 0xffffffff, NSK_STATUS_INCONSISTENT},
        {1, NSK_T_PLACE, 4, 0xfffffff0, NSK_STATUS_INCONSISTENT},
        {1, NSK_T_HEIGHT, 2, 0, NSK_STATUS_INCONSISTENT},
        {1, NSK_T_CHANNELS, 2, 65535, NSK_STATUS_INCONSISTENT},
        {2, NSK_L_KIND, 1, 0, NSK_STATUS_INCONSISTENT},
        {2, NSK_L_KIND, 1, 200, NSK_STATUS_INCONSISTENT},
        {2, NSK_L_KIND, 1, NSK_KIND_MULTIPLY, NSK_STATUS_INCONSISTENT},
        {2, NSK_L_KIND, 1, NSK_KIND_ADD, NSK_STATUS_INCONSISTENT},
        {2, NSK_L_KIND, 1, NSK_KIND_DENSE, NSK_STATUS_INCONSISTENT},
        {2, NSK_L_INPUT, 2, 500, NSK_STATUS_INCONSISTENT},
        {2, NSK_L_SECOND, 2, 500, NSK_STATUS_INCONSISTENT},
        {2, NSK_L_OUTPUT, 2, 500, NSK_STATUS_INCONSISTENT},
        {2, NSK_L_KERNEL_HEIGHT, 1, 0, NSK_STATUS_INCONSISTENT},
        {2, NSK_L_STRIDE_ACROSS, 1, 0, NSK_STATUS_INCONSISTENT},
        {2, NSK_L_STRIDE_ACROSS, 1, 9, NSK_STATUS_INCONSISTENT},
        {2, NSK_L_DILATE_DOWN, 1, 0, NSK_STATUS_INCONSISTENT},
        {2, NSK_L_PAD_TOP, 1, 200, NSK_STATUS_INCONSISTENT},
        {2, NSK_L_WEIGHTS_AT, 4, 0xffffffff, NSK_STATUS_INCONSISTENT},
        {2, NSK_L_REQUANTISE_AT, 4, 2, NSK_STATUS_INCONSISTENT},
        {2, NSK_L_SCRATCH_AT, 4, 0xfffffffc, NSK_STATUS_INCONSISTENT},
        {2, NSK_L_SCRATCH_AT, 4, 2, NSK_STATUS_INCONSISTENT},
        {2, NSK_L_NAME_AT, 4, 0x7fffffff, NSK_STATUS_INCONSISTENT},
    };
    kiln k;
    kiln_load(&k, 6);
    uint8_t *bytes = k.file->bytes;
    size_t records[] = {0, get32(bytes + NSK_H_TENSORS_AT),
                        get32(bytes + NSK_H_LAYERS_AT) + NSK_LAYER_BYTES,
                        get32(bytes + NSK_H_PREPARE_AT)};
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

/* The first shape of the grid of a kind, as a model whose second layer it is. */
static nsk_model_file *model_of_kind(nsk_kind kind) {
    nsk_error error = {.text = ""};
    for (int i = 0; i < grid_shape_count; i++) {
        if (grid_shapes[i].kind == kind) {
            nsk_model_file *file = grid_model(&grid_shapes[i], GRID_PLAIN, &error);
            CU_ASSERT_PTR_NOT_NULL_FATAL(file);
            return file;
        }
    }
    CU_FAIL_FATAL("no such shape");
    return NULL;
}

/* Two parts of a concatenation are slices of its tensor; a third is copied. */
static void impossible_slices_are_refused(void) {
    enum { SLICE, OTHER, WHOLE, COPY, READER, RECORDS };
    static const struct {
        int record, field, width;
        uint32_t value;
    } cases[] = {
        {SLICE, NSK_T_SCALE, 4, 0xffffffff}, {SLICE, NSK_T_SCALE, 4, 99},
        {SLICE, NSK_T_PLACE, 4, 0xfffffffe}, {SLICE, NSK_T_PLACE, 4, 16},
        {SLICE, NSK_T_CHANNELS, 2, 21},      {SLICE, NSK_T_HEIGHT, 2, 8},
        {SLICE, NSK_T_WIDTH, 2, 8},          {SLICE, NSK_T_ROWS, 1, 254},
        {WHOLE, NSK_T_ROWS, 1, NSK_SLICE},   {WHOLE, NSK_T_CHANNELS, 2, 6},
        {COPY, NSK_L_OUTPUT, 2, SLICE},      {READER, NSK_L_INPUT, 2, SLICE},
        {READER, NSK_L_INPUT, 2, OTHER},     {SLICE, NSK_T_SCALE, 4, SLICE},
        {SLICE, NSK_T_SCALE, 4, OTHER},
    };
    noisy n;
    nsk_model model;
    noisy_load(&n,
               "Conv x w_8_3_3_3 b_8 > a pads=l1,1,1,1; Conv a u_7_8_1_1 > l; "
               "Conv a r_5_8_3_3 > m pads=l1,1,1,1; Concat l m a > c axis=i1; "
               "GlobalAveragePool c > g; Flatten g > f; Gemm f h_5_20 c_5 > z transB=i1",
               5);
    const uint8_t *bytes = n.file->bytes;
    CU_ASSERT_EQUAL_FATAL(nsk_open(&model, bytes, n.file->size), NSK_STATUS_OK);
    uint32_t tensors = get32(bytes + NSK_H_TENSORS_AT);
    uint32_t layers = get32(bytes + NSK_H_LAYERS_AT);
    unsigned numbers[RECORDS] = {nsk_layer_output(&model, 1), nsk_layer_output(&model, 2),
                                 nsk_layer_output(&model, 3), 3, 4};
    CU_ASSERT_EQUAL_FATAL(nsk_layer_kind(&model, 3), NSK_KIND_COPY);
    for (size_t i = 0; i < G_N_ELEMENTS(cases); i++) {
        uint8_t *copy = g_memdup2(bytes, n.file->size);
        unsigned number = numbers[cases[i].record];
        uint8_t *at = copy + cases[i].field +
                      (cases[i].record < COPY ? tensors + NSK_TENSOR_BYTES * number
                                              : layers + NSK_LAYER_BYTES * number);
        bool names = cases[i].value == SLICE || cases[i].value == OTHER;
        uint32_t value = names ? numbers[cases[i].value] : cases[i].value;
        for (int b = 0; b < cases[i].width; b++) {
            at[b] = (uint8_t)(value >> (8 * b));
        }
        reseal(copy, n.file->size);
        nsk_status status = nsk_open(&model, copy, n.file->size);
        if (status != NSK_STATUS_INCONSISTENT) {
            fprintf(stderr, "\n    case %zu: status %d\n", i, (int)status);
        }
        CU_ASSERT_EQUAL(status, NSK_STATUS_INCONSISTENT);
        g_free(copy);
    }
    noisy_free(&n);
}

/* Where a scratch or a tensor gets in another's way, or kernels would differ. The network:
 * 0 conv x > a, with scratch; 1 depthwise a > b, with scratch; 2 conv b > c, pointwise; 3 add a c >
 * d; 4 average d > g; 5 dense; 6 softmax. */
static void plans_that_alias_are_refused(void) {
    enum { X, A, B, C, D, G, Z, TENSORS };
    static const struct {
        const char *what;
        int layer; /* -1: a tensor */
        int field, width;
        int tensor; /* whose place is written, or TENSORS */
        int value;  /* what is, or is added to the place */
    } cases[] = {
        {"scratch on its own output", 0, NSK_L_SCRATCH_AT, 4, A, 0},
        {"scratch on its input", 1, NSK_L_SCRATCH_AT, 4, A, 0},
        {"scratch on what a later layer reads", 2, NSK_L_SCRATCH_AT, 4, A, 0},
        {"scratch on the last byte of what a later layer reads", 2, NSK_L_SCRATCH_AT, 4, A, 644},
        {"an output on what a later layer reads", -1 - C, NSK_T_PLACE, 4, A, 0},
        {"an output a word into what a later layer reads", -1 - B, NSK_T_PLACE, 4, A, 4},
        {"an output over its input, rows not yet read", -1 - B, NSK_T_PLACE, 4, A, 12},
        {"a tensor that nobody made", 2, NSK_L_INPUT, 2, TENSORS, D},
        {"a tensor of a later layer", 1, NSK_L_INPUT, 2, TENSORS, C},
        {"a pointwise convolution that leaves pixels out", -1 - C, NSK_T_HEIGHT, 2, TENSORS, 8},
        {"an output on its input, which all outputs read", -1 - Z, NSK_T_PLACE, 4, G, 0},
    };
    noisy n;
    nsk_model model;
    noisy_load(&n,
               "Conv x w_8_3_3_3 b_8 > a pads=l1,1,1,1; Conv a e_8_1_3_3 > b group=i8 "
               "pads=l1,1,1,1; Conv b u_8_8_1_1 > c; Add a c > d; GlobalAveragePool d > g; "
               "Flatten g > f; Gemm f h_5_8 c_5 > z transB=i1",
               5);
    CU_ASSERT_EQUAL_FATAL(nsk_open(&model, n.file->bytes, n.file->size), NSK_STATUS_OK);
    uint32_t tensors = get32(n.file->bytes + NSK_H_TENSORS_AT);
    uint32_t layers = get32(n.file->bytes + NSK_H_LAYERS_AT);
    unsigned number[TENSORS] = {model.input};
    for (unsigned i = 0; i < 6; i++) {
        number[A + i] = nsk_layer_output(&model, i);
    }
    CU_ASSERT_EQUAL_FATAL(model.layers, 7);
    for (size_t i = 0; i < G_N_ELEMENTS(cases); i++) {
        uint8_t *copy = g_memdup2(n.file->bytes, n.file->size);
        uint8_t *at = cases[i].layer >= 0
                          ? copy + layers + NSK_LAYER_BYTES * (unsigned)cases[i].layer
                          : copy + tensors + NSK_TENSOR_BYTES * number[-1 - cases[i].layer];
        uint32_t value =
            cases[i].tensor < TENSORS
                ? nsk_tensor_at(&model, number[cases[i].tensor]).offset + (uint32_t)cases[i].value
            : cases[i].field == NSK_L_INPUT ? number[cases[i].value]
                                            : (uint32_t)cases[i].value;
        for (int b = 0; b < cases[i].width; b++) {
            at[cases[i].field + b] = (uint8_t)(value >> (8 * b));
        }
        put32(copy + NSK_H_WORKSPACE, model.workspace_bytes + 4096); /* room is not the matter */
        reseal(copy, n.file->size);
        nsk_model changed;
        nsk_status status = nsk_open(&changed, copy, n.file->size);
        if (status != NSK_STATUS_INCONSISTENT) {
            fprintf(stderr, "\n    %s: status %d\n", cases[i].what, (int)status);
        }
        CU_ASSERT_EQUAL(status, NSK_STATUS_INCONSISTENT);
        g_free(copy);
    }
    noisy_free(&n);
}

static void put16(uint8_t *at, uint32_t value) {
    at[0] = (uint8_t)value;
    at[1] = (uint8_t)(value >> 8);
}

/* The frame, copied so many times below each other; whatever is as high as the copies, or the
 * frame, becomes `times` as high, each behind the one before, and each copy with it. */
enum { COPIES = 16, ROWS = 9, ROW_BYTES = 27 };
static void grow(uint8_t *bytes, const nsk_model *m, uint32_t times) {
    uint32_t place = 0;
    for (uint32_t i = 0; i < m->tensors; i++) {
        nsk_tensor t = nsk_tensor_at(m, i);
        uint32_t rows = t.height == ROWS || t.height == COPIES * ROWS ? t.height * times : t.height;
        uint8_t *at = bytes + get32(bytes + NSK_H_TENSORS_AT) + NSK_TENSOR_BYTES * i;
        put16(at + NSK_T_HEIGHT, rows);
        put32(at + NSK_T_PLACE, place);
        place += (rows * t.width * t.channels * t.element + 3U) & ~3U;
    }
    for (uint32_t i = 0; i < COPIES; i++) {
        uint8_t *layer = bytes + get32(bytes + NSK_H_LAYERS_AT) + NSK_LAYER_BYTES * i;
        uint8_t *numbers = bytes + get32(layer + NSK_L_MULTIPLIERS_AT);
        put32(numbers + 4 * NSK_M_OUT_ORIGIN, i * ROWS * ROW_BYTES * times);
        put32(numbers + 4 * NSK_M_LOOPS, ROWS * ROW_BYTES * times);
    }
    put16(bytes + NSK_H_HEIGHT, ROWS * times);
    put32(bytes + NSK_H_WORKSPACE, place);
}

/* Bytes that layers make in parts are looked at one by one: so many that a reader would be busy for
 * hours are refused, in a plan that is sound. */
static void plans_that_keep_busy_are_refused(void) {
    noisy n;
    nsk_model model;
    GString *text = g_string_new("Concat");
    for (int i = 0; i < COPIES; i++) {
        g_string_append(text, " x");
    }
    g_string_append(text,
                    " > c axis=i2; Slice c i_0 i_1 i_2 > s; Flatten s > f; Gemm f h_5_27 c_5 > "
                    "z transB=i1");
    noisy_load(&n, text->str, 5);
    g_string_free(text, TRUE);
    const uint8_t *bytes = n.file->bytes;
    CU_ASSERT_EQUAL_FATAL(nsk_open(&model, bytes, n.file->size), NSK_STATUS_OK);
    CU_ASSERT_FATAL(model.layers > COPIES && nsk_layer_kind(&model, COPIES - 1) == NSK_KIND_COPY);
    static const struct {
        uint32_t times;
        nsk_status status;
    } cases[] = {{200, NSK_STATUS_OK}, {300, NSK_STATUS_INCONSISTENT}};
    for (size_t i = 0; i < G_N_ELEMENTS(cases); i++) {
        uint8_t *grown = g_memdup2(bytes, n.file->size);
        nsk_model large;
        grow(grown, &model, cases[i].times);
        reseal(grown, n.file->size);
        CU_ASSERT_EQUAL(nsk_open(&large, grown, n.file->size), cases[i].status);
        g_free(grown);
    }
    noisy_free(&n);
}

/* A sum stands where the frame stood; whoever reads the frame then reads something else. */
static void frames_that_are_gone_are_refused(void) {
    noisy n;
    nsk_model model;
    noisy_load(&n,
               "Conv x w_3_3_3_3 b_3 > a pads=l1,1,1,1; Add x a > d; GlobalAveragePool d > g; "
               "Flatten g > f; Gemm f h_5_3 c_5 > z transB=i1",
               5);
    uint8_t *bytes = n.file->bytes;
    CU_ASSERT_EQUAL_FATAL(nsk_open(&model, bytes, n.file->size), NSK_STATUS_OK);
    CU_ASSERT_EQUAL_FATAL(nsk_layer_kind(&model, 1), NSK_KIND_ADD);
    CU_ASSERT_EQUAL_FATAL(nsk_layer_kind(&model, 2), NSK_KIND_AVERAGE_POOL);
    uint32_t sum = get32(bytes + NSK_H_TENSORS_AT) + NSK_TENSOR_BYTES * nsk_layer_output(&model, 1);
    uint32_t pool = get32(bytes + NSK_H_LAYERS_AT) + 2 * NSK_LAYER_BYTES;
    put32(bytes + sum + NSK_T_PLACE, nsk_tensor_at(&model, model.input).offset);
    reseal(bytes, n.file->size);
    CU_ASSERT_EQUAL(nsk_open(&model, bytes, n.file->size), NSK_STATUS_OK);
    bytes[pool + NSK_L_INPUT] = (uint8_t)model.input;
    reseal(bytes, n.file->size);
    CU_ASSERT_EQUAL(nsk_open(&model, bytes, n.file->size), NSK_STATUS_INCONSISTENT);
    noisy_free(&n);
}

/* What fills a row of weights up to whole words meets bytes that are anything. */
static void weights_that_fill_are_zero(void) {
    static const struct {
        const char *text;
        int row; /* taps of an output: no multiple of four */
    } cases[] = {
        {"Conv x w_5_3_3_3 > a; GlobalAveragePool a > g; Flatten g > z", 27},
        {"GlobalAveragePool x > g; Flatten g > f; Gemm f h_5_3 c_5 > z transB=i1", 3},
    };
    for (size_t i = 0; i < G_N_ELEMENTS(cases); i++) {
        noisy n;
        nsk_model model;
        noisy_load(&n, cases[i].text, 5);
        CU_ASSERT_EQUAL_FATAL(nsk_open(&model, n.file->bytes, n.file->size), NSK_STATUS_OK);
        unsigned layer = i == 0 ? 0 : model.layers - 2U; /* a softmax comes last */
        uint32_t weights = get32(n.file->bytes + get32(n.file->bytes + NSK_H_LAYERS_AT) +
                                 NSK_LAYER_BYTES * layer + NSK_L_WEIGHTS_AT);
        n.file->bytes[weights + (uint32_t)cases[i].row] = 1;
        reseal(n.file->bytes, n.file->size);
        CU_ASSERT_EQUAL(nsk_open(&model, n.file->bytes, n.file->size), NSK_STATUS_INCONSISTENT);
        noisy_free(&n);
    }
}

/* The numbers that layers carry outside of their records: loops of a move, blends of a resize. */
static void impossible_numbers_are_refused(void) {
    static const struct {
        nsk_kind kind;
        int pointer; /* field of the layer's record: where the numbers stand */
        int at, width;
        uint32_t value;
    } cases[] = {
        {NSK_KIND_COPY, NSK_L_MULTIPLIERS_AT, 4 * NSK_M_IN_ORIGIN, 4, 0xffffffff},
        {NSK_KIND_COPY, NSK_L_MULTIPLIERS_AT, 4 * NSK_M_IN_ORIGIN, 4, 1},
        {NSK_KIND_COPY, NSK_L_MULTIPLIERS_AT, 4 * NSK_M_OUT_ORIGIN, 4, 0x7fffffff},
        {NSK_KIND_COPY, NSK_L_MULTIPLIERS_AT, 4 * NSK_M_LOOPS, 4, 0},
        {NSK_KIND_COPY, NSK_L_MULTIPLIERS_AT, 4 * NSK_M_LOOPS, 4, 1000000000},
        {NSK_KIND_COPY, NSK_L_MULTIPLIERS_AT, 4 * NSK_M_LOOPS, 4, 0x80000000},
        {NSK_KIND_COPY, NSK_L_MULTIPLIERS_AT, 4 * NSK_M_LOOPS + 4, 4, 0x80000000},
        {NSK_KIND_COPY, NSK_L_MULTIPLIERS_AT, 4 * NSK_M_LOOPS + 8, 4, 3},
        {NSK_KIND_RESIZE, NSK_L_WEIGHTS_AT, NSK_B_FIRST, 2, 8},
        {NSK_KIND_RESIZE, NSK_L_WEIGHTS_AT, NSK_B_SECOND, 2, 65535},
        {NSK_KIND_RESIZE, NSK_L_WEIGHTS_AT, NSK_B_PART, 2, 2049},
        {NSK_KIND_CONV_TRANSPOSE, 0, NSK_L_STRIDE_DOWN, 1, 0},
        {NSK_KIND_CONV_TRANSPOSE, 0, NSK_L_KERNEL_WIDTH, 1, 0},
        {NSK_KIND_CONV_TRANSPOSE, 0, NSK_L_KERNEL_WIDTH, 1, 255},
        {NSK_KIND_CONV_TRANSPOSE, 0, NSK_L_DILATE_ACROSS, 1, 0},
        {NSK_KIND_CONV_TRANSPOSE, 0, NSK_L_COUNT, 2, 3},
        {NSK_KIND_CONV_TRANSPOSE, 0, NSK_L_COUNT, 2, 0},
        {NSK_KIND_COPY, 0, NSK_L_COUNT, 2, 0},
        {NSK_KIND_COPY, 0, NSK_L_COUNT, 2, 7},
        {NSK_KIND_COPY, 0, NSK_L_MULTIPLIERS_AT, 4, 0xfffffff0},
        {NSK_KIND_CONSTANT, 0, NSK_L_WEIGHTS_AT, 4, 0xfffffff0},
        {NSK_KIND_RESIZE, 0, NSK_L_WEIGHTS_AT, 4, 1},
        {NSK_KIND_MAX, 0, NSK_L_SECOND, 2, NSK_NO_TENSOR},
        {NSK_KIND_MATMUL, 0, NSK_L_SECOND, 2, NSK_NO_TENSOR},
        {NSK_KIND_MATMUL, NSK_L_SHIFTS_AT, 0, 1, 0},
        {NSK_KIND_MATMUL, NSK_L_MULTIPLIERS_AT, 0, 4, 0x3fffffff},
        {NSK_KIND_MATMUL, 0, NSK_L_MULTIPLIERS_AT, 4, 0xfffffff0},
        {NSK_KIND_NORMALISE, 0, NSK_L_COUNT, 2, 0},
        {NSK_KIND_NORMALISE, 0, NSK_L_COUNT, 2, 3},
        {NSK_KIND_NORMALISE, NSK_L_MULTIPLIERS_AT, 0, 4, 0},
        {NSK_KIND_NORMALISE, NSK_L_MULTIPLIERS_AT, 4 * (NSK_N_LEAST + 1), 4, 0x40000000},
        {NSK_KIND_NORMALISE, NSK_L_MULTIPLIERS_AT, 4 * NSK_N_SHIFT, 4, 31},
        {NSK_KIND_NORMALISE, NSK_L_MULTIPLIERS_AT, 4 * NSK_N_SHIFT, 4, 0xffffffff},
        {NSK_KIND_NORMALISE, NSK_L_WEIGHTS_AT, 0, 2, 0x4001},
        {NSK_KIND_NORMALISE, NSK_L_WEIGHTS_AT, 0, 2, 0x8000},
        {NSK_KIND_NORMALISE, NSK_L_REQUANTISE_AT, 0, 4, 0x40000001},
        {NSK_KIND_NORMALISE, NSK_L_REQUANTISE_AT, 0, 4, 0x80000000},
        {NSK_KIND_NORMALISE, 0, NSK_L_REQUANTISE_AT, 4, 0xfffffff0},
        {NSK_KIND_NORMALISE, 0, NSK_L_WEIGHTS_AT, 4, 0xfffffff0},
        {NSK_KIND_NORMALISE_WHOLE, 0, NSK_L_MULTIPLIERS_AT, 4, 0xfffffff0},
        {NSK_KIND_NORMALISE_WHOLE, NSK_L_WEIGHTS_AT, 0, 2, 0xbfff},
        {NSK_KIND_MIN, NSK_L_SHIFTS_AT, 0, 1, 31},
        {NSK_KIND_MAX, NSK_L_MULTIPLIERS_AT, 0, 4, 0x7fffffff},
    };
    for (size_t i = 0; i < G_N_ELEMENTS(cases); i++) {
        nsk_model_file *file = model_of_kind(cases[i].kind);
        size_t record = get32(file->bytes + NSK_H_LAYERS_AT) + NSK_LAYER_BYTES;
        CU_ASSERT_EQUAL(file->bytes[record + NSK_L_KIND], cases[i].kind);
        size_t start =
            cases[i].pointer != 0 ? get32(file->bytes + record + (size_t)cases[i].pointer) : record;
        for (int b = 0; b < cases[i].width; b++) {
            file->bytes[start + (size_t)(cases[i].at + b)] = (uint8_t)(cases[i].value >> (8 * b));
        }
        reseal(file->bytes, file->size);
        nsk_model model;
        nsk_status status = nsk_open(&model, file->bytes, file->size);
        if (status != NSK_STATUS_INCONSISTENT) {
            fprintf(stderr, "\n    case %zu: status %d\n", i, (int)status);
        }
        CU_ASSERT_EQUAL(status, NSK_STATUS_INCONSISTENT);
        nsk_model_file_free(file);
    }
}

/* Opens, and perhaps runs, noise at `count` places of the first `reach` bytes behind the header,
 * under a right checksum. */
static bool noise_opens(const nsk_model_file *file, random_state *r, int count, int reach,
                        bool run) {
    static const uint8_t frame[1 << 16];
    uint8_t *copy = g_memdup2(file->bytes, file->size);
    for (; count > 0; count--) {
        size_t at = NSK_HEADER_BYTES + (size_t)random_below(r, reach);
        copy[at] = (uint8_t)random_bits(r);
    }
    reseal(copy, file->size);
    nsk_model model;
    bool opens = nsk_open(&model, copy, file->size) == NSK_STATUS_OK;
    if (opens && run) {
        void *workspace = malloc(model.workspace_bytes);
        nsk_prepare(&model, frame, (size_t)model.width * model.channels, workspace);
        nsk_run(&model, workspace, NULL);
        nsk_best(&model, nsk_scores(&model, workspace));
        free(workspace);
    }
    g_free(copy);
    return opens;
}

/* Refused, or run without leaving the workspace. */
static void resealed_noise_is_safe(void) {
    kiln k;
    random_state r = {5};
    int opened = 0;
    kiln_load(&k, 6);
    for (int round = 0; round < 3000; round++) {
        opened += noise_opens(k.file, &r, 1 + random_below(&r, 2), 800, round % 16 == 0);
    }
    CU_ASSERT(opened > 100); /* places, scales and clamps may be anything */
    kiln_free(&k);
    for (int kind = NSK_KIND_CONV; kind < NSK_KINDS;
         kind++) { /* records and numbers of each kind */
        nsk_model_file *file = model_of_kind((nsk_kind)kind);
        const int reach = (int)MIN(file->size - NSK_HEADER_BYTES, 330);
        opened = 0;
        for (int round = 0; round < 400; round++) {
            opened += noise_opens(file, &r, 1, reach, round % 2 == 0);
        }
        CU_ASSERT(opened > 10);
        nsk_model_file_free(file);
    }
}

/* Weights whose sums could overflow, and requantising words that mean nothing, do not open, whoever
 * wrote them. */
static void overflow_is_refused(void) {
    static const struct {
        uint8_t weight;
        uint32_t requantise;
        nsk_status status;
    } cases[] = {
        {100, 0x8a, NSK_STATUS_OK},                 /* 4608 taps */
        {127, 0x8a, NSK_STATUS_INCONSISTENT},       /* 4608 x 127 x 128 is too much */
        {121, 0x8a, NSK_STATUS_OK},                 /* 4608 x 121 x 128 is just not */
        {121, 0x3fffff8a, NSK_STATUS_INCONSISTENT}, /* with a bias, it is */
        {0x80, 0x8a, NSK_STATUS_INCONSISTENT},      /* -128 */
        {1, 0x80, NSK_STATUS_INCONSISTENT},         /* a factor of 0 */
        {1, 0x0a, NSK_STATUS_INCONSISTENT},         /* a shift of 0 */
    };
    const grid_shape shape = {NSK_KIND_CONV, 3, 512, 4, 3, 1};
    nsk_error error = {.text = ""};
    nsk_model_file *file = grid_model(&shape, GRID_PLAIN, &error);
    CU_ASSERT_PTR_NOT_NULL_FATAL(file);
    uint8_t *record = file->bytes + get32(file->bytes + NSK_H_LAYERS_AT) + NSK_LAYER_BYTES;
    for (size_t i = 0; i < G_N_ELEMENTS(cases); i++) {
        nsk_model model;
        memset(file->bytes + get32(record + NSK_L_WEIGHTS_AT), cases[i].weight, 4608);
        put32(file->bytes + get32(record + NSK_L_REQUANTISE_AT), cases[i].requantise);
        reseal(file->bytes, file->size);
        CU_ASSERT_EQUAL(nsk_open(&model, file->bytes, file->size), cases[i].status);
    }
    nsk_model_file_free(file);
}

static void statuses_have_words(void) {
    for (int s = NSK_STATUS_OK; s < NSK_STATUSES; s++) {
        CU_ASSERT(strlen(nsk_status_text((nsk_status)s)) > 3);
    }
    CU_ASSERT_STRING_EQUAL(nsk_status_text((nsk_status)99), "unknown");
}

/* What the fuzzer starts from opens, and has every kind of layer and every way to stand: seeds of
 * an old version would be refused at the door, and nothing behind it be tried. */
static void the_fuzzer_starts_inside(void) {
    const char *folder = NSK_SOURCE_DIR "/tests/fuzz/seeds/model";
    bool kinds[NSK_KINDS] = {false};
    bool streamed = false;
    bool slices = false;
    bool fine = false;
    GDir *dir = g_dir_open(folder, 0, NULL);
    CU_ASSERT_PTR_NOT_NULL_FATAL(dir);
    for (const char *name; (name = g_dir_read_name(dir)) != NULL;) {
        nsk_error error = {.text = ""};
        nsk_model model;
        char *path = scratch_path(folder, "%s", name);
        nsk_model_file *file = nsk_model_file_read(path, &error);
        assert_error(&error, "");
        CU_ASSERT_PTR_NOT_NULL_FATAL(file);
        CU_ASSERT_EQUAL(nsk_open(&model, file->bytes, file->size), NSK_STATUS_OK);
        streamed = streamed || model.streamed > 0;
        for (unsigned i = 0; i < model.layers; i++) {
            nsk_tensor out = nsk_tensor_at(&model, nsk_layer_output(&model, i));
            kinds[nsk_layer_kind(&model, i)] = true;
            slices = slices || out.slice;
            fine = fine || out.fraction > 0;
        }
        nsk_model_file_free(file);
        g_free(path);
    }
    g_dir_close(dir);
    for (int kind = 1; kind < NSK_KINDS; kind++) {
        CU_ASSERT(kinds[kind]);
    }
    CU_ASSERT(streamed && slices && fine);
}

CU_TestInfo open_tests[] = {
    {"checksum", checksum_is_the_standards},
    {"every flipped byte of the demo's model is refused", every_flipped_byte_is_refused},
    {"every cut is refused", every_cut_is_refused},
    {"impossible facts are refused", impossible_facts_are_refused},
    {"impossible slices are refused", impossible_slices_are_refused},
    {"plans that alias are refused", plans_that_alias_are_refused},
    {"plans that keep busy are refused", plans_that_keep_busy_are_refused},
    {"frames that are gone are refused", frames_that_are_gone_are_refused},
    {"weights that fill are zero", weights_that_fill_are_zero},
    {"impossible numbers of layers are refused", impossible_numbers_are_refused},
    {"noise under a right checksum is safe", resealed_noise_is_safe},
    {"accumulators that could overflow are refused", overflow_is_refused},
    {"the fuzzer starts inside", the_fuzzer_starts_inside},
    {"statuses in words", statuses_have_words},
    CU_TEST_INFO_NULL,
};
