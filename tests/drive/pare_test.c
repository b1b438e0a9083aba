/* netsuke pare: a ladder of smaller networks, on few images. */
#include <stdio.h>
#include <string.h>

#include "drive.h"

/* "$T/third.ini" takes the demo's calibration images for training. */
static void make_brief(void) {
    outcome o = drive_for(0, "sed \"s#= images/#= $PWD/demo/images/#; "
                             "s#\\.\\./boards#$PWD/boards#; s#= labels#= $PWD/demo/labels#; s#= "
                             "kiln-third#= $PWD/demo/kiln-third#; /^calibration-limit/a training = "
                             "$PWD/demo/images/calibration\" demo/kiln-third.ini > "
                             "\"$T/third.ini\"");
    outcome_clear(&o);
}

/* What it says, and that each rung is what it says: by the briefs, by weigh, by the hand-over's own
 * test on two cores. */
static void a_ladder_goes_down(void) {
    make_brief();
    outcome o = drive_for(0, "netsuke pare \"$T/third.ini\" --latency 22ms --rungs 3 --epochs 1 -o "
                             "\"$T/ladder\"");
    CU_ASSERT_PTR_NOT_NULL(strstr(o.out, "too much time"));
    CU_ASSERT_PTR_NOT_NULL(strstr(o.out, "rung 2 is the first that does"));
    CU_ASSERT_PTR_NOT_NULL(strstr(o.out, "conv11"));
    CU_ASSERT_STRING_EQUAL(o.err, "");
    outcome_clear(&o);
    o = drive_for(0, "cd \"$T/ladder\" && ls | wc -l && netsuke budget rung-2.ini && netsuke "
                     "quantise rung-2.ini -o again.nsk > /dev/null && cmp again.nsk rung-2.nsk && "
                     "rm again.nsk && netsuke outline rung-3.ini");
    CU_ASSERT_PTR_NOT_NULL(strstr(o.out, "13\n"));
    CU_ASSERT_PTR_NOT_NULL(strstr(o.out, "ms  of    22.0 ms"));
    outcome_clear(&o);
    drive_fails("stand in a folder that the same command reads",
                "netsuke pare \"$T/ladder/rung-2.ini\" -o demo/images/calibration/ladder");
    JsonNode *root = drive_json(1, "netsuke weigh \"$T/ladder/ladder.ini\" --json");
    CU_ASSERT_EQUAL(json_length(root, "variants"), 3);
    CU_ASSERT(json_number(root, "variants.2.flash") < json_number(root, "variants.0.flash"));
    json_node_unref(root);
    o = drive_for(0,
                  "netsuke emit \"$T/ladder/rung-2.ini\" --frames 2 -o \"$T/two\" > /dev/null && "
                  "for c in cortex-m0 cortex-m4 cortex-m55; do make -s -C \"$T/two\" emulate "
                  "CORE=$c || exit 9; done");
    CU_ASSERT_PTR_NULL(strstr(o.out, "differ"));
    outcome_clear(&o);
}

/* The file with levels is the integer model itself, for other tools. */
static void levels_are_the_models(void) {
    outcome o =
        drive_for(0, "sed 's/rung-2.onnx/rung-2-levels.onnx/' \"$T/ladder/rung-2.ini\" > "
                     "\"$T/ladder/levels.ini\" && netsuke quantise \"$T/ladder/levels.ini\" "
                     "-o \"$T/levels.nsk\" && netsuke classify \"$T/ladder/rung-2.ini\" "
                     "demo/images/held-out/chip/chip-000[0-9].png > \"$T/a\"; netsuke "
                     "classify \"$T/ladder/levels.ini\" "
                     "demo/images/held-out/chip/chip-000[0-9].png > \"$T/b\"; cmp \"$T/a\" "
                     "\"$T/b\"; rm \"$T/ladder/levels.ini\"");
    outcome_clear(&o);
}

