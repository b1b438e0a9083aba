/* A model on a board at the end of a line: every emulated core, over its own serial line. */
#include <signal.h>
#include <string.h>

#include "drive.h"

/* "$T/small.ini": the smallest of the demo's networks; "$T/small.nsk", its model. */
static void make_small(void) {
    outcome o = drive_for(
        0, "sed \"s#= images#= $PWD/demo/images#; s#\\.\\./boards#$PWD/boards#; s#^file = "
           "variants/.*#file = $PWD/demo/variants/kiln-32-half.onnx#; s#^labels = "
           ".*#labels = $PWD/demo/labels.txt#; /^\\[vary\\]/d; /^model = /d; /^scenes/d\" "
           "demo/variants.ini > \"$T/small.ini\" && netsuke quantise \"$T/small.ini\" -o "
           "\"$T/small.nsk\" > /dev/null");
    outcome_clear(&o);
}

/* What the estimate and the count of a whole frame may be apart: the study's worst. */
static const double MISFIT = 0.04;

static void every_core_agrees(void) {
    make_small();
    outcome cores = drive_for(0, "sed -n 's/^CORES := //p' ports/bare-metal/cores.mk");
    char **names = g_strsplit(g_strchomp(cores.out), " ", -1);
    CU_ASSERT(g_strv_length(names) == 8);
    for (char **name = names; *name != NULL; name++) {
        const int frames = strcmp(*name, "cortex-m4") == 0 ? 50 : 10;
        outcome o = drive_for(0,
                              "printf '[board]\\nname = b\\ncore = %s\\nclock = 25 MHz\\nflash = 4 "
                              "MiB\\nram = 4 MiB\\n' > \"$T/b.ini\"",
                              *name);
        outcome_clear(&o);
        JsonNode *root = drive_json(0,
                                    "netsuke trial \"$T/small.ini\" -m \"$T/small.nsk\" --board "
                                    "\"$T/b.ini\" --on emulate:%s --frames %d --json",
                                    *name, frames);
        CU_ASSERT_EQUAL(json_number(root, "frames"), frames);
        CU_ASSERT_EQUAL(json_number(root, "differ"), 0);
        CU_ASSERT_STRING_EQUAL(json_text(root, "board.core"), *name);
        const double counted = json_number(root, "clocks");
        CU_ASSERT_DOUBLE_EQUAL(json_number(root, "estimated") / counted, 1.0, MISFIT);
        CU_ASSERT(json_number(root, "stack") > 100.0 && json_number(root, "stack") < 4000.0);
        json_node_unref(root);
    }
    g_strfreev(names);
    outcome_clear(&cores);
}

/* What was measured before the line broke is shown, and that it did. */
static void a_broken_line_is_said(void) {
    make_small();
    outcome o = drive(
        "mkdir -p \"$T/tmp\"; TMPDIR=\"$T/tmp\" netsuke trial \"$T/small.ini\" -m \"$T/small.nsk\" "
        "--on emulate:cortex-m4 --frames 120 --remember \"$T/kept\" & n=$!; q=; while [ -z \"$q\" "
        "] && kill -0 $n; do "
        "sleep "
        "0.1; q=$(grep -l \"[u]nix:$T\" /proc/[0-9]*/cmdline 2>/dev/null | cut -d/ -f3); done; "
        "sleep "
        "3; kill $q; wait $n");
    CU_ASSERT_EQUAL(o.status, 2);
    CU_ASSERT_PTR_NOT_NULL(strstr(o.out, "of the held-out images: every score is the one"));
    CU_ASSERT_STRING_EQUAL(o.err, "netsuke: the link ended: the board's side was closed\n");
    outcome_clear(&o);
    /* it goes on with that, and then has all of it */
    for (int round = 0; round < 2; round++) {
        JsonNode *root = drive_json(0, "netsuke trial \"$T/small.ini\" -m \"$T/small.nsk\" --on "
                                       "emulate:cortex-m4 --frames 120 --remember \"$T/kept\" "
                                       "--json");
        const double known = json_number(root, "remembered");
        CU_ASSERT_EQUAL(json_number(root, "frames"), 120);
        CU_ASSERT(round == 0 ? known > 0.0 && known < 120.0 : known == 120.0);
        json_node_unref(root);
    }
}

static void what_it_shows(void) {
    outcome o = drive_for(0, "netsuke trial demo/kiln.ini --on sim --frames 5");
    CU_ASSERT_PTR_NOT_NULL(strstr(o.out, "board        any, over sim: its scores"));
    CU_ASSERT_PTR_NOT_NULL(
        strstr(o.out, "frames  5 of the held-out images: every score is the one"));
    CU_ASSERT_PTR_NOT_NULL(strstr(o.out, "messages, 0 of them again, as"));
    CU_ASSERT_PTR_NOT_NULL(strstr(o.out, "globalaveragepool11"));
    outcome_clear(&o);
    o = drive_for(
        0, "cd demo && netsuke compare kiln.ini --on sim --json > \"$T/there\" && netsuke compare "
           "kiln.ini --json > \"$T/here\" && cmp \"$T/here\" \"$T/there\" && netsuke classify "
           "kiln.ini "
           "--on sim images/held-out/chip/chip-0000.png");
    CU_ASSERT_PTR_NOT_NULL(strstr(o.out, "  1  chip     99.8 %  chip     99.8 %"));
    outcome_clear(&o);
    drive_fails("say where the board is: --on", "netsuke trial demo/kiln.ini");
    drive_fails("'cortex-m4' is no link", "netsuke trial demo/kiln.ini --on cortex-m4");
    drive_fails("emulate:cortex-m5: the cores that are emulated are cortex-m0",
                "netsuke trial demo/kiln.ini --on emulate:cortex-m5");
    drive_fails("tcp:127.0.0.1:9: ", "netsuke trial demo/kiln.ini --on tcp:127.0.0.1:9");
}

