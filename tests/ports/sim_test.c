/* The simulated board. */
#include <math.h>
#include <string.h>

#include "../suites.h"
#include "../support.h"
#include "brief/rule.h"
#include "netsuke/compare.h"
#include "netsuke/rehearse.h"
#include "scene.h"
#include "sim/ram.h"

typedef struct touch {
    nsk_ram *ram;
    size_t bytes;
    volatile uint8_t *at;
} touch;

static void touch_last(void *context) {
    touch *t = context;
    t->at = nsk_ram_take(t->ram, t->bytes);
    t->at[t->bytes - 1] = 1;
}

static void the_last_byte_is_the_last(void) {
    static const size_t sizes[] = {4, 100, 4096, 24576, 65536, 100000};
    for (size_t i = 0; i < G_N_ELEMENTS(sizes); i++) {
        nsk_error error = {.text = ""};
        nsk_ram *ram = nsk_ram_new(sizes[i], &error);
        CU_ASSERT_PTR_NOT_NULL_FATAL(ram);
        touch t = {ram, sizes[i], NULL};
        CU_ASSERT(nsk_ram_guard(ram, touch_last, &t, &error));
        t.bytes = 1; /* one more */
        CU_ASSERT_FALSE(nsk_ram_guard(ram, touch_last, &t, &error));
        char *said =
            g_strdup_printf("byte %zu of a RAM of %zu bytes was touched", sizes[i], sizes[i]);
        assert_error(&error, said);
        g_free(said);
        nsk_ram_free(ram);
    }
}

typedef struct stage {
    kiln k;
    nsk_board *board;
    nsk_budget *budget;
} stage;

static const nsk_product plain_product = {.awake = 1.0};

static void stage_set(stage *s) {
    nsk_error error = {.text = ""};
    kiln_load(&s->k, 60);
    s->board = nsk_board_read(s->k.brief->board, &error);
    CU_ASSERT_PTR_NOT_NULL_FATAL(s->board);
    s->budget = nsk_budget_make(s->k.file, s->board, &plain_product, &s->k.brief->limits, &error);
    CU_ASSERT_PTR_NOT_NULL_FATAL(s->budget);
}

static void stage_clear(stage *s) {
    nsk_budget_free(s->budget);
    nsk_board_free(s->board);
    kiln_free(&s->k);
}

/* Held-out images in an order drawn from the seed. */
static nsk_rehearsal *play(const stage *s, int frames, unsigned seed, nsk_error *error) {
    nsk_film *film = nsk_film_of_set(s->k.held_out, frames, seed);
    const nsk_stage on = {.model = s->k.file,
                          .board = s->board,
                          .budget = s->budget,
                          .product = &plain_product,
                          .decision = &s->k.brief->decision,
                          .film = film};
    nsk_rehearsal *r = nsk_rehearse(&on, error);
    nsk_film_free(film);
    return r;
}

static void the_clock_is_the_budgets(void) {
    stage s;
    nsk_error error = {.text = ""};
    stage_set(&s);
    nsk_rehearsal *r = play(&s, 50, 3, &error);
    CU_ASSERT_PTR_NOT_NULL_FATAL(r);
    CU_ASSERT(r->frames == 50 && r->dropped == 0 && r->taken == 50);
    for (int i = 0; i < r->taken; i++) {
        const nsk_rehearsed *a = &r->answers[i];
        CU_ASSERT_DOUBLE_EQUAL(a->arrived, i / s.board->frame_rate, 1e-9);
        CU_ASSERT_DOUBLE_EQUAL(a->answered - a->arrived, s.budget->seconds, 1e-9);
    }
    CU_ASSERT_DOUBLE_EQUAL(r->busy, 50 * s.budget->seconds, 1e-9);
    nsk_rehearsal_free(r);
    stage_clear(&s);
}

