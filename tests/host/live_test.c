/* Pictures as they come: Y4M streams of all kinds and broken ones, folders, scenes. */
#include <math.h>
#include <string.h>

#include "../suites.h"
#include "../support.h"
#include "brief/rule.h"
#include "images/light.h"
#include "live/y4m.h"
#include "netsuke/classify.h"
#include "netsuke/gather.h"
#include "netsuke/live.h"
#include "netsuke/review.h"

static nsk_live_setup setup_of(const kiln *k, const char *camera) {
    return (nsk_live_setup){.camera = camera,
                            .network = k->network,
                            .model = k->file,
                            .labels = &k->brief->labels,
                            .input = &k->brief->input,
                            .product = &k->brief->product,
                            .decision = &k->brief->decision};
}

/* ---- Y4M ---- */

/* What a stream of grey and colours is read as, for each way to store it: 5 x 3 pixels, luma 100
 * but for the last one, which has 235; colours 90 and 240. */
static void every_way_of_storing(void) {
    static const struct {
        const char *words;
        int luma, colour; /* bytes of a picture */
        uint8_t most[3];  /* of the first pixel */
        uint8_t last[3];
    } ways[] = {{"C420jpeg", 15, 2 * 6, {255, 22, 21}, {255, 179, 178}},
                {"C420mpeg2", 15, 2 * 6, {255, 22, 21}, {255, 179, 178}},
                {"", 15, 2 * 6, {255, 22, 21}, {255, 179, 178}},
                {"C422", 15, 2 * 9, {255, 22, 21}, {255, 179, 178}},
                {"C444", 15, 2 * 15, {255, 22, 21}, {255, 179, 178}},
                {"C444alpha", 15, 3 * 15, {255, 22, 21}, {255, 179, 178}},
                {"C411", 15, 2 * 6, {255, 22, 21}, {255, 179, 178}},
                {"C410", 15, 2 * 2, {255, 22, 21}, {255, 179, 178}},
                {"C440", 15, 2 * 10, {255, 22, 21}, {255, 179, 178}},
                {"Cmono", 15, 0, {98, 98, 98}, {255, 255, 255}},
                {"Cmono XCOLORRANGE=FULL", 15, 0, {100, 100, 100}, {235, 235, 235}},
                {"C444 XCOLORRANGE=FULL", 15, 2 * 15, {255, 33, 33}, {255, 168, 168}}};
    for (size_t i = 0; i < G_N_ELEMENTS(ways); i++) {
        GString *bytes = g_string_new(NULL);
        g_string_printf(bytes, "YUV4MPEG2 W5 H3 F30000:1001 Ip A1:1 %s XYSCSS=anything\nFRAME\n",
                        ways[i].words);
        const gsize head = bytes->len;
        for (int k = 0; k < ways[i].luma + ways[i].colour; k++) {
            const bool is_last = k == ways[i].luma - 1;
            const bool is_u = k < ways[i].luma + ways[i].colour / 2;
            g_string_append_c(bytes, (char)(k < ways[i].luma ? (is_last ? 235 : 100)
                                            : is_u           ? 90
                                                             : 240));
        }
        if (strcmp(ways[i].words, "C444alpha") == 0) { /* thirds, not halves */
            memset(bytes->str + head + 15, 90, 15);
            memset(bytes->str + head + 30, 240, 15);
        }
        GInputStream *in =
            g_memory_input_stream_new_from_data(bytes->str, (gssize)bytes->len, NULL);
        nsk_y4m format;
        nsk_error error = {.text = ""};
        uint8_t planes[60];
        uint8_t rgb[45];
        CU_ASSERT_FATAL(nsk_y4m_begin(in, &format, NULL, &error));
        CU_ASSERT_EQUAL_FATAL(format.bytes, (size_t)(ways[i].luma + ways[i].colour));
        CU_ASSERT_DOUBLE_EQUAL(format.rate, 29.97, 0.001);
        CU_ASSERT_EQUAL(nsk_y4m_next(in, &format, planes, NULL, &error), 1);
        CU_ASSERT_EQUAL(nsk_y4m_next(in, &format, planes, NULL, &error), 0);
        nsk_y4m_rgb(&format, planes, rgb);
        for (int c = 0; c < 3; c++) {
            CU_ASSERT_EQUAL(rgb[c], ways[i].most[c]);
            CU_ASSERT_EQUAL(rgb[42 + c], ways[i].last[c]);
        }
        g_object_unref(in);
        g_string_free(bytes, TRUE);
    }
}