/* That the first rung fits is not only the budget's word: an emulated core counts it, layer by
 * layer. It counts instructions, which are a part of the cycles of the limit, more than half. */
static void the_first_that_fits_is_counted(void) {
    JsonNode *root =
        drive_json(0, "netsuke clock \"$T/ladder/rung-2.ini\" --on emulate:cortex-m4 --json");
    JsonNode *budget = drive_json(0, "netsuke budget \"$T/ladder/rung-2.ini\" --json");
    const double limit = 22e-3 * 80e6;
    double counted = 0.0;
    for (int i = 0; i < json_length(root, "layers"); i++) {
        char path[64];
        snprintf(path, sizeof path, "layers.%d.measured", i);
        counted += json_number(root, path);
    }
    printf("[%.0f instructions, %.0f cycles by the budget, limit %.0f] ", counted,
           json_number(budget, "latency.cycles"), limit);
    CU_ASSERT(json_number(budget, "latency.cycles") < limit);
    CU_ASSERT(counted < limit);
    CU_ASSERT(counted > 0.5 * json_number(budget, "latency.cycles"));
    json_node_unref(root);
    json_node_unref(budget);
}

static void a_ladder_as_json(void) {
    make_brief();
    JsonNode *root = drive_json(0, "netsuke pare \"$T/third.ini\" --rungs 2 --epochs 1 --json -o "
                                   "\"$T/json\" --seed 4");
    CU_ASSERT_EQUAL(json_number(root, "first_that_fits"), 1);
    CU_ASSERT_EQUAL(json_number(root, "seed"), 4);
    CU_ASSERT_EQUAL(json_length(root, "rungs"), 2);
    CU_ASSERT(json_number(root, "rungs.1.cycles") < 0.5 * json_number(root, "rungs.0.cycles"));
    CU_ASSERT(json_number(root, "rungs.1.channels.conv7") <
              json_number(root, "rungs.0.channels.conv7"));
    json_node_unref(root);
}

/* Each is one line, and leaves no folder behind. */
static void broken_use_is_said(void) {
    make_brief();
    drive_fails("say where the ladder goes", "netsuke pare \"$T/third.ini\"");
    drive_fails("paring wants training images", "netsuke pare demo/kiln-third.ini -o \"$T/none\"");
    drive_fails("--latency 22: a time of a frame",
                "netsuke pare \"$T/third.ini\" --latency 22 -o \"$T/none\"");
    drive_fails("--rungs 1: a whole number from 2",
                "netsuke pare \"$T/third.ini\" --rungs 1 -o \"$T/none\"");
    drive_fails("still take more than the limit (time, ms)",
                "netsuke pare \"$T/third.ini\" --latency 3ms -o \"$T/none\"");
    drive_fails("pare the float network that they come from",
                "sed \"s#^file = .*kiln-third.onnx#file = $T/l.onnx#\" \"$T/third.ini\" > "
                "\"$T/l.ini\"; netsuke quantise \"$T/third.ini\" -o \"$T/l.nsk\" --onnx "
                "\"$T/l.onnx\" > /dev/null && netsuke pare \"$T/l.ini\" -o \"$T/none\"");
    drive_fails("2 images of 'belt'",
                "mkdir -p \"$T/few\"; for c in $(cat demo/labels.txt); do mkdir -p \"$T/few/$c\"; "
                "cp demo/images/calibration/$c/$c-000[01].png \"$T/few/$c\"; done; netsuke pare "
                "\"$T/third.ini\" --training \"$T/few\" -o \"$T/none\"");
    outcome o = drive_for(0, "test ! -e \"$T/none\"");
    outcome_clear(&o);
}

CU_TestInfo pare_tests[] = {
    {"a ladder goes down", a_ladder_goes_down},
    {"levels are the model's", levels_are_the_models},
    {"the first that fits is counted", the_first_that_fits_is_counted},
    {"a ladder as JSON", a_ladder_as_json},
    {"broken use is said", broken_use_is_said},
    CU_TEST_INFO_NULL,
};