/* At a twentieth of the clock a frame takes many periods; those that start meanwhile are lost. */
static void slow_boards_drop_frames(void) {
    stage s;
    nsk_error error = {.text = ""};
    stage_set(&s);
    s.board->clock /= 20.0;
    nsk_rehearsal *r = play(&s, 100, 3, &error);
    CU_ASSERT_PTR_NOT_NULL_FATAL(r);
    int periods = (int)ceil(20.0 * s.budget->seconds * s.board->frame_rate);
    CU_ASSERT_EQUAL(r->taken, (100 + periods - 1) / periods);
    CU_ASSERT_EQUAL(r->taken + r->dropped, 100);
    nsk_rehearsal_free(r);
    stage_clear(&s);
}

static void small_boards_fault(void) {
    stage s;
    nsk_error error = {.text = ""};
    stage_set(&s);
    s.board->ram = s.budget->ram - 4;
    CU_ASSERT_PTR_NULL(play(&s, 3, 1, &error));
    assert_error(&error, "board 'trimmer': memory fault: byte");
    s.board->ram = s.budget->ram;
    nsk_rehearsal *r = play(&s, 3, 1, &error);
    CU_ASSERT_PTR_NOT_NULL(r);
    nsk_rehearsal_free(r);
    stage_clear(&s);
}

/* The board's answers are the comparison's, picture by picture, and the seed fixes the order. */
static void answers_are_the_comparisons(void) {
    stage s;
    nsk_error error = {.text = ""};
    stage_set(&s);
    if (TESTS_FEWER > 1) {
        nsk_images_keep(s.k.held_out, 240, true);
    }
    nsk_comparison *c = nsk_compare(s.k.network, s.k.file, s.k.held_out, NULL, NULL, &error);
    nsk_rehearsal *r = play(&s, 0, 9, &error);
    nsk_rehearsal *again = play(&s, 0, 9, &error);
    CU_ASSERT_FATAL(c != NULL && r != NULL && again != NULL);
    CU_ASSERT_EQUAL(r->taken, c->images);
    CU_ASSERT_EQUAL(r->known, c->images);
    CU_ASSERT_EQUAL(r->correct, c->integer_correct);
    double said[2] = {0.0, 0.0};
    for (int i = 0; i < r->taken; i++) {
        said[0] += (double)r->answers[i].probability;
        said[1] += (double)c->answers[i].integer_probability;
        CU_ASSERT_EQUAL(again->answers[i].class_index, r->answers[i].class_index);
    }
    CU_ASSERT_DOUBLE_EQUAL(said[0], said[1], 1e-3);
    nsk_rehearsal_free(r);
    nsk_rehearsal_free(again);
    nsk_comparison_free(c);
    stage_clear(&s);
}

/* ---- scenes ---- */

/* A belt, a tile with each injection in turn, a belt again: each thing for `each` frames. */
static char *write_scene(const char *folder, int each) {
    static const int things[] = {BELT, CRACK, BELT, SOUND, BELT, CHIP, BELT, DRIP, BELT};
    char *npy = scratch_path(folder, "scene.npy");
    char *csv = scratch_path(folder, "scene.csv");
    GByteArray *pictures = g_byte_array_new();
    GString *truth = g_string_new("picture,truth\n");
    uint8_t rgb[3 * 64 * 64];
    int count = 0;
    scratch_npy_header(pictures, (const int[]){each * (int)G_N_ELEMENTS(things), 64, 64, 3}, 4);
    for (size_t i = 0; i < G_N_ELEMENTS(things); i++) {
        random_state r = {900 + i};
        random_state noise = {77 + i};
        scene *thing = scene_new((kiln_class)things[i], NULL, &r);
        for (int k = 0; k < each; k++) {
            scene_frame(thing, NULL, 64, &noise, rgb);
            g_byte_array_append(pictures, rgb, sizeof rgb);
            g_string_append_printf(truth, "scene.npy[%d],%s\n", count++,
                                   kiln_class_names[things[i]]);
        }
        scene_free(thing);
    }
    scratch_write(npy, pictures->data, pictures->len);
    scratch_write_text(csv, truth->str);
    g_byte_array_free(pictures, TRUE);
    g_string_free(truth, TRUE);
    g_free(npy);
    return csv;
}