static void broken_streams(void) {
    static const char *const streams[][2] = {
        {"", "this is no Y4M stream"},
        {"RIFF", "this is no Y4M stream"},
        {"YUV4MPEG23 W5 H3\n", "this is no Y4M stream"},
        {"YUV4MPEG2 W5 H3", "this is no Y4M stream"},
        {"YUV4MPEG2 W5\n", "does not say how large"},
        {"YUV4MPEG2 W0 H3\n", "width '0' is none"},
        {"YUV4MPEG2 W99999 H3\n", "width '99999' is none"},
        {"YUV4MPEG2 W5 H-3\n", "height '-3' is none"},
        {"YUV4MPEG2 W5 H3 C420p10\n", "stored as '420p10', which is not read"},
        {"YUV4MPEG2 W16000 H16000 Cmono\n", "at most 64 million are read"},
        {"YUV4MPEG2 W5 H3 Cmono\nPICTURE\n", "a picture would begin with FRAME"},
        {"YUV4MPEG2 W5 H3 Cmono\nFRAME\n12345", "ends in the middle of a picture"}};
    kiln k;
    kiln_load(&k, 6);
    char *folder = scratch_new();
    char *path = g_build_filename(folder, "s.y4m", NULL);
    for (size_t i = 0; i < G_N_ELEMENTS(streams); i++) {
        nsk_error error = {.text = ""};
        nsk_live_frame frame;
        const nsk_live_setup setup = setup_of(&k, path);
        CU_ASSERT(g_file_set_contents(path, streams[i][0], -1, NULL));
        nsk_live *live = nsk_live_open(&setup, &error);
        CU_ASSERT(live == NULL || nsk_live_next(live, &frame, &error) == NSK_LIVE_FAILED);
        assert_error(&error, streams[i][1]);
        nsk_live_close(live);
    }
    g_free(path);
    scratch_remove(folder);
    kiln_free(&k);
}

/* ---- what is said of pictures ---- */

/* A folder's pictures are answered as one by one, and decided on as the rule says. */
static void a_folder_is_looked_at(void) {
    nsk_error error = {.text = ""};
    kiln k;
    kiln_load(&k, 6);
    const nsk_live_setup setup = setup_of(&k, NSK_SOURCE_DIR "/demo/images/held-out/chip");
    nsk_live *live = nsk_live_open(&setup, &error);
    CU_ASSERT_PTR_NOT_NULL_FATAL(live);
    CU_ASSERT(nsk_live_count(live) > 20 && nsk_live_rate(live) < 1.0);
    for (int i = 0; i < 12; i++) {
        nsk_live_frame f;
        CU_ASSERT_EQUAL_FATAL(nsk_live_next(live, &f, &error), NSK_LIVE_THERE);
        const char *const paths[] = {f.name, NULL};
        nsk_opinions *o = nsk_classify(k.network, k.file, &k.brief->labels, &k.brief->input, paths,
                                       NULL, NULL, &error);
        CU_ASSERT_PTR_NOT_NULL_FATAL(o);
        CU_ASSERT(
            memcmp(o->opinion->by_integer, f.by_integer, (size_t)o->classes * sizeof(float)) == 0);
        CU_ASSERT(memcmp(o->opinion->by_float, f.by_float, (size_t)o->classes * sizeof(float)) ==
                  0);
        CU_ASSERT_STRING_EQUAL(k.brief->labels.names[f.truth], "chip");
        CU_ASSERT(f.number == i && f.dropped == 0 && f.width == 48 && f.fault == NSK_FAULT_NONE);
        char *picture = nsk_live_picture(&f, 20);
        CU_ASSERT(g_str_has_prefix(picture, "data:image/jpeg;base64,/9j/"));
        g_free(picture);
        nsk_opinions_free(o);
    }
    nsk_live_close(live);
    kiln_free(&k);
}