/* A hand-over of the smallest network, with every kind of layer, in the emulator: it is given the
 * kiln line's, then a mixer, whose kinds it did not come with. */
static void another_model_is_given(void) {
    static const char *const steps[][2] = {
        {"kiln.ini --renew", "the model is in slot 1 now, and starts from there"},
        {"kiln.ini --renew", "the board has this model already"},
        {"kiln-mixer.ini --renew --json", "\"renewal\" : \"kept\""},
        {"kiln-mixer.ini", "3 of the held-out images: every score is the one"}};
    GString *commands = g_string_new(
        "netsuke emit \"$T/small.ini\" -m \"$T/small.nsk\" --kinds all -o \"$T/all\" >/dev/null && "
        "make -s -j -C \"$T/all\" link CORE=cortex-m4 >/dev/null && port=$((20000 + $$ % 20000)) "
        "&& emulator=$(make -s -C \"$T/all\" link-command CORE=cortex-m4) && { cd \"$T/all\"; "
        "$emulator -serial tcp:127.0.0.1:$port,server=on,wait=off & } && cd \"$OLDPWD/demo\" && "
        "sleep 1");
    make_small();
    for (size_t i = 0; i < G_N_ELEMENTS(steps); i++) {
        g_string_append_printf(commands,
                               " && netsuke trial --on tcp:127.0.0.1:$port --frames 3 %s "
                               "> \"$T/step%zu\"",
                               steps[i][0], i);
    }
    g_string_append(commands, "; s=$?; kill $!; exit $s");
    outcome o = drive_for(0, "%s", commands->str);
    outcome_clear(&o);
    for (size_t i = 0; i < G_N_ELEMENTS(steps); i++) {
        o = drive_for(0, "cat \"$T/step%zu\"", i);
        CU_ASSERT_PTR_NOT_NULL(strstr(o.out, steps[i][1]));
        outcome_clear(&o);
    }
    g_string_free(commands, TRUE);
    drive_fails("--kinds some: say own or all",
                "netsuke emit demo/kiln.ini --kinds some -o \"$T/x\"");
}

/* What an emulator counts is the same wherever it runs. */
static void costs_are_learned(void) {
    /* beside the estimate, and kept; a film's frames are run there, too */
    JsonNode *root = drive_json(0, "netsuke budget demo/kiln.ini --on emulate:cortex-m4 -o "
                                   "\"$T/learned.ini\" --json");
    CU_ASSERT_EQUAL(json_length(root, "measured"), 15);
    for (int i = 0; i < 15; i++) {
        char counted[32];
        char measured[32];
        g_snprintf(counted, sizeof counted, "measured.%d.counted", i);
        g_snprintf(measured, sizeof measured, "measured.%d.measured", i);
        CU_ASSERT_DOUBLE_EQUAL(json_number(root, counted) / json_number(root, measured), 1.0, 0.05);
    }
    json_node_unref(root);
    root = drive_json(
        0, "sed \"s#= images#= $PWD/demo/images#; s#kiln.onnx#$PWD/demo/&#; "
           "s#labels.txt#$PWD/demo/&#; s#\\.\\./boards/trimmer.ini#b.ini#; "
           "/^scenes/d\" demo/kiln.ini > \"$T/l.ini\" && sed 's#^file = .*#file = learned.ini#' "
           "boards/trimmer.ini > \"$T/b.ini\" && netsuke budget \"$T/l.ini\" --json");
    CU_ASSERT(json_number(root, "latency.cycles") > 3.4e6);
    json_node_unref(root);
    drive_fails("sim: of a board's answers", "netsuke compare demo/kiln.ini --remember sim");
    drive_fails("this machine's time teaches nothing",
                "netsuke budget demo/kiln.ini --on sim -o \"$T/x.ini\"");
    root = drive_json(0, "netsuke rehearse demo/kiln.ini --on sim --scene "
                         "demo/scenes/plain.csv --frames 12 --json");
    json_node_unref(root);
    outcome o = drive_for(0, "netsuke clock demo/kiln.ini --on emulate:cortex-m4 -o "
                             "\"$T/ours.ini\" && grep 'emulate' \"$T/ours.ini\"");
    CU_ASSERT_PTR_NOT_NULL(strstr(o.out, "learned from emulate:cortex-m4"));
    outcome_clear(&o);
    drive_fails("the board there is a 'cortex-m7', and the brief's a 'cortex-m4'",
                "netsuke clock demo/kiln.ini --on emulate:cortex-m7");
    drive_fails("sim is this machine, whose time is no board's",
                "netsuke clock demo/kiln.ini --on sim");
    drive_fails("--on wants one brief",
                "netsuke clock demo/kiln.ini --on emulate:cortex-m4 --tick 3MHz");
}

CU_TestInfo trial_tests[] = {
    {"what it shows", what_it_shows},
    {"every core agrees", every_core_agrees},
    {"another model is given", another_model_is_given},
    {"costs are learned", costs_are_learned},
    {"a broken line is said", a_broken_line_is_said},
    CU_TEST_INFO_NULL,
};