/* The kiln line's firmware on a scene, with injections. */
typedef struct scenery {
    stage s;
    char *folder, *csv;
    nsk_film *film;
    nsk_product product;
    nsk_stage on;
} scenery;

static void scenery_set(scenery *y, int each) {
    nsk_error error = {.text = ""};
    memset(y, 0, sizeof *y);
    stage_set(&y->s);
    nsk_budget_free(y->s.budget);
    y->folder = scratch_new();
    y->csv = write_scene(y->folder, each);
    y->product = (nsk_product){.camera_width = 64,
                               .camera_height = 64,
                               .check_every = 1,
                               .check_frames = true,
                               .awake = 1.0};
    y->film =
        nsk_film_read(y->csv, &y->s.k.brief->labels, &y->s.k.brief->input, &y->product, 0, &error);
    CU_ASSERT_PTR_NOT_NULL_FATAL(y->film);
    y->s.budget =
        nsk_budget_make(y->s.k.file, y->s.board, &y->product, &y->s.k.brief->limits, &error);
    CU_ASSERT_PTR_NOT_NULL_FATAL(y->s.budget);
    y->on = (nsk_stage){.model = y->s.k.file,
                        .board = y->s.board,
                        .budget = y->s.budget,
                        .product = &y->product,
                        .decision = &y->s.k.brief->decision,
                        .film = y->film};
}

static void scenery_clear(scenery *y) {
    nsk_film_free(y->film);
    g_free(y->csv);
    scratch_remove(y->folder);
    stage_clear(&y->s);
}

static nsk_rehearsal *play_with(scenery *y, const char *fault_text) {
    nsk_error error = {.text = ""};
    nsk_injection injection;
    y->on.injection_count = fault_text != NULL;
    y->on.injections = &injection;
    CU_ASSERT(fault_text == NULL || nsk_injection_parse(fault_text, &injection, &error));
    nsk_rehearsal *r = nsk_rehearse(&y->on, &error);
    if (r == NULL) {
        fprintf(stderr, "\n    %s\n", error.text);
    }
    CU_ASSERT_PTR_NOT_NULL_FATAL(r);
    return r;
}

/* What was answered on a frame of the camera, or NULL. */
static const nsk_rehearsed *answer_on(const nsk_rehearsal *r, int frame) {
    for (int i = 0; i < r->taken; i++) {
        if (r->answers[i].frame == frame) {
            return &r->answers[i];
        }
    }
    return NULL;
}

static void scenes_have_events(void) {
    scenery y;
    scenery_set(&y, 8);
    nsk_rehearsal *r = play_with(&y, NULL);
    const nsk_figures *f = &r->figures;
    CU_ASSERT(r->frames == 72 && r->dropped == 0 && r->faulted == 0 && r->known == 72);
    CU_ASSERT(f->events == 3 && f->longer == 3 && f->missed == 0 && f->false_actions == 0);
    for (int i = 0; i < 3; i++) {
        static const int first[] = {8, 40, 56};
        static const int class[] = {CRACK, CHIP, DRIP};
        CU_ASSERT(r->event[i].first == first[i] && r->event[i].last == first[i] + 7);
        CU_ASSERT(r->event[i].class_index == class[i] && r->event[i].line == 0);
        CU_ASSERT_EQUAL(r->answers[r->event[i].caught].frame, first[i] + 1); /* two of three */
    }
    CU_ASSERT_DOUBLE_EQUAL(f->delay_frames, 1.0, 1e-9);
    CU_ASSERT_DOUBLE_EQUAL(f->delay_seconds, 1.0 / 3.0 + y.s.budget->seconds, 1e-6);
    CU_ASSERT_DOUBLE_EQUAL(r->busy, 72 * y.s.budget->seconds, 1e-6);
    nsk_rehearsal_free(r);
    scenery_clear(&y);
}

