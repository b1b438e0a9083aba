/* What a product has around a model: scaling, looking, deciding, and the loop when things go wrong.
 */
#include <string.h>

#include "../suites.h"
#include "../support.h"
#include "device/firmware/hash.h"
#include "images/picture.h"
#include "netsuke/firmware.h"

/* ---- scaling ---- */

static nsk_model shaped(int width, int height, int channels, nsk_fit fit, nsk_resample way) {
    nsk_model m = {.width = (uint16_t)width,
                   .height = (uint16_t)height,
                   .channels = (uint8_t)channels,
                   .colour = channels == 1 ? NSK_COLOUR_GREY : NSK_COLOUR_RGB,
                   .fit = fit,
                   .resample = way};
    return m;
}

/* The device's bytes of a picture, row by row. */
static nsk_status scale(const nsk_model *m, const uint8_t *picture, int width, int height,
                        uint8_t *frame) {
    nsk_scaler s;
    void *memory = g_malloc(nsk_scaler_bytes(m));
    nsk_status status = nsk_scaler_set(&s, m, (unsigned)width, (unsigned)height, memory);
    size_t row = (size_t)m->width * m->channels;
    uint8_t *at = frame;
    for (int twice = 0; twice < 2 && status == NSK_STATUS_OK; twice++) { /* a second picture, too */
        at = frame;
        nsk_scaler_start(&s);
        for (int y = 0; y < height; y++) {
            nsk_scaler_put(&s, picture + (size_t)y * (size_t)width * m->channels);
            for (; nsk_scaler_take(&s, at); at += row) {
            }
        }
        CU_ASSERT_EQUAL((size_t)(at - frame), row * m->height);
    }
    g_free(memory);
    return status;
}

/* Every fit and way of resampling, any sizes: the bytes that the host prepares. */
static void scaling_is_the_hosts(void) {
    enum { ROUNDS = 1500 / TESTS_FEWER };
    random_state r = {311};
    int tried = 0;
    for (int round = 0; round < ROUNDS; round++) {
        int width = 1 + random_below(&r, 40);
        int height = 1 + random_below(&r, 40);
        int from_width = width + random_below(&r, 90);
        int from_height = height + random_below(&r, 90);
        const nsk_fit fit = (nsk_fit)random_below(&r, 3);
        const nsk_resample way = (nsk_resample)random_below(&r, NSK_RESAMPLES);
        const nsk_model m = shaped(width, height, 3, fit, way);
        const nsk_input input = {.width = width, .height = height, .fit = fit, .resample = way};
        size_t size = (size_t)3 * (size_t)width * (size_t)height;
        size_t from_size = (size_t)3 * (size_t)from_width * (size_t)from_height;
        uint8_t *rgb = g_malloc(from_size);
        uint8_t *frame = g_malloc0(size);
        uint8_t *expected = g_malloc0(size);
        for (size_t i = 0; i < from_size; i++) {
            rgb[i] = (uint8_t)random_below(&r, 256);
        }
        const nsk_picture picture = {.width = from_width, .height = from_height, .rgb = rgb};
        nsk_picture_to_frame(&picture, &input, expected);
        nsk_status status = scale(&m, rgb, from_width, from_height, frame);
        if (status == NSK_STATUS_OK) {
            tried++;
            int different = memcmp(frame, expected, size);
            if (different != 0) {
                fprintf(stderr, "\n    %d x %d to %d x %d, fit %d, way %d\n", from_width,
                        from_height, width, height, (int)fit, (int)way);
            }
            CU_ASSERT_EQUAL_FATAL(different, 0);
        } else { /* cut to the frame's proportions, it has too few pixels; or sums do not fit */
            CU_ASSERT((status == NSK_STATUS_PICTURE_SMALL && fit == NSK_FIT_CROP) ||
                      (status == NSK_STATUS_INCONSISTENT && way == NSK_RESAMPLE_BILINEAR_SMOOTH));
        }
        g_free(rgb);
        g_free(frame);
        g_free(expected);
    }
    CU_ASSERT(tried > ROUNDS / 2);
}