/* A scene's decisions are those of the device's own rule on the scores of the frame that is shown.
 */
static void a_scene_is_decided_on(void) {
    nsk_error error = {.text = ""};
    kiln k;
    kiln_load(&k, 40);
    nsk_model model;
    nsk_rule_lists lists;
    nsk_open(&model, k.file->bytes, k.file->size);
    const nsk_rule rule = nsk_rule_of(&k.brief->decision, &model, &lists);
    nsk_decider decider = {.filled = 0};
    int32_t scores[6];
    const nsk_live_setup setup = setup_of(&k, NSK_SOURCE_DIR "/demo/scenes/plain.csv");
    nsk_live *live = nsk_live_open(&setup, &error);
    CU_ASSERT_PTR_NOT_NULL_FATAL(live);
    nsk_live_frame f;
    int ups = 0;
    int pictures = 0;
    int right = 0;
    while (nsk_live_next(live, &f, &error) == NSK_LIVE_THERE) {
        model_scores(k.file, f.frame, scores);
        ups += f.decided == 0;
        right += (int)nsk_best(&model, scores) == f.truth;
        CU_ASSERT_EQUAL(f.line, nsk_answer_of(&rule, &model, scores));
        CU_ASSERT_EQUAL(f.decided, nsk_decide(&decider, &rule, &model, scores));
        CU_ASSERT_EQUAL(f.standing, decider.has_standing ? decider.standing : NSK_NOTHING);
        CU_ASSERT(f.width == 64 && f.height == 64);
        pictures++;
    }
    assert_error(&error, "");
    CU_ASSERT_EQUAL(pictures, nsk_live_count(live));
    CU_ASSERT(ups >= 5 && ups <= 20);
    CU_ASSERT(right > pictures / 2);
    nsk_live_close(live);
    kiln_free(&k);
}

/* The same picture twice is no new picture, where the brief looks at pictures. */
static void a_frozen_picture_is_no_answer(void) {
    nsk_error error = {.text = ""};
    kiln k;
    kiln_load(&k, 6);
    char *folder = scratch_new();
    char *path = g_build_filename(folder, "s.y4m", NULL);
    random_state r = {3};
    GString *bytes = g_string_new("YUV4MPEG2 W64 H64 Cmono\n");
    for (int picture = 0; picture < 3; picture++) {
        g_string_append(bytes, "FRAME\n");
        const gsize before = bytes->len;
        for (int i = 0; i < 64 * 64; i++) {
            g_string_append_c(bytes, (char)(30 + random_below(&r, 200)));
        }
        if (picture == 1) {
            memcpy(bytes->str + before, bytes->str + before - 64 * 64 - 6, 64 * 64);
        }
    }
    CU_ASSERT(g_file_set_contents(path, bytes->str, (gssize)bytes->len, NULL));
    const nsk_live_setup setup = setup_of(&k, path);
    nsk_live *live = nsk_live_open(&setup, &error);
    CU_ASSERT_PTR_NOT_NULL_FATAL(live);
    static const nsk_fault faults[] = {NSK_FAULT_NONE, NSK_FAULT_PICTURE_FROZEN, NSK_FAULT_NONE};
    for (int i = 0; i < 3; i++) {
        nsk_live_frame f;
        CU_ASSERT_EQUAL(nsk_live_next(live, &f, &error), NSK_LIVE_THERE);
        CU_ASSERT_EQUAL(f.fault, faults[i]);
    }
    nsk_live_close(live);
    g_string_free(bytes, TRUE);
    g_free(path);
    scratch_remove(folder);
    kiln_free(&k);
}