/* Each injection: which frames have no answer and why; all others have the one that they have
 * without it, and the next good frame is answered. */
static void faults_never_look_like_answers(void) {
    static const struct {
        const char *injection;
        nsk_fault fault;
        int first, frames; /* without an answer */
        int resets;
    } cases[] = {
        {"flash@20", NSK_FAULT_MODEL_DAMAGED, 20, 1, 0},
        {"flash@20+6", NSK_FAULT_MODEL_DAMAGED, 20, 6, 0},
        {"cut@20+3", NSK_FAULT_PICTURE_CUT, 20, 3, 0},
        {"frozen@20+4", NSK_FAULT_PICTURE_FROZEN, 20, 4, 0},
        {"column@20+4", NSK_FAULT_PIXELS_STUCK, 20, 4, 0},
        {"camera@20+7", NSK_FAULT_CAMERA_LATE, 20, 7, 0},
        {"rows@20+4", NSK_FAULT_ROWS_REPEATED, 20, 4, 0},
        {"torn@20", NSK_FAULT_PICTURE_FROZEN, 20, 1, 0},
        {"brown-out@20", NSK_FAULT_NONE, 20, 1, 1},
        {"clock@0+36=40", NSK_FAULT_NONE, 99, 0, 0},
    };
    scenery y;
    scenery_set(&y, 4);
    nsk_rehearsal *sound = play_with(&y, NULL);
    for (size_t i = 0; i < G_N_ELEMENTS(cases); i++) {
        nsk_rehearsal *r = play_with(&y, cases[i].injection);
        CU_ASSERT_EQUAL(r->resets, cases[i].resets);
        for (int f = 0; f < r->frames; f++) {
            const nsk_rehearsed *a = answer_on(r, f);
            bool within = f >= cases[i].first && f < cases[i].first + cases[i].frames;
            if (within) {
                CU_ASSERT(a == NULL || a->fault == cases[i].fault);
                CU_ASSERT(a == NULL || cases[i].fault != NSK_FAULT_NONE);
            } else {
                CU_ASSERT_PTR_NOT_NULL_FATAL(a);
                CU_ASSERT_EQUAL(a->fault, NSK_FAULT_NONE);
                CU_ASSERT_EQUAL(a->class_index, answer_on(sound, f)->class_index);
                CU_ASSERT(a->probability == answer_on(sound, f)->probability);
            }
        }
        CU_ASSERT(cases[i].fault == NSK_FAULT_NONE || r->faulted > 0);
        CU_ASSERT_EQUAL(r->figures.false_actions, 0);
        nsk_rehearsal_free(r);
    }
    nsk_rehearsal_free(sound);
    scenery_clear(&y);
}

/* A slow clock drops frames, and says so; nothing hangs. */
static void a_slow_clock_drops_frames(void) {
    scenery y;
    scenery_set(&y, 8);
    nsk_rehearsal *r = play_with(&y, "clock@0+72=90");
    CU_ASSERT(r->dropped > 20 && r->taken + r->dropped == 72 && r->faulted == 0);
    nsk_rehearsal_free(r);
    scenery_clear(&y);
}

static void faults_are_parsed(void) {
    static const char *const bad[] = {"",          "flash",    "flash@",   "flash@-3",
                                      "flash@3+0", "flood@3",  "flash@3x", "clock@1=100",
                                      "@3",        "flash@1e9"};
    nsk_injection f;
    nsk_error error;
    CU_ASSERT(nsk_injection_parse("clock@7+12=2.5", &f, &error));
    CU_ASSERT(f.kind == NSK_INJECTION_CLOCK && f.first == 7 && f.frames == 12);
    CU_ASSERT_DOUBLE_EQUAL(f.amount, 2.5, 1e-12);
    for (size_t i = 0; i < G_N_ELEMENTS(bad); i++) {
        CU_ASSERT_FALSE(nsk_injection_parse(bad[i], &f, &error));
        assert_error(&error, "--fault ");
    }
}

