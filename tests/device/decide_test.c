#include "../suites.h"

#include "netsuke/firmware.h"

/* Probabilities are counted in 256ths here. */
#define PARTS(n) ((n) * (NSK_CERTAIN / 256))

/* Frames as their best class and its probability; the other two classes have none. */
typedef struct frame {
    int class_index;
    int parts;
    int decision;
} frame;

static void play(const nsk_rule *rule, const frame *frames, int count) {
    const nsk_model model = {.classes = 3};
    nsk_decider decider = {0};
    for (int i = 0; i < count; i++) {
        int32_t scores[3] = {0, 0, 0};
        scores[frames[i].class_index] = PARTS(frames[i].parts);
        CU_ASSERT_EQUAL(nsk_decide(&decider, rule, &model, scores), frames[i].decision);
    }
}

static void one_frame_decides(void) {
    const nsk_rule rule = {.threshold = PARTS(178), .frames = 1, .resting = 0};
    const frame frames[] = {
        {1, 177, -1}, {1, 178, 1},  {1, 218, -1}, /* said once */
        {2, 188, 2},  {0, 188, -1},               /* the resting class ends it */
        {2, 188, 2},  {2, 138, -1}, {2, 188, -1},
    };
    play(&rule, frames, 8);
}

static void frames_in_a_row(void) {
    const nsk_rule rule = {.threshold = PARTS(128), .frames = 3, .resting = UINT16_MAX};
    const frame frames[] = {
        {1, 137, -1}, {1, 137, -1}, {2, 137, -1}, {1, 137, -1}, {1, 137, -1}, {1, 137, 1},
        {2, 137, -1}, {2, 119, -1}, {2, 137, -1}, {2, 137, -1}, {2, 137, 2},  {0, 137, -1},
    };
    play(&rule, frames, 12);
}

static void a_long_run_does_not_wrap(void) {
    const nsk_model model = {.classes = 2};
    const nsk_rule rule = {.threshold = PARTS(128), .frames = 255, .resting = UINT16_MAX};
    const int32_t scores[2] = {PARTS(128), PARTS(228)};
    nsk_decider decider = {0};
    int decisions = 0;
    for (int i = 0; i < 2000; i++) {
        decisions += nsk_decide(&decider, &rule, &model, scores) == 1;
    }
    CU_ASSERT_EQUAL(decisions, 1);
}

/* Scores of all three classes, frame by frame, and what is decided. */
typedef struct scored {
    int parts[3];
    int decision;
} scored;

static void scores_of(const scored *f, int32_t *scores) {
    for (int c = 0; c < 3; c++) {
        scores[c] = PARTS(f->parts[c]);
    }
}

static int answer_to(const nsk_rule *rule, const scored *f) {
    const nsk_model model = {.classes = 3};
    int32_t scores[3];
    scores_of(f, scores);
    return nsk_answer_of(rule, &model, scores);
}

static void play_scores(const nsk_rule *rule, const scored *frames, int count) {
    const nsk_model model = {.classes = 3};
    nsk_decider decider = {0};
    for (int i = 0; i < count; i++) {
        int32_t scores[3];
        scores_of(&frames[i], scores);
        CU_ASSERT_EQUAL(nsk_decide(&decider, rule, &model, scores), frames[i].decision);
    }
}

/* A frame without an answer makes the rule begin anew, but the actuator still moves. */
static void hold_off_outlives_faults(void) {
    const nsk_model model = {.classes = 2};
    const nsk_rule rule = {
        .threshold = PARTS(100), .frames = 2, .hold_off = 10, .resting = UINT16_MAX};
    const int32_t scores[2] = {PARTS(28), PARTS(228)};
    nsk_decider decider = {0};
    CU_ASSERT_EQUAL(nsk_decide(&decider, &rule, &model, scores), NSK_NOTHING);
    CU_ASSERT_EQUAL(nsk_decide(&decider, &rule, &model, scores), 1);
    nsk_decider_forget(&decider);
    for (int i = 1; i < rule.hold_off; i++) {
        CU_ASSERT_EQUAL(nsk_decide(&decider, &rule, &model, scores), NSK_NOTHING);
    }
    CU_ASSERT_EQUAL(nsk_decide(&decider, &rule, &model, scores), 1);
    nsk_decider_forget(&decider);
    for (int i = 0; i < 300; i++) {
        nsk_decider_forget(&decider); /* and ends */
    }
    CU_ASSERT_EQUAL(nsk_decide(&decider, &rule, &model, scores), NSK_NOTHING);
    CU_ASSERT_EQUAL(nsk_decide(&decider, &rule, &model, scores), 1);
}