/* Frames whose light can be told by hand; and that a set's own pictures are known but for two of a
 * hundred at either end. */
static void light_is_held_against_a_set(void) {
    static const nsk_colour colours[] = {NSK_COLOUR_RGB, NSK_COLOUR_BGR, NSK_COLOUR_GREY};
    nsk_error error = {.text = ""};
    for (size_t i = 0; i < G_N_ELEMENTS(colours); i++) {
        const nsk_input input = {.width = 2, .height = 1, .colour = colours[i]};
        const bool turned = colours[i] == NSK_COLOUR_BGR;
        const bool grey = colours[i] == NSK_COLOUR_GREY;
        const uint8_t red_and_black[] = {turned ? 0 : 200, 0, turned ? 200 : 0, 0, 0, 0};
        const uint8_t two_greys[] = {100, 50};
        double light[NSK_LIGHTS];
        nsk_light_of(grey ? two_greys : red_and_black, &input, light);
        CU_ASSERT_DOUBLE_EQUAL(light[NSK_LIGHT_BRIGHTNESS], grey ? 75.0 : 29.9, 1e-9);
        CU_ASSERT_DOUBLE_EQUAL(light[NSK_LIGHT_CONTRAST], grey ? 25.0 : 29.9, 1e-9);
        CU_ASSERT_DOUBLE_EQUAL(light[NSK_LIGHT_WARMTH], grey ? 0.0 : 100.0, 1e-9);
    }
    kiln k;
    kiln_load(&k, 6);
    double low[NSK_LIGHTS];
    double high[NSK_LIGHTS];
    CU_ASSERT_FATAL(nsk_light_range(k.held_out, low, high, &error));
    int outside[NSK_LIGHTS] = {0};
    uint8_t *frame = g_malloc(nsk_images_frame_bytes(k.held_out));
    const int all = nsk_images_count(k.held_out);
    for (int i = 0; i < all; i++) {
        double light[NSK_LIGHTS];
        nsk_images_frame(k.held_out, i, frame, &error);
        nsk_light_of(frame, &k.brief->input, light);
        for (int n = 0; n < NSK_LIGHTS; n++) {
            outside[n] += light[n] < low[n] || light[n] > high[n];
        }
    }
    for (int n = 0; n < NSK_LIGHTS; n++) {
        CU_ASSERT(low[n] < high[n] && outside[n] > 0 && outside[n] < all / 20);
    }
    /* a survey says the same of two sets: of the first, all of whose pictures it has looked at */
    nsk_images *few = nsk_images_open("demo/images/calibration", &k.brief->labels, &k.brief->input,
                                      0, false, &error);
    nsk_survey *s = nsk_survey_make(few, k.held_out, NULL, NULL, &error);
    CU_ASSERT_FATAL(s != NULL && nsk_light_range(few, low, high, &error));
    int any = 0;
    memset(outside, 0, sizeof outside);
    for (int i = 0; i < all; i++) {
        double light[NSK_LIGHTS];
        bool out = false;
        nsk_images_frame(k.held_out, i, frame, &error);
        nsk_light_of(frame, &k.brief->input, light);
        for (int n = 0; n < NSK_LIGHTS; n++) {
            outside[n] += light[n] < low[n] || light[n] > high[n];
            out = out || light[n] < low[n] || light[n] > high[n];
        }
        any += out;
    }
    CU_ASSERT(any > 0 && any == s->outside_any);
    CU_ASSERT_EQUAL(memcmp(outside, s->outside, sizeof outside), 0);
    CU_ASSERT_EQUAL(memcmp(low, s->low, sizeof low), 0);
    nsk_survey_free(s);
    nsk_images_free(few);
    g_free(frame);
    kiln_free(&k);
}

