/* The simulated board. */
#include <math.h>
#include <string.h>

#include "../suites.h"
#include "../support.h"
#include "sim/ram.h"
#include "sim/rehearse.h"

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

static void stage_set(stage *s) {
    nsk_error error = {.text = ""};
    kiln_load(&s->k, 60);
    s->board = nsk_board_read(s->k.brief->board, &error);
    CU_ASSERT_PTR_NOT_NULL_FATAL(s->board);
    s->budget = nsk_budget_make(s->k.file, s->board, &s->k.brief->limits, &error);
    CU_ASSERT_PTR_NOT_NULL_FATAL(s->budget);
}

static void stage_clear(stage *s) {
    nsk_budget_free(s->budget);
    nsk_board_free(s->board);
    kiln_free(&s->k);
}

static nsk_rehearsal *play(const stage *s, int frames, unsigned seed, nsk_error *error) {
    return nsk_rehearse(s->k.file, s->board, s->budget, &s->k.brief->decision, s->k.held_out,
                        frames, seed, error);
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

/* The board's answers are the comparison's, image by image, and the seed fixes the order. */
static void answers_are_the_comparisons(void) {
    stage s;
    nsk_error error = {.text = ""};
    stage_set(&s);
    nsk_comparison *c = nsk_compare(s.k.network, s.k.file, s.k.held_out, NULL, NULL, &error);
    nsk_rehearsal *r = play(&s, 0, 9, &error);
    nsk_rehearsal *again = play(&s, 0, 9, &error);
    CU_ASSERT_FATAL(c != NULL && r != NULL && again != NULL);
    bool *seen = g_new0(bool, c->images);
    CU_ASSERT_EQUAL(r->taken, c->images);
    for (int i = 0; i < r->taken; i++) {
        const nsk_answer *a = &c->answers[r->answers[i].image];
        CU_ASSERT(!seen[r->answers[i].image]);
        seen[r->answers[i].image] = true;
        CU_ASSERT_EQUAL(r->answers[i].class_index, a->integer_class);
        CU_ASSERT(r->answers[i].probability == a->integer_probability);
        CU_ASSERT_EQUAL(again->answers[i].image, r->answers[i].image);
    }
    CU_ASSERT_EQUAL(r->correct, c->integer_correct);
    g_free(seen);
    nsk_rehearsal_free(r);
    nsk_rehearsal_free(again);
    nsk_comparison_free(c);
    stage_clear(&s);
}

CU_TestInfo sim_tests[] = {
    {"the last byte of RAM is the last", the_last_byte_is_the_last},
    {"the clock is the budget's", the_clock_is_the_budgets},
    {"slow boards drop frames", slow_boards_drop_frames},
    {"small boards fault", small_boards_fault},
    {"answers are the comparison's", answers_are_the_comparisons},
    CU_TEST_INFO_NULL,
};
