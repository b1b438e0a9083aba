/* Briefs and boards: what is read, and what is said of what cannot be. */
#include <math.h>
#include <stdio.h>
#include <string.h>

#include "../suites.h"
#include "../support.h"
#include "netsuke/budget.h"

static const char GOOD[] = "[model]\nfile = m.onnx\nlabels = labels.txt\n";

static void with_brief(const char *text, void (*check)(nsk_brief *brief, const nsk_error *error)) {
    char *folder = scratch_new();
    char *labels = scratch_path(folder, "labels.txt");
    char *path = scratch_path(folder, "job.ini");
    nsk_error error = {.text = ""};
    scratch_write_text(labels, "belt\nsound\ncrack\n");
    scratch_write_text(path, text);
    nsk_brief *brief = nsk_brief_read(path, &error);
    check(brief, &error);
    nsk_brief_free(brief);
    g_free(labels);
    g_free(path);
    scratch_remove(folder);
}

static void check_everything(nsk_brief *b, const nsk_error *error) {
    CU_ASSERT_PTR_NOT_NULL_FATAL(b);
    CU_ASSERT_EQUAL(b->recipe.streaming, NSK_STREAMING_ALWAYS);
    CU_ASSERT_EQUAL(b->recipe.ranges, NSK_RANGE_METHOD_PERCENTILE);
    CU_ASSERT_EQUAL_FATAL(b->recipe.excepted, 2);
    CU_ASSERT_STRING_EQUAL(b->recipe.exceptions[1].layer, "last one");
    CU_ASSERT_EQUAL(b->recipe.exceptions[0].method, NSK_RANGE_METHOD_EXTREMES);
    CU_ASSERT(b->recipe.equalise && !b->recipe.rounding && b->recipe.biases);
    CU_ASSERT_STRING_EQUAL(error->text, "");
    CU_ASSERT(g_str_has_suffix(b->model, "/m.onnx"));
    CU_ASSERT_STRING_EQUAL(b->held_out, "/far/held-out");
    CU_ASSERT(g_str_has_suffix(b->calibration, "/near/cal"));
    CU_ASSERT_EQUAL(b->calibration_limit, 200);
    CU_ASSERT_EQUAL(b->labels.count, 3);
    CU_ASSERT_STRING_EQUAL(b->labels.names[2], "crack");
    CU_ASSERT_EQUAL(b->input.width, 40);
    CU_ASSERT_EQUAL(b->input.height, 30);
    CU_ASSERT_EQUAL(b->input.colour, NSK_COLOUR_BGR);
    CU_ASSERT_EQUAL(b->input.fit, NSK_FIT_PAD);
    CU_ASSERT_EQUAL(b->input.top, 255.0);
    CU_ASSERT_EQUAL(b->input.mean[1], 20.5);
    CU_ASSERT_EQUAL(b->input.deviation[2], 60.0);
    CU_ASSERT_EQUAL(b->limits.flash, 256.0 * 1024.0);
    CU_ASSERT_EQUAL(b->limits.ram, 64000.0);
    CU_ASSERT_DOUBLE_EQUAL(b->limits.latency, 0.04, 1e-12);
    CU_ASSERT_EQUAL(b->limits.loss, 1.0);
    CU_ASSERT_EQUAL(b->decision.frames, 3);
    CU_ASSERT_STRING_EQUAL(b->decision.resting, "belt");
    CU_ASSERT_EQUAL(b->input.resample, NSK_RESAMPLE_BILINEAR_SMOOTH);
    CU_ASSERT_STRING_EQUAL(b->held_out_labels, "/far/truth");
    CU_ASSERT_PTR_NULL(b->calibration_labels);
    CU_ASSERT_STRING_EQUAL(b->output, "scores");
    CU_ASSERT_STRING_EQUAL(b->facts[NSK_FACT_NAME], "Kiln watch");
    CU_ASSERT_STRING_EQUAL(b->facts[NSK_FACT_LICENCE], "MIT");
    CU_ASSERT_PTR_NULL(b->facts[NSK_FACT_AUTHOR]);
}