/* Another rule on the same scores decides as it does when it is played. */
static void rejudging_is_replaying(void) {
    scenery y;
    scenery_set(&y, 6);
    nsk_decision rule = y.s.k.brief->decision;
    nsk_rehearsal *r = play_with(&y, "cut@13");
    nsk_model model;
    nsk_open(&model, y.s.k.file->bytes, y.s.k.file->size);
    rule.threshold = 0.9;
    rule.frames = 3;
    rule.window = 0;
    y.on.decision = &rule;
    nsk_rehearsal *played = play_with(&y, "cut@13");
    nsk_rule_lists lists;
    nsk_rule other = nsk_rule_of(&rule, &model, &lists);
    int *decided = g_new(int, r->taken);
    nsk_figures f;
    nsk_rejudge(r, &y.on, &other, decided, &f);
    for (int i = 0; i < r->taken; i++) {
        CU_ASSERT_EQUAL(decided[i], played->answers[i].decided);
    }
    CU_ASSERT_EQUAL(f.missed, played->figures.missed);
    CU_ASSERT_DOUBLE_EQUAL(f.delay_frames, played->figures.delay_frames, 1e-9);
    CU_ASSERT(f.delay_frames > r->figures.delay_frames);
    g_free(decided);
    nsk_rehearsal_free(played);
    nsk_rehearsal_free(r);
    scenery_clear(&y);
}

/* Every change stands in time's order, and a line goes up as often as it is decided on. */
static void signals_are_in_order(void) {
    scenery y;
    nsk_error error = {.text = ""};
    scenery_set(&y, 4);
    nsk_rehearsal *r = play_with(&y, NULL);
    char *path = scratch_path(y.folder, "s.vcd");
    char *text;
    CU_ASSERT(nsk_rehearsal_write_signals(r, &y.on, &y.s.k.brief->labels, path, &error));
    CU_ASSERT_FATAL(g_file_get_contents(path, &text, NULL, NULL));
    char **lines = g_strsplit(text, "\n", -1);
    guint64 now = 0;
    int raised = 0;
    int pictures = 0;
    for (char **line = lines; *line != NULL; line++) {
        if (**line == '#') {
            guint64 at = g_ascii_strtoull(*line + 1, NULL, 10);
            CU_ASSERT(at >= now);
            now = at;
        }
        raised += strcmp(*line, "1%") == 0;
        pictures += strcmp(*line, "1!") == 0;
    }
    CU_ASSERT_PTR_NOT_NULL(strstr(text, "$var wire 1 % line_reject $end"));
    CU_ASSERT_EQUAL(raised, r->figures.actions);
    CU_ASSERT_EQUAL(pictures, r->frames);
    g_strfreev(lines);
    g_free(text);
    g_free(path);
    nsk_rehearsal_free(r);
    scenery_clear(&y);
}

CU_TestInfo sim_tests[] = {
    {"the last byte of RAM is the last", the_last_byte_is_the_last},
    {"the clock is the budget's", the_clock_is_the_budgets},
    {"slow boards drop frames", slow_boards_drop_frames},
    {"small boards fault", small_boards_fault},
    {"answers are the comparison's", answers_are_the_comparisons},
    {"scenes have events", scenes_have_events},
    {"faults never look like answers", faults_never_look_like_answers},
    {"a slow clock drops frames", a_slow_clock_drops_frames},
    {"faults are parsed", faults_are_parsed},
    {"judging anew is playing anew", rejudging_is_replaying},
    {"signals are in order", signals_are_in_order},
    CU_TEST_INFO_NULL,
};