static void some_of_the_last_frames(void) {
    const nsk_rule rule = {.threshold = PARTS(100), .frames = 2, .window = 3, .resting = 0};
    const frame frames[] = {
        {1, 137, -1}, {2, 137, -1}, {1, 137, 1}, /* two of three */
        {2, 137, 2},                             /* and two of the last three */
        {0, 137, -1}, {1, 28, -1},  {2, 137, -1}, {0, 137, -1}, {0, 137, -1}, /* at rest again */
        {2, 137, -1}, {2, 137, 2},
    };
    play(&rule, frames, 11);
}

static void a_lead_is_wanted(void) {
    const nsk_rule rule = {
        .threshold = PARTS(100), .margin = PARTS(40), .frames = 1, .resting = UINT16_MAX};
    const scored frames[] = {{{138, 98, 0}, 0}, {{99, 138, 0}, -1}, {{98, 138, 0}, 1}};
    play_scores(&rule, frames, 3);
    CU_ASSERT_EQUAL(answer_to(&rule, &frames[1]), NSK_UNSURE);
    CU_ASSERT_EQUAL(answer_to(&rule, &frames[2]), 1);
}

static void an_actuator_has_time(void) {
    const nsk_rule rule = {
        .threshold = PARTS(100), .frames = 1, .hold_off = 2, .resting = UINT16_MAX};
    const frame frames[] = {{1, 137, 1},  {2, 137, -1}, {2, 137, -1}, {2, 137, 2},
                            {1, 137, -1}, {1, 137, -1}, {1, 137, 1}};
    play(&rule, frames, 7);
}

/* Two classes on one line: neither is likely by itself, both together are. */
static void classes_share_a_line(void) {
    static const uint8_t line_of[] = {1, 0, 0};
    const nsk_rule rule = {
        .threshold = PARTS(180), .frames = 1, .resting = 1, .line_of = line_of, .line_count = 2};
    const scored frames[] = {{{28, 100, 100}, 0}, /* 28, and 200 together */
                             {{228, 8, 8}, -1},   /* at rest */
                             {{0, 255, 0}, 0},
                             {{168, 68, 68}, -1}}; /* 168: not enough, and 136 */
    play_scores(&rule, frames, 4);
    CU_ASSERT_EQUAL(answer_to(&rule, &frames[3]), NSK_UNSURE);
}

/* Each label is a question for itself; what is furthest above its threshold is acted on. */
static void several_labels_at_once(void) {
    static const uint32_t thresholds[] = {PARTS(100), PARTS(50), PARTS(200)};
    static const uint8_t line_of[] = {0, 0, 1};
    nsk_rule rule = {.frames = 1, .resting = 3, .thresholds = thresholds};
    const scored frames[] = {{{99, 49, 199}, -1}, /* none */
                             {{120, 60, 255}, 2}, /* 20, 10 and 55 above */
                             {{120, 80, 199}, 1}, /* 20 and 30 */
                             {{100, 255, 0}, -1}, /* stands already */
                             {{0, 0, 0}, -1},     /* at rest */
                             {{100, 0, 0}, 0}};   /* no less than it */
    play_scores(&rule, frames, 6);
    CU_ASSERT_EQUAL(answer_to(&rule, &frames[0]), 3);
    rule.line_of = line_of; /* the third moves nothing */
    rule.line_count = 2;
    rule.resting = 1;
    CU_ASSERT_EQUAL(answer_to(&rule, &frames[0]), 1);
    CU_ASSERT_EQUAL(answer_to(&rule, &frames[1]), 0);
    CU_ASSERT_EQUAL(answer_to(&rule, &(scored){{0, 0, 255}, 0}), 1);
    rule.line_of = (const uint8_t[]){NSK_NO_LINE, 0, NSK_NO_LINE};
    CU_ASSERT_EQUAL(answer_to(&rule, &(scored){{255, 0, 255}, 0}), 1);
}

CU_TestInfo decide_tests[] = {
    {"one frame decides", one_frame_decides},
    {"so many frames in a row", frames_in_a_row},
    {"a long run does not wrap", a_long_run_does_not_wrap},
    {"so many of the last frames", some_of_the_last_frames},
    {"hold-off outlives faults", hold_off_outlives_faults},
    {"a lead is wanted", a_lead_is_wanted},
    {"an actuator has time", an_actuator_has_time},
    {"classes share a line", classes_share_a_line},
    {"several labels at once", several_labels_at_once},
    CU_TEST_INFO_NULL,
};