static void scaling_knows_its_limits(void) {
    static const struct {
        int width, height;
        nsk_resample way;
        nsk_status status;
    } cases[] = {{47, 48, NSK_RESAMPLE_AREA, NSK_STATUS_PICTURE_SMALL},
                 {48, 47, NSK_RESAMPLE_AREA, NSK_STATUS_PICTURE_SMALL},
                 {0, 0, NSK_RESAMPLE_AREA, NSK_STATUS_PICTURE_SMALL},
                 {4096, 4096, NSK_RESAMPLE_AREA, NSK_STATUS_OK},
                 {4097, 48, NSK_RESAMPLE_AREA, NSK_STATUS_INCONSISTENT},
                 {4096, 4096, NSK_RESAMPLE_BILINEAR_SMOOTH, NSK_STATUS_INCONSISTENT},
                 {96, 96, NSK_RESAMPLE_BILINEAR_SMOOTH, NSK_STATUS_OK},
                 {4096, 4096, NSK_RESAMPLE_NEAREST, NSK_STATUS_OK}};
    for (size_t i = 0; i < G_N_ELEMENTS(cases); i++) {
        nsk_model m = shaped(48, 48, 1, NSK_FIT_STRETCH, cases[i].way);
        nsk_scaler s;
        void *memory = g_malloc(nsk_scaler_bytes(&m));
        CU_ASSERT_EQUAL(
            nsk_scaler_set(&s, &m, (unsigned)cases[i].width, (unsigned)cases[i].height, memory),
            cases[i].status);
        g_free(memory);
    }
    /* all white stays white, where sums are largest */
    nsk_model m = shaped(3, 2, 1, NSK_FIT_STRETCH, NSK_RESAMPLE_AREA);
    uint8_t *white = g_malloc(4096 * 4096);
    uint8_t frame[6];
    memset(white, 255, 4096 * 4096);
    CU_ASSERT_EQUAL(scale(&m, white, 4096, 4096, frame), NSK_STATUS_OK);
    CU_ASSERT(frame[0] == 255 && frame[5] == 255);
    g_free(white);
}

/* ---- looking ---- */

static nsk_fault look(nsk_frame_check *s, const uint8_t *picture, int rows, size_t row) {
    nsk_frame_check_start(s);
    for (int y = 0; y < rows; y++) {
        nsk_frame_check_row(s, picture + row * (size_t)y);
    }
    return nsk_frame_check_end(s);
}

/* No row is then what it was. */
static void invert(uint8_t *picture, size_t size) {
    for (size_t i = 0; i < size; i++) {
        picture[i] = (uint8_t)~picture[i];
    }
}

/* One row that is of one colour, the one above, or that of the picture before. */
static void look_at_row(nsk_frame_check *s, uint8_t *picture, int row, size_t bytes, int rows) {
    uint8_t *at = picture + bytes * (size_t)row;
    uint8_t kept[256];
    invert(picture, bytes * (size_t)rows);
    memcpy(kept, at, bytes);
    memset(at, 200, bytes);
    CU_ASSERT_EQUAL(look(s, picture, rows, bytes), NSK_FAULT_PIXELS_STUCK);
    memcpy(at, kept, bytes);
    invert(picture, bytes * (size_t)rows);
    if (row > 0) {
        memcpy(at, at - bytes, bytes);
        CU_ASSERT_EQUAL(look(s, picture, rows, bytes), NSK_FAULT_ROWS_REPEATED);
        for (size_t i = 0; i < bytes; i++) {
            at[i] = (uint8_t)~kept[i];
        }
    } else {
        CU_ASSERT_EQUAL(look(s, picture, rows, bytes), NSK_FAULT_NONE);
    }
    invert(picture, bytes * (size_t)rows);
    CU_ASSERT_EQUAL(look(s, picture, rows, bytes), NSK_FAULT_NONE);
    invert(picture, bytes * (size_t)rows);
    memcpy(at, kept, bytes);
    CU_ASSERT_EQUAL(look(s, picture, rows, bytes), NSK_FAULT_PICTURE_FROZEN);
}