static void everything_is_read(void) {
    with_brief("# a comment\n[model]\nfile = m.onnx\nlabels = labels.txt   ; one a line\n"
               "output = scores\nname = Kiln watch\nlicence = MIT\n"
               "[input]\nsize = 40x30 ; width x height\ncolour=bgr\nfit = pad\nrange = 0..255\n"
               "resample = smooth-bilinear\n"
               "mean = 10.5;20.5; 30.5 ; of bytes\ndeviation = 60\n"
               "[images]\ncalibration = near/cal\nheld-out = /far/held-out\n"
               "held-out-labels = /far/truth\n"
               "calibration-limit = 200\n"
               "[limits]\nflash = 256 KiB\nram = 64 kB\nlatency = 40 ms\nloss = 1.0\n"
               "[schedule]\nstreamed = always\n"
               "[ranges]\nevery = percentile\nconv1 = extremes\nlast one = auto\n"
               "[stages]\nrounding = no\nequalise = yes\n"
               "[decision]\nframes = 3\nresting = belt\nthreshold = 0.75\n",
               check_everything);
}

static void check_defaults(nsk_brief *b, const nsk_error *error) {
    CU_ASSERT_PTR_NOT_NULL_FATAL(b);
    CU_ASSERT_EQUAL(b->recipe.ranges, NSK_RANGE_METHOD_SQUARED_ERROR);
    CU_ASSERT_EQUAL(b->recipe.streaming, NSK_STREAMING_WHEN_NEEDED);
    CU_ASSERT(b->recipe.equalise && b->recipe.rounding && b->recipe.biases);
    CU_ASSERT_STRING_EQUAL(error->text, "");
    CU_ASSERT_EQUAL(b->calibration_limit, 1000);
    CU_ASSERT_EQUAL(b->input.width, 0);
    CU_ASSERT_EQUAL(b->input.colour, NSK_COLOUR_RGB);
    CU_ASSERT_EQUAL(b->input.deviation[0], 1.0);
    CU_ASSERT(isinf(b->limits.flash) && isinf(b->limits.loss));
    CU_ASSERT_PTR_NULL(b->board);
    CU_ASSERT_PTR_NULL(b->decision.resting);
}

/* The last list turns fastest; a list of one is no choice, and is not in the name. */
static void lists_make_variants(void) {
    static const struct {
        const char *name, *model, *board;
        nsk_streaming_wish streaming;
    } expected[] = {{"a,always", "/m/a.onnx", "/two.ini", NSK_STREAMING_ALWAYS},
                    {"a,never", "/m/a.onnx", "/two.ini", NSK_STREAMING_NEVER},
                    {"b,always", "/m/b.onnx", "/two.ini", NSK_STREAMING_ALWAYS},
                    {"b,never", "/m/b.onnx", "/two.ini", NSK_STREAMING_NEVER}};
    char *folder = scratch_new();
    char *path = scratch_path(folder, "job.ini");
    char *labels = scratch_path(folder, "labels.txt");
    nsk_error error = {.text = ""};
    scratch_write_text(labels, "belt\nsound\ncrack\n");
    scratch_write_text(path, "[model]\nfile = m.onnx\nlabels = labels.txt\n[vary]\nmodel = "
                             "m/a.onnx; m/b.onnx\nstreamed = always;never\n"
                             "board = two.ini\n[board]\nfile = one.ini\n");
    for (int i = 0; i < (int)G_N_ELEMENTS(expected); i++) {
        nsk_brief *b = nsk_brief_read_variant(path, i, &error);
        CU_ASSERT_PTR_NOT_NULL_FATAL(b);
        CU_ASSERT_EQUAL(b->variants, 4);
        CU_ASSERT_STRING_EQUAL(b->variant, expected[i].name);
        CU_ASSERT(g_str_has_suffix(b->model, expected[i].model));
        CU_ASSERT(g_str_has_suffix(b->board, expected[i].board));
        CU_ASSERT_EQUAL(b->recipe.streaming, expected[i].streaming);
        nsk_brief_free(b);
    }
    nsk_brief *plain = nsk_brief_read(path, &error); /* for other commands */
    CU_ASSERT_PTR_NOT_NULL_FATAL(plain);
    CU_ASSERT(g_str_has_suffix(plain->model, "/m.onnx") &&
              g_str_has_suffix(plain->board, "one.ini"));
    CU_ASSERT_STRING_EQUAL(plain->variant, "job");
    nsk_brief_free(plain);
    g_free(path);
    g_free(labels);
    scratch_remove(folder);
}