/* ---- what is kept ---- */

/* What was there is counted, and stays; names never meet; steps come back one by one, the last one
 * first, and the pictures with them. */
static void steps_are_taken_back(void) {
    nsk_error error = {.text = ""};
    kiln k;
    uint8_t rgb[3 * 12];
    kiln_load(&k, 6);
    char *folder = scratch_new();
    char *set = g_build_filename(folder, "set", NULL);
    const nsk_labels *labels = &k.brief->labels;
    for (size_t i = 0; i < sizeof rgb; i++) {
        rgb[i] = (uint8_t)(7 * i);
    }
    for (int round = 0; round < 2; round++) {
        nsk_gathering *g = nsk_gathering_open(set, labels, &error);
        CU_ASSERT_PTR_NOT_NULL_FATAL(g);
        CU_ASSERT_EQUAL(nsk_gathering_count(g, 2), 30 * round);
        for (int i = 0; i < 40; i++) {
            CU_ASSERT(nsk_gathering_take(g, rgb, 4, 3, 2, "a/b", 0.625, &error));
            CU_ASSERT(g_str_has_prefix(nsk_gathering_last(g), "crack/2"));
            CU_ASSERT_PTR_NOT_NULL(strstr(nsk_gathering_last(g), "-a_b-62"));
        }
        CU_ASSERT_EQUAL(nsk_gathering_count(g, 2), 30 * round + 40);
        for (int i = 0; i < 10 + 30 * round; i++) {
            CU_ASSERT(nsk_gathering_back(g, &error));
        }
        CU_ASSERT_EQUAL(nsk_gathering_count(g, 2), 30);
        CU_ASSERT_EQUAL(nsk_gathering_steps(g), 30 - 30 * round);
        CU_ASSERT_EQUAL(nsk_gathering_back(g, &error), round == 0);
        CU_ASSERT(round == 1 || nsk_gathering_take(g, rgb, 4, 3, 2, "x", 1.0, &error));
        CU_ASSERT(!nsk_gathering_take(g, rgb, 4, 3, labels->count, "x", 1.0, &error));
        nsk_gathering_close(g);
    }
    assert_error(&error, "can be no folder");
    CU_ASSERT(runs(
        set, "test $(ls crack | wc -l) = 30 && test $(ls .set-aside | wc -l) = 51 && test "
             "$(wc -l < .journal.csv) = 132 && test $(grep -c 'taken back' .journal.csv) = 51"));
    /* the pixels are those that were given */
    nsk_input input = k.brief->input;
    input.width = 4;
    input.height = 3;
    nsk_images *images = nsk_images_open(set, labels, &input, 0, true, &error);
    CU_ASSERT_PTR_NOT_NULL_FATAL(images);
    uint8_t frame[3 * 12];
    CU_ASSERT(nsk_images_frame(images, 0, frame, &error) && memcmp(frame, rgb, sizeof rgb) == 0);
    nsk_images_free(images);
    CU_ASSERT_PTR_NULL(nsk_gathering_open("/proc/nowhere", labels, &error));
    assert_error(&error, "/proc/nowhere: ");
    g_free(set);
    scratch_remove(folder);
    kiln_free(&k);
}

/* ---- going through a set ---- */

/* A set of ten pictures a class; of them one chip lies among the drips, one crack has no label, one
 * belt stands there twice. */
static char *spoilt_set(const char *folder) {
    char *here = g_get_current_dir();
    char *line = g_strdup_printf(
        "from=%s/demo/images/held-out; for c in belt sound crack chip pinhole drip; do mkdir -p "
        "set/$c; for i in 0 1 2 3 4 5 6 7 8 9; do cp $from/$c/$c-001$i.png set/$c/; done; done; "
        "mv set/chip/chip-0010.png set/drip/; mv set/crack/crack-0011.png set/; mkdir -p "
        "set/belt/more; cp set/belt/belt-0010.png set/belt/more/again.png; echo no > "
        "set/sound/broken.png",
        here);
    CU_ASSERT_FATAL(runs(folder, line));
    g_free(line);
    g_free(here);
    return g_build_filename(folder, "set", NULL);
}