static void look_at_pictures(int width, int height, int channels) {
    const size_t row = (size_t)(width * channels);
    const size_t bytes = row * (size_t)height;
    const size_t size =
        nsk_frame_check_bytes((unsigned)width, (unsigned)height, (unsigned)channels);
    uint8_t *picture = g_malloc(bytes); /* of the least size, for sanitizers */
    uint8_t *stuck = g_malloc(bytes);
    void *memory = g_malloc(size);
    random_state r = {5};
    nsk_frame_check s;
    nsk_frame_check_set(&s, (unsigned)width, (unsigned)height, (unsigned)channels, memory);
    for (size_t i = 0; i < bytes; i++) {
        picture[i] = (uint8_t)random_below(&r, 256);
    }
    CU_ASSERT_EQUAL(look(&s, picture, height, row), NSK_FAULT_NONE);
    CU_ASSERT_EQUAL(look(&s, picture, height, row), NSK_FAULT_PICTURE_FROZEN);
    invert(picture, bytes);
    CU_ASSERT_EQUAL(look(&s, picture, height, row), NSK_FAULT_NONE);
    for (int y = 0; y < height; y++) {
        look_at_row(&s, picture, y, row, height);
    }
    for (int column = 0; column < width; column++) {
        const size_t at = (size_t)(column * channels);
        invert(picture, bytes);
        memcpy(stuck, picture, bytes);
        for (int y = 0; y < height; y++) {
            memset(stuck + row * (size_t)y + at, 9, (size_t)channels);
        }
        CU_ASSERT_EQUAL(look(&s, stuck, height, row), NSK_FAULT_PIXELS_STUCK);
        invert(stuck, bytes);
        stuck[bytes - row + at + (size_t)channels - 1] = 10; /* one byte of one pixel differs */
        CU_ASSERT_EQUAL(look(&s, stuck, height, row), NSK_FAULT_NONE);
    }
    g_free(picture);
    g_free(stuck);
    g_free(memory);
}

/* Rows of whole words, and rows that end within one and then begin anywhere. */
static void pictures_are_looked_at(void) {
    look_at_pictures(20, 16, 3);
    look_at_pictures(13, 9, 3);
    look_at_pictures(22, 7, 1);
}

/* ---- the loop ---- */

typedef struct bench bench;
struct bench {
    kiln k;
    nsk_model_file *file;
    uint8_t *memory;
    size_t taken;
    uint8_t *frame;
    int frames, pictures; /* that come; that have come */
    int answers, faults[NSK_FAULTS];
    int8_t scores[8][16], expected[8][16]; /* of each picture */
    uint8_t
        *other;  /* another sound model of the same size, which is there for the third, or NULL */
    size_t flip; /* byte that changes between the second picture and the third, and back after it */
    int cut_at, late_at; /* pictures */
    int wrong;
    nsk_firmware firmware;
    bool twice;
    void (*spoil)(bench *b, const nsk_model *model); /* behind the third picture's layers */
};

static void *bench_memory(void *context, size_t bytes) {
    bench *b = context;
    void *at = b->memory + b->taken;
    b->taken += (bytes + 3) / 4 * 4;
    return at;
}

static nsk_row bench_row(void *context, uint8_t *to, size_t bytes, unsigned y) {
    bench *b = context;
    if (y == 0) {
        if (b->pictures == b->frames) {
            return NSK_ROW_END;
        }
        b->pictures++;
        if (b->flip > 0 && (b->pictures == 3 || b->pictures == 4)) {
            b->file->bytes[b->flip] ^= 0x10;
        }
        if (b->other != NULL && (b->pictures == 3 || b->pictures == 4)) {
            for (size_t i = 0; i < b->file->size; i++) {
                uint8_t byte = b->file->bytes[i];
                b->file->bytes[i] = b->other[i];
                b->other[i] = byte;
            }
        }
        if (b->pictures == b->late_at) {
            return NSK_ROW_LATE;
        }
    }
    if (b->pictures == b->cut_at && y == 20) {
        return NSK_ROW_CUT;
    }
    memcpy(to, b->frame + bytes * y, bytes);
    to[y % bytes] ^= (uint8_t)b->pictures; /* no two are alike */
    return NSK_ROW_THERE;
}

static void ignore(void *context) {
    (void)context;
}