static void little_is_needed(void) {
    with_brief(GOOD, check_defaults);
}

/* A brief, and what must be said of it. */
static const char *const bad[][2] = {
    {"[model]\nfile = m.onnx\n", "'labels' is missing; add it under [model]"},
    {"[model]\nlabels = labels.txt\n", "'file' is missing"},
    {"[model]\nfile = m.onnx\nlabels = labels.txt\nfiel = x\n", "job.ini:4: unknown key 'fiel'"},
    {"[modle]\nfile = m.onnx\n", "job.ini:1: unknown group [modle]; did you mean 'model'? known "
                                 "are: model, input, images, board, limits,"},
    {"[model\nfile = m.onnx\n", "job.ini:1: a group's name ends with ']'"},
    {"file = m.onnx\n", "job.ini:1: neither a [group]"},
    {"[model]\nfile m.onnx\n", "job.ini:2: neither"},
    {"[model]\nfile = a\nfile = b\n", "job.ini:3: 'file' stands on line 2 already"},
    {"[model]\nfile = m.onnx\nlabels = none.txt\n", "none.txt: No such file"},
    {"$[input]\nsize = 48\n", "job.ini:5: size: width x height"},
    {"$[input]\nsize = 0x48\n", "job.ini:5: size"},
    {"$[input]\nsize = 48x48x3\n", "job.ini:5: size"},
    {"$[input]\ncolour = red\n", "job.ini:5: colour: 'red' is none of: rgb, bgr, grey"},
    {"$[input]\nfit = zoom\n", "none of: stretch, crop, pad"},
    {"$[input]\nmean = 1;2\n", "job.ini:5: mean: one number, or three"},
    {"$[input]\nmean = 1;2;x\n", "one number, or three"},
    {"$[input]\nmean = nan\n", "one number, or three"},
    {"$[input]\nmean = 0x10\n", "one number, or three"},
    {"$[limits]\nflash = 0x10 KiB\n", "'0x10 KiB' should be bytes"},
    {"$[limits]\nflash = inf KiB\n", "should be bytes"},
    {"$[input]\ndeviation = 0\n", "job.ini:5: deviation: each deviation must be above zero"},
    {"$[limits]\nflash = 256\n", ":5: flash: '256' should be bytes, as in '64 KiB'"},
    {"$[limits]\nflash = 256 KiB\nram = 64 KB\n",
     "job.ini:6: ram: '64 KB' should be bytes, as in '64 KiB', from 0 to 1e+12: a number and its "
     "unit"},
    {"$[limits]\nlatency = 40\n", "'40' should be a time, as in '40 ms'"},
    {"$[schedule]\nstreamed = often\n", "none of: when-needed, never, always"},
    {"$[ranges]\nconv1 = wide\n", "job.ini:5: conv1: 'wide' is none of: auto, extremes"},
    {"$[stages]\nbiases = 1\n", "none of: no, yes"},
    {"$[stages]\npolish = yes\n", "unknown key 'polish'"},
    {"$[vary]\nmodel = a;\n", "job.ini:5: model: a value between two ';' is empty"},
    {"$[vary]\nmoddel = a\n", "known are: model, size, ranges, bits, streamed, refine, board"},
    {"$[limits]\nloss = much\n", "job.ini:5: loss: 'much' should be points"},
    {"$[images]\ncalibration-limit = -1\n", "job.ini:5: calibration-limit"},
    {"$[images]\ncalibration-limit = 20.5\n", "job.ini:5: calibration-limit: a whole number"},
    {"$[schedule]\nstreamed = always\n[firmware]\ntwice = yes\n",
     "job.ini:7: twice: a streamed model holds no frame to run a second time"},
    {"$[camera]\nformat = yuv\n", "job.ini:5: format: 'yuv' is none of: pixels, rgb565"},
    {"$[camera]\nlevels = some\n", "job.ini:5: levels: 'some' is none of: studio, all"},
    {"$[camera]\nwindow = 8x8\n", "job.ini:5: window: width x height + left + top in pixels"},
    {"$[camera]\nwindow = 0x8+1+1\n", "job.ini:5: window: width x height + left + top"},
    {"$[input]\nsize = 4x4\n[firmware]\ncamera = 9x8\n[camera]\nformat = nv12\n",
     "job.ini:9: [camera]: the sensor's picture is 9 x 8"},
    {"$[input]\nsize = 4x4\n[firmware]\ncamera = 9x8\n[camera]\nwindow = 8x8+2+0\n",
     "job.ini:9: [camera]: the sensor's picture is 9 x 8"},
    {"$[input]\nsize = 4x4\n[firmware]\ncamera = 9x8\n[camera]\nwindow = 3x8+2+0\n",
     "job.ini:9: camera: 3x8 is smaller than the model's frames of 4x4"},
    {"$[decision]\nframes = 1.5\n", "job.ini:5: frames: a whole number"},
    {"$[decision]\nthreshold = 2\n", "job.ini:5: threshold"},
    {"$[decision]\nresting = nobody\n", "job.ini:5: resting: no label has this name"},
};