static const nsk_reviewed *named(const nsk_review *review, const char *name) {
    for (int i = 0; i < review->count; i++) {
        if (strcmp(review->picture[i].name, name) == 0) {
            return &review->picture[i];
        }
    }
    CU_FAIL_FATAL("the picture is not there");
    return NULL;
}

static void a_set_is_gone_through(void) {
    kiln k;
    kiln_load(&k, 6);
    char *folder = scratch_new();
    char *set = spoilt_set(folder);
    nsk_error error = {.text = ""};
    nsk_images *other = nsk_images_open("demo/images/held-out", &k.brief->labels, &k.brief->input,
                                        0, false, &error);
    int stops = 0;
    nsk_review_setup setup = {.folder = set,
                              .network = k.network,
                              .model = k.file,
                              .labels = &k.brief->labels,
                              .input = &k.brief->input,
                              .other = other,
                              .stops = &stops};
    nsk_review *review = nsk_review_make(&setup, NULL, NULL, &error);
    CU_ASSERT_PTR_NOT_NULL_FATAL(review);
    CU_ASSERT(review->count == 61 && review->left_out == 1 && review->unplaced == NULL);
    const nsk_reviewed *chip = named(review, "drip/chip-0010.png");
    CU_ASSERT(chip->label == 5 && chip->answer != 5 && chip->own < chip->sure);
    CU_ASSERT(chip->is_placed && chip->neighbours == NSK_NEIGHBOURS);
    const nsk_reviewed *bare = named(review, "crack-0011.png");
    CU_ASSERT(bare->label == -1 && bare->answer == 2 && bare->own == bare->sure && bare->is_sure);
    CU_ASSERT_STRING_EQUAL(bare->twin_elsewhere, "demo/images/held-out/crack/crack-0011.png");
    int own = 0; /* nearest neighbours of the class, over all: what a plane is for */
    for (int i = 0; i < review->count; i++) {
        const nsk_reviewed *p = &review->picture[i];
        for (int j = 0; j < p->neighbours; j++) {
            CU_ASSERT_FATAL(p->nearest[j] >= 0 && p->nearest[j] < review->count);
            own += review->picture[p->nearest[j]].answer == p->answer;
        }
    }
    CU_ASSERT(own > 61 * NSK_NEIGHBOURS / 2);
    nsk_review_free(review);
    setup.other = NULL; /* on its own: twins within */
    review = nsk_review_make(&setup, NULL, NULL, &error);
    CU_ASSERT_PTR_NOT_NULL_FATAL(review);
    const nsk_reviewed *again = named(review, "belt/more/again.png");
    const nsk_reviewed *first = named(review, "belt/belt-0010.png");
    CU_ASSERT(again->label == 0 && &review->picture[again->twin] == first);
    CU_ASSERT(&review->picture[first->twin] == again && first->twin_elsewhere == NULL);
    CU_ASSERT(named(review, "crack-0011.png")->twin == -1);
    nsk_review_free(review);
    stops = 1;
    CU_ASSERT_PTR_NULL(nsk_review_make(&setup, NULL, NULL, &error));
    assert_error(&error, "it was told to stop");
    CU_ASSERT_FATAL(runs(folder, "rm -rf set/*"));
    CU_ASSERT_PTR_NULL(nsk_review_make(&setup, NULL, NULL, &error));
    assert_error(&error, "no pictures yet");
    nsk_images_free(other);
    g_free(set);
    scratch_remove(folder);
    kiln_free(&k);
}