static void bench_layer(void *context, const nsk_model *model, unsigned layer) {
    bench *b = context;
    if (b->pictures == 3 && layer + 1U == model->layers && b->spoil != NULL) {
        void (*spoil)(bench *, const nsk_model *) = b->spoil;
        b->spoil = NULL;
        spoil(b, model);
    }
}

static void bench_answer(void *context, const nsk_answered *a) {
    bench *b = context;
    b->answers++;
    memcpy(b->scores[b->pictures], a->scores, a->model->classes);
    b->wrong += memcmp(b->scores[b->pictures], b->expected[b->pictures], a->model->classes) != 0;
}

static void bench_fault(void *context, nsk_fault fault) {
    ((bench *)context)->faults[fault]++;
}

static void bench_set(bench *b) {
    nsk_error error = {.text = ""};
    memset(b, 0, sizeof *b);
    kiln_load(&b->k, 6);
    b->file = b->k.file;
    b->memory = g_malloc(1 << 17);
    b->frame = g_malloc(nsk_images_frame_bytes(b->k.held_out));
    CU_ASSERT(nsk_images_frame(b->k.held_out, 3, b->frame, &error));
}

static void bench_clear(bench *b) {
    g_free(b->memory);
    g_free(b->frame);
    kiln_free(&b->k);
}

static nsk_status bench_run(bench *b, int frames) {
    const nsk_port port = {.context = b,
                           .memory = bench_memory,
                           .row = bench_row,
                           .prepared = ignore,
                           .layer_done = bench_layer,
                           .answer = bench_answer,
                           .fault = bench_fault};
    b->firmware = (nsk_firmware){.model = b->file->bytes,
                                 .model_bytes = b->file->size,
                                 .check_every = 1,
                                 .check_frames = true,
                                 .twice = b->twice,
                                 .rule = {.frames = 3, .resting = UINT16_MAX}};
    b->frames = frames;
    b->pictures = b->answers = b->wrong = 0;
    b->taken = 0;
    memset(b->faults, 0, sizeof b->faults);
    nsk_status status = nsk_firmware_run(&port, &b->firmware);
    return status;
}

/* Whatever bit of the model changes, wherever: no answer while it is so, the right ones before and
 * after. */
static void a_damaged_model_gives_no_answer(void) {
    enum { FRAMES = 5 };
    static bench b;
    bench_set(&b);
    CU_ASSERT_EQUAL(bench_run(&b, 6), NSK_STATUS_OK);
    memcpy(b.expected, b.scores, sizeof b.expected);
    size_t step = b.file->size / (60 / TESTS_FEWER);
    for (size_t at = 1; at < b.file->size; at += at < 400 / TESTS_FEWER ? 1 : step) {
        b.flip = at;
        CU_ASSERT_EQUAL(bench_run(&b, FRAMES), NSK_STATUS_OK);
        CU_ASSERT_EQUAL(b.answers, FRAMES - 1);
        CU_ASSERT_EQUAL(b.faults[NSK_FAULT_MODEL_DAMAGED], 1);
        CU_ASSERT_EQUAL(b.wrong, 0);
    }
    bench_clear(&b);
}

/* Of changes within a word none is missed; of others, scattered or near each other, one in 2^32. */
static void hashes_tell_changes(void) {
    enum { WORDS = 64, TRIALS = 400000 / TESTS_FEWER, MOST_BITS = 8 };
    random_state r = {3};
    uint32_t words[WORDS + 1]; /* and three bytes */
    const size_t size = 4U * WORDS + 3U;
    uint8_t *bytes = (uint8_t *)words;
    for (size_t i = 0; i < sizeof words; i++) {
        bytes[i] = (uint8_t)random_bits(&r);
    }
    const uint32_t was = nsk_hash(0, bytes, size);
    int missed = 0;
    for (int k = 0; k < TRIALS; k++) {
        const uint32_t by = (uint32_t)random_bits(&r) | 1U << k % 32;
        words[k % WORDS] ^= by;
        missed += nsk_hash(0, bytes, size) == was;
        words[k % WORDS] ^= by;
    }
    for (int k = 0; k < TRIALS; k++) {
        uint32_t kept[WORDS + 1];
        memcpy(kept, words, sizeof words);
        const int bits = 2 + random_below(&r, MOST_BITS - 1);
        for (int b = 0; b < bits; b++) {
            const int at = random_below(&r, (int)size);
            bytes[at] = (uint8_t)(bytes[at] ^ 1U << random_below(&r, 8));
        }
        missed += memcmp(kept, words, size) != 0 && nsk_hash(0, bytes, size) == was;
        memcpy(words, kept, sizeof words);
    }
    CU_ASSERT_EQUAL(missed, 0);
    CU_ASSERT_EQUAL(nsk_hash(nsk_hash(0, bytes, 20), bytes + 20, size - 20), was);
    for (size_t at = size - 3; at < size; at++) { /* what fills no word */
        bytes[at] ^= 0x10;
        CU_ASSERT_NOT_EQUAL(nsk_hash(0, bytes, size), was);
        bytes[at] ^= 0x10;
    }
}

