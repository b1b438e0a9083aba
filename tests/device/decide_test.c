#include "../suites.h"

#include "netsuke/device.h"

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
    const nsk_rule rule = {.threshold = 50, .frames = 1, .resting = 0};
    const frame frames[] = {
        {1, 49, -1}, {1, 50, 1},  {1, 90, -1}, /* said once */
        {2, 60, 2},  {0, 60, -1},              /* the resting class ends it */
        {2, 60, 2},  {2, 10, -1}, {2, 60, -1},
    };
    play(&rule, frames, 8);
}

static void frames_in_a_row(void) {
    const nsk_rule rule = {.threshold = 0, .frames = 3, .resting = UINT16_MAX};
    const frame frames[] = {
        {1, 9, -1}, {1, 9, -1},  {2, 9, -1}, {1, 9, -1}, {1, 9, -1}, {1, 9, 1},
        {2, 9, -1}, {2, -9, -1}, {2, 9, -1}, {2, 9, -1}, {2, 9, 2},  {0, 9, -1},
    };
    play(&rule, frames, 12);
}

static void a_long_run_does_not_wrap(void) {
    const nsk_model model = {.classes = 2};
    const nsk_rule rule = {.threshold = 0, .frames = 255, .resting = UINT16_MAX};
    const int8_t scores[2] = {0, 100};
    nsk_decider decider = {0};
    int decisions = 0;
    for (int i = 0; i < 2000; i++) {
        decisions += nsk_decide(&decider, &rule, &model, scores) == 1;
    }
    CU_ASSERT_EQUAL(decisions, 1);
}

CU_TestInfo decide_tests[] = {
    {"one frame decides", one_frame_decides},
    {"so many frames in a row", frames_in_a_row},
    {"a long run does not wrap", a_long_run_does_not_wrap},
    CU_TEST_INFO_NULL,
};