/* Several at once are one step; the names that are taken get others; nothing is lost on the way. */
static void pictures_are_moved(void) {
    kiln k;
    kiln_load(&k, 6);
    char *folder = scratch_new();
    char *set = g_build_filename(folder, "set", NULL);
    nsk_error error = {.text = ""};
    CU_ASSERT_FATAL(runs(folder,
                         "mkdir -p set/crack/old set/chip && echo 1 > set/a.png && echo 2 > "
                         "set/crack/a.png && echo 3 > set/crack/old/b.png"));
    nsk_gathering *g = nsk_gathering_open(set, &k.brief->labels, &error);
    CU_ASSERT_PTR_NOT_NULL_FATAL(g);
    CU_ASSERT_EQUAL(nsk_gathering_count(g, 2), 2);
    const char *const names[] = {"a.png", "crack/a.png", "crack/old/b.png"};
    const nsk_moved *moved;
    CU_ASSERT(nsk_gathering_move(g, names, 3, 2, &error));
    CU_ASSERT_EQUAL_FATAL(nsk_gathering_did(g, &moved), 1); /* the others are there already */
    CU_ASSERT_STRING_EQUAL(moved[0].from, "a.png");
    CU_ASSERT_STRING_EQUAL(moved[0].to, "crack/a-2.png");
    const char *const all[] = {"crack/a-2.png", "crack/a.png", "crack/old/b.png"};
    CU_ASSERT(nsk_gathering_move(g, all, 3, 3, &error));
    CU_ASSERT(nsk_gathering_count(g, 2) == 0 && nsk_gathering_count(g, 3) == 3);
    CU_ASSERT(nsk_gathering_move(g, (const char *const[]){"chip/b.png"}, 1, NSK_SET_ASIDE, &error));
    CU_ASSERT_EQUAL(nsk_gathering_count(g, 3), 2);
    CU_ASSERT_EQUAL(nsk_gathering_steps(g), 3);
    /* one that is gone: those before it have moved, and that is a step */
    const char *const gone[] = {"chip/a.png", "chip/none.png", "chip/a-2.png"};
    CU_ASSERT(!nsk_gathering_move(g, gone, 3, 0, &error));
    assert_error(&error, "chip/none.png: ");
    CU_ASSERT(nsk_gathering_count(g, 0) == 1 && nsk_gathering_count(g, 3) == 1);
    CU_ASSERT(!nsk_gathering_move(g, all, 1, k.brief->labels.count, &error));
    assert_error(&error, "can be no folder");
    for (int steps = 4; steps > 0; steps--) {
        CU_ASSERT_EQUAL(nsk_gathering_steps(g), steps);
        CU_ASSERT(nsk_gathering_back(g, &error));
    }
    CU_ASSERT(!nsk_gathering_back(g, &error));
    CU_ASSERT(runs(set, "test $(cat a.png) = 1 && test $(cat crack/a.png) = 2 && test $(cat "
                        "crack/old/b.png) = 3 && test $(find . -name '*.png' | wc -l) = 3"));
    CU_ASSERT_EQUAL(nsk_gathering_label(g, "a.png"), NSK_NO_LABEL);
    CU_ASSERT_EQUAL(nsk_gathering_label(g, "nothing/a.png"), NSK_NO_LABEL);
    CU_ASSERT_EQUAL(nsk_gathering_label(g, ".set-aside/a.png"), NSK_SET_ASIDE);
    nsk_gathering_close(g);
    g_free(set);
    scratch_remove(folder);
    kiln_free(&k);
}

CU_TestInfo live_tests[] = {
    {"every way of storing", every_way_of_storing},
    {"broken streams", broken_streams},
    {"a folder is looked at", a_folder_is_looked_at},
    {"a scene is decided on", a_scene_is_decided_on},
    {"a frozen picture is no answer", a_frozen_picture_is_no_answer},
    {"light is held against a set", light_is_held_against_a_set},
    {"steps are taken back", steps_are_taken_back},
    {"a set is gone through", a_set_is_gone_through},
    {"pictures are moved", pictures_are_moved},
    CU_TEST_INFO_NULL,
};