/* One that is as large and sound, but was not opened, is no better than a damaged one. */
static void another_model_gives_no_answer(void) {
    static bench b;
    nsk_error error = {.text = ""};
    bench_set(&b);
    CU_ASSERT_EQUAL(bench_run(&b, 6), NSK_STATUS_OK);
    memcpy(b.expected, b.scores, sizeof b.expected);
    kiln other;
    kiln_load(&other, 9); /* of other pictures: other ranges in the same places */
    CU_ASSERT_EQUAL_FATAL(other.file->size, b.file->size);
    nsk_model model;
    CU_ASSERT_EQUAL(nsk_open(&model, other.file->bytes, other.file->size), NSK_STATUS_OK);
    b.other = other.file->bytes;
    CU_ASSERT_EQUAL(bench_run(&b, 6), NSK_STATUS_OK);
    CU_ASSERT_EQUAL(b.answers, 5);
    CU_ASSERT_EQUAL(b.faults[NSK_FAULT_MODEL_DAMAGED], 1);
    CU_ASSERT_EQUAL(b.wrong, 0);
    b.other = NULL;
    assert_error(&error, "");
    kiln_free(&other);
    bench_clear(&b);
}

static void a_bad_picture_gives_no_answer(void) {
    static bench b;
    bench_set(&b);
    CU_ASSERT_EQUAL(bench_run(&b, 6), NSK_STATUS_OK);
    memcpy(b.expected, b.scores, sizeof b.expected);
    b.cut_at = 2;
    b.late_at = 4;
    CU_ASSERT_EQUAL(bench_run(&b, 6), NSK_STATUS_OK);
    CU_ASSERT_EQUAL(b.answers, 4);
    CU_ASSERT_EQUAL(b.faults[NSK_FAULT_PICTURE_CUT], 1);
    CU_ASSERT_EQUAL(b.faults[NSK_FAULT_CAMERA_LATE], 1);
    CU_ASSERT_EQUAL(b.wrong, 0);
    bench_clear(&b);
}

/* ---- memory that changes while it runs ---- */

static uint8_t *workspace_of(const bench *b, const nsk_model *m) {
    return b->memory + (size_t)m->width * m->height * m->channels; /* the frame stands first */
}

static void spoil_frame(bench *b, const nsk_model *m) {
    memset(b->memory, 0, (size_t)m->width * m->height * m->channels);
}

static void spoil_guard_before(bench *b, const nsk_model *m) {
    *workspace_of(b, m) ^= 1;
}

static void spoil_guard_behind(bench *b, const nsk_model *m) {
    workspace_of(b, m)[4 + (m->workspace_bytes + 3) / 4 * 4 + 3] ^= 0x80;
}

static void spoil_decider(bench *b, const nsk_model *m) {
    workspace_of(b, m)[8 + (m->workspace_bytes + 3) / 4 * 4 + 2] ^= 1;
}

static void spoil_model(bench *b, const nsk_model *m) {
    (void)b;
    ((nsk_model *)m)->workspace_bytes ^= 0x400;
}

static void spoil_rule(bench *b, const nsk_model *m) {
    (void)m;
    b->firmware.rule.threshold ^= 0x20;
}