static const char *wanted;

static void check_bad(nsk_brief *brief, const nsk_error *error) {
    CU_ASSERT_PTR_NULL(brief);
    CU_ASSERT_PTR_NULL(strchr(error->text, '\n'));
    assert_error(error, wanted);
}

static void mistakes_are_named(void) {
    for (size_t i = 0; i < G_N_ELEMENTS(bad); i++) {
        bool after = bad[i][0][0] == '$'; /* behind a good beginning */
        char *text = after ? g_strconcat(GOOD, bad[i][0] + 1, NULL) : g_strdup(bad[i][0]);
        wanted = bad[i][1];
        with_brief(text, check_bad);
        g_free(text);
    }
}

static void labels_are_checked(void) {
    static const char *const files[][2] = {
        {"a\n", "1 labels; a classifier has 2"},
        {"a\n\nb\n", ":2: an empty line"},
        {"a\nb\na\n", ":3: 'a' stands on line 1 already"},
        {"a\n\xff\xfe\n", ":2: a name is UTF-8"},
    };
    char *folder = scratch_new();
    char *labels = scratch_path(folder, "labels.txt");
    char *path = scratch_path(folder, "job.ini");
    scratch_write_text(path, GOOD);
    for (size_t i = 0; i < G_N_ELEMENTS(files); i++) {
        nsk_error error = {.text = ""};
        scratch_write_text(labels, files[i][0]);
        CU_ASSERT_PTR_NULL(nsk_brief_read(path, &error));
        assert_error(&error, files[i][1]);
    }
    g_free(labels);
    g_free(path);
    scratch_remove(folder);
}

static void not_a_text_file(void) {
    char *folder = scratch_new();
    char *path = scratch_path(folder, "job.ini");
    nsk_error error = {.text = ""};
    scratch_write(path, "[model]\0\xff", 9);
    CU_ASSERT_PTR_NULL(nsk_brief_read(path, &error));
    assert_error(&error, "not a text file");
    CU_ASSERT_PTR_NULL(nsk_brief_read(folder, &error));
    assert_error(&error, "this is a folder");
    CU_ASSERT_PTR_NULL(nsk_brief_read("nowhere.ini", &error));
    assert_error(&error, "nowhere.ini: No such file");
    g_free(path);
    scratch_remove(folder);
}

