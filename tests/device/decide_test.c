#include "../suites.h"

#include "netsuke/firmware.h"

/* Frames as their best class and its score; the other two classes score -128. */
typedef struct frame {
    int class_index;
    int8_t score;
    int decision;
} frame;

static void play(const nsk_rule *rule, const frame *frames, int count) {
    const nsk_model model = {.classes = 3};
    nsk_decider decider = {0};
    for (int i = 0; i < count; i++) {
        int8_t scores[3] = {-128, -128, -128};
        scores[frames[i].class_index] = frames[i].score;
        CU_ASSERT_EQUAL(nsk_decide(&decider, rule, &model, scores), frames[i].decision);
    }
}

static void one_frame_decides(void) {
    const nsk_rule rule = {.threshold = 178, .frames = 1, .resting = 0};
    const frame frames[] = {
        {1, 49, -1}, {1, 50, 1},  {1, 90, -1}, /* said once */
        {2, 60, 2},  {0, 60, -1},              /* the resting class ends it */
        {2, 60, 2},  {2, 10, -1}, {2, 60, -1},
    };
    play(&rule, frames, 8);
}

static void frames_in_a_row(void) {
    const nsk_rule rule = {.threshold = 128, .frames = 3, .resting = UINT16_MAX};
    const frame frames[] = {
        {1, 9, -1}, {1, 9, -1},  {2, 9, -1}, {1, 9, -1}, {1, 9, -1}, {1, 9, 1},
        {2, 9, -1}, {2, -9, -1}, {2, 9, -1}, {2, 9, -1}, {2, 9, 2},  {0, 9, -1},
    };
    play(&rule, frames, 12);
}

static void a_long_run_does_not_wrap(void) {
    const nsk_model model = {.classes = 2};
    const nsk_rule rule = {.threshold = 128, .frames = 255, .resting = UINT16_MAX};
    const int8_t scores[2] = {0, 100};
    nsk_decider decider = {0};
    int decisions = 0;
    for (int i = 0; i < 2000; i++) {
        decisions += nsk_decide(&decider, &rule, &model, scores) == 1;
    }
    CU_ASSERT_EQUAL(decisions, 1);
}

/* Scores of all three classes, frame by frame, and what is decided. */
typedef struct scored {
    int8_t scores[3];
    int decision;
} scored;

static void play_scores(const nsk_rule *rule, const scored *frames, int count) {
    const nsk_model model = {.classes = 3};
    nsk_decider decider = {0};
    for (int i = 0; i < count; i++) {
        CU_ASSERT_EQUAL(nsk_decide(&decider, rule, &model, frames[i].scores), frames[i].decision);
    }
}

/* A frame without an answer makes the rule begin anew, but the actuator still moves. */
static void hold_off_outlives_faults(void) {
    const nsk_model model = {.classes = 2};
    const nsk_rule rule = {.threshold = 100, .frames = 2, .hold_off = 10, .resting = UINT16_MAX};
    const int8_t scores[2] = {-100, 100};
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
    const nsk_rule rule = {.threshold = 100, .frames = 2, .window = 3, .resting = 0};
    const frame frames[] = {
        {1, 9, -1}, {2, 9, -1},    {1, 9, 1}, /* two of three */
        {2, 9, 2},                            /* and two of the last three */
        {0, 9, -1}, {1, -100, -1}, {2, 9, -1}, {0, 9, -1}, {0, 9, -1}, /* at rest again */
        {2, 9, -1}, {2, 9, 2},
    };
    play(&rule, frames, 11);
}

static void a_lead_is_wanted(void) {
    const nsk_rule rule = {.threshold = 100, .margin = 40, .frames = 1, .resting = UINT16_MAX};
    const scored frames[] = {{{10, -30, -128}, 0}, {{-29, 10, -128}, -1}, {{-30, 10, -128}, 1}};
    const nsk_model model = {.classes = 3};
    play_scores(&rule, frames, 3);
    CU_ASSERT_EQUAL(nsk_answer_of(&rule, &model, frames[1].scores), NSK_UNSURE);
    CU_ASSERT_EQUAL(nsk_answer_of(&rule, &model, frames[2].scores), 1);
}

static void an_actuator_has_time(void) {
    const nsk_rule rule = {.threshold = 100, .frames = 1, .hold_off = 2, .resting = UINT16_MAX};
    const frame frames[] = {{1, 9, 1},  {2, 9, -1}, {2, 9, -1}, {2, 9, 2},
                            {1, 9, -1}, {1, 9, -1}, {1, 9, 1}};
    play(&rule, frames, 7);
}

/* Two classes on one line: neither is likely by itself, both together are. */
static void classes_share_a_line(void) {
    static const uint8_t line_of[] = {1, 0, 0};
    const nsk_rule rule = {
        .threshold = 180, .frames = 1, .resting = 1, .line_of = line_of, .line_count = 2};
    const scored frames[] = {{{-100, -28, -28}, 0},   /* 28, and 200 together */
                             {{100, -120, -120}, -1}, /* at rest */
                             {{-128, 127, -128}, 0},
                             {{40, -60, -60}, -1}}; /* 168: not enough, and 136 */
    const nsk_model model = {.classes = 3};
    play_scores(&rule, frames, 4);
    CU_ASSERT_EQUAL(nsk_answer_of(&rule, &model, frames[3].scores), NSK_UNSURE);
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
    CU_TEST_INFO_NULL,
};