static void spoil_nothing(bench *b, const nsk_model *m) {
    (void)b;
    (void)m;
}

/* Of six pictures: what changed in memory gives no answer, and stops what cannot go on. */
static void spoilt_memory_gives_no_answer(void) {
    static const struct {
        void (*spoil)(bench *b, const nsk_model *model);
        bool twice;
        nsk_status status;
        int answers, differ, damaged;
    } cases[] = {
        {spoil_nothing, true, NSK_STATUS_OK, 6, 0, 0},
        {spoil_frame, false, NSK_STATUS_OK, 6, 0, 0},
        {spoil_frame, true, NSK_STATUS_OK, 5, 1, 0},
        {spoil_guard_before, false, NSK_STATUS_DAMAGED, 2, 0, 1},
        {spoil_guard_behind, false, NSK_STATUS_DAMAGED, 2, 0, 1},
        {spoil_decider, false, NSK_STATUS_OK, 5, 0, 1},
        {spoil_model, false, NSK_STATUS_DAMAGED, 2, 0, 1},
        {spoil_rule, false, NSK_STATUS_DAMAGED, 2, 0, 1},
    };
    static bench b;
    bench_set(&b);
    CU_ASSERT_EQUAL(bench_run(&b, 6), NSK_STATUS_OK);
    memcpy(b.expected, b.scores, sizeof b.expected);
    for (size_t i = 0; i < sizeof cases / sizeof *cases; i++) {
        b.spoil = cases[i].spoil;
        b.twice = cases[i].twice;
        CU_ASSERT_EQUAL(bench_run(&b, 6), cases[i].status);
        CU_ASSERT_EQUAL(b.answers, cases[i].answers);
        CU_ASSERT_EQUAL(b.faults[NSK_FAULT_RUNS_DIFFER], cases[i].differ);
        CU_ASSERT_EQUAL(b.faults[NSK_FAULT_MEMORY_DAMAGED], cases[i].damaged);
        CU_ASSERT_EQUAL(b.wrong, 0);
    }
    bench_clear(&b);
}

/* A streamed model leaves no frame to run again. */
static void streams_are_not_run_twice(void) {
    static bench b;
    nsk_error error = {.text = ""};
    nsk_recipe recipe;
    nsk_recipe_init(&recipe);
    recipe.streaming = NSK_STREAMING_ALWAYS;
    bench_set(&b);
    b.file = nsk_quantise(b.k.network, b.k.calibration, &recipe, &error);
    CU_ASSERT_PTR_NOT_NULL_FATAL(b.file);
    CU_ASSERT_EQUAL(bench_run(&b, 2), NSK_STATUS_OK);
    b.twice = true;
    CU_ASSERT_EQUAL(bench_run(&b, 2), NSK_STATUS_INCONSISTENT);
    CU_ASSERT_EQUAL(b.pictures, 0);
    nsk_model_file_free(b.file);
    bench_clear(&b);
}

static void a_model_that_is_none_does_not_begin(void) {
    static bench b;
    bench_set(&b);
    b.file->bytes[b.file->size / 2] ^= 1;
    CU_ASSERT_EQUAL(bench_run(&b, 1), NSK_STATUS_DAMAGED);
    CU_ASSERT_EQUAL(b.pictures, 0);
    b.file->bytes[b.file->size / 2] ^= 1;
    bench_clear(&b);
}

CU_TestInfo firmware_tests[] = {
    {"scaling is the host's", scaling_is_the_hosts},
    {"scaling knows its limits", scaling_knows_its_limits},
    {"pictures are looked at", pictures_are_looked_at},
    {"hashes tell changes", hashes_tell_changes},
    {"a damaged model gives no answer", a_damaged_model_gives_no_answer},
    {"another model gives no answer", another_model_gives_no_answer},
    {"a bad picture gives no answer", a_bad_picture_gives_no_answer},
    {"spoilt memory gives no answer", spoilt_memory_gives_no_answer},
    {"streams are not run twice", streams_are_not_run_twice},
    {"a model that is none does not begin", a_model_that_is_none_does_not_begin},
    CU_TEST_INFO_NULL,
};