static void boards_are_checked(void) {
    static const char HEAD[] =
        "[board]\nname = b\ncore = cortex-m4\nclock = 80 MHz\nflash = 1 MiB\nram = 64 KiB\n";
    static const char *const ends[][2] = {
        {"flash = 32\n", ":7: 'flash' stands on line 5 already"},
        {"clocks = 3\n", ":7: unknown key 'clocks'"},
        {"wait-states = many\n", ":7: wait-states"},
        {"camera-rate = 0\n", ":7: camera-rate"},
        {"active-power = 3\n", "'3' should be power, as in '30 mW'"},
    };
    char *folder = scratch_new();
    char *path = scratch_path(folder, "b.ini");
    nsk_error error = {.text = ""};
    for (size_t i = 0; i < G_N_ELEMENTS(ends); i++) {
        char *text = g_strconcat(HEAD, ends[i][0], i > 0 ? "[costs]\nfile = c.ini\n" : "", NULL);
        scratch_write_text(path, text);
        CU_ASSERT_PTR_NULL(nsk_board_read(path, &error));
        assert_error(&error, ends[i][1]);
        g_free(text);
    }
    nsk_board *board = nsk_board_read(NSK_SOURCE_DIR "/boards/trimmer.ini", &error);
    CU_ASSERT_PTR_NOT_NULL_FATAL(board);
    CU_ASSERT_EQUAL(board->clock, 80e6);
    CU_ASSERT_EQUAL(board->flash, 256.0 * 1024.0);
    CU_ASSERT_EQUAL(board->ram, 64.0 * 1024.0);
    nsk_board_free(board);
    CU_ASSERT_PTR_NULL(nsk_board_read(NULL, &error));
    assert_error(&error, "the brief names no board");
    g_free(path);
    scratch_remove(folder);
}

/* An error says what kind it is; and nobody has to listen. */
static void errors_have_codes_and_need_no_listener(void) {
    char *folder = scratch_new();
    char *path = scratch_path(folder, "job.ini");
    nsk_error error = {.text = ""};
    CU_ASSERT_PTR_NULL(nsk_brief_read(path, &error));
    CU_ASSERT_EQUAL(error.code, NSK_ERROR_CODE_SYSTEM);
    CU_ASSERT_PTR_NULL(nsk_brief_read(path, NULL));
    scratch_write_text(path, "[model]\n");
    CU_ASSERT_PTR_NULL(nsk_brief_read(path, &error));
    CU_ASSERT_EQUAL(error.code, NSK_ERROR_CODE_INPUT);
    CU_ASSERT_PTR_NULL(nsk_brief_read(path, NULL));
    char *model = scratch_path(folder, "m.onnx");
    onnx_maker *maker = onnx_new(13, 3, 8, 8);
    onnx_node(maker, "NonZero", "x", "y", "");
    onnx_finish(maker, model);
    nsk_input input;
    nsk_input_init(&input);
    CU_ASSERT_PTR_NULL(nsk_network_read(model, &input, NULL, &error));
    CU_ASSERT_EQUAL(error.code, NSK_ERROR_CODE_UNSUPPORTED);
    CU_ASSERT_PTR_NULL(nsk_network_read(model, &input, NULL, NULL));
    char *names[] = {"belt", NULL};
    const nsk_labels labels = {.count = 1, .names = names};
    for (int tolerant = 0; tolerant < 2; tolerant++) {
        CU_ASSERT_PTR_NULL(nsk_images_open(folder, &labels, &input, 0, tolerant == 1, NULL));
    }
    g_free(model);
    g_free(path);
    scratch_remove(folder);
}

CU_TestInfo settings_tests[] = {
    {"errors have codes and need no listener", errors_have_codes_and_need_no_listener},
    {"everything a brief may say", everything_is_read},
    {"the least that it must say", little_is_needed},
    {"lists make variants", lists_make_variants},
    {"mistakes are named with their line", mistakes_are_named},
    {"labels", labels_are_checked},
    {"files that are none", not_a_text_file},
    {"boards", boards_are_checked},
    CU_TEST_INFO_NULL,
};
