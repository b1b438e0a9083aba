/* What each command prints for people, on the demo. */
#include <stdio.h>
#include <string.h>

#include "drive.h"

static const char *const commands[] = {
    "survey",   "outline", "vet",    "quantise", "compare",  "drift",    "probe",
    "stress",   "atlas",   "budget", "weigh",    "clock",    "headroom", "pare",
    "classify", "emit",    "trial",  "watch",    "rehearse", "report",   "assay"};

static void help_names_the_order(void) {
    outcome o = drive_for(0, "netsuke --help");
    const char *at = o.out;
    for (size_t i = 0; i < G_N_ELEMENTS(commands); i++) {
        char *line = g_strdup_printf("\n  %s ", commands[i]);
        at = strstr(at, line);
        CU_ASSERT_PTR_NOT_NULL_FATAL(at);
        g_free(line);
    }
    outcome_clear(&o);
    for (size_t i = 0; i < G_N_ELEMENTS(commands); i++) {
        o = drive_for(0, "netsuke %s --help", commands[i]);
        char *example = g_strdup_printf("Example:\n  netsuke %s ", commands[i]);
        CU_ASSERT_PTR_NOT_NULL(strstr(o.out, example));
        CU_ASSERT_PTR_NOT_NULL(strstr(o.out, "--json"));
        g_free(example);
        outcome_clear(&o);
    }
    o = drive_for(2, "netsuke");
    CU_ASSERT_STRING_EQUAL(o.out, "");
    outcome_clear(&o);
}

/* A command line, its status, and parts that its output must hold. */
static const struct {
    const char *line;
    int status;
    const char *parts[7];
} cases[] = {
    {"netsuke survey demo/kiln.ini",
     0,
     {"belt", "200  ####", "all images are 48 x 48; the network takes 48 x 48",
      "held-out in calibration               0       0", NULL}},
    {"netsuke survey demo/kiln.ini --sheet \"$T/sheet.png\"",
     0,
     {"red, green, blue", "the brief", "sheet.png", NULL}},
    {"netsuke outline demo/kiln.ini --plot \"$T/o.png\" && "
     "netsuke outline demo/kiln.ini --plot \"$T/o.svg\" > \"$T/o.txt\" && grep -c '<svg' "
     "\"$T/o.svg\"",
     0,
     {"model        kiln", NULL}},
    {"netsuke vet demo/kiln.ini --sample 120",
     0,
     {"as the brief has it", "colour = bgr", "no other way that was tried is clearly better",
      "no other order of the labels is clearly better", NULL}},
    {"netsuke outline demo/kiln.ini",
     0,
     {"demo/kiln.onnx takes pictures of 48 x 48 with 3 channels", "norm1, relu1", "24 x 24 x 16",
      "35,910  2,549,968", NULL}},
    {"netsuke quantise demo/kiln.ini -o \"$T/k.nsk\" --array \"$T/k.c\" --onnx \"$T/k.onnx\"",
     0,
     {"k.nsk", "k.onnx", "k.c stand as cortex-m4 is quickest with", "on 200 of 360 images;",
      "no accumulator can overflow", "rounding fitted", NULL}},
    {"netsuke compare demo/kiln.ini",
     0,
     {"on 1200 held-out images of 6 classes", "95 % interval for paired results",
      "1.00 points: holds", "float says", "integer says", NULL}},
    {"netsuke quantise demo/kiln.ini -o \"$T/k.nsk\" --gains",
     0,
     {"fitted to 164 of the calibration images, judged on the 36 others", "ranges alone",
      "biases settled", "of 36", NULL}},
    {"netsuke compare demo/kiln.ini --sheet \"$T/flips.png\" --plot \"$T/trust.svg\" && "
     "grep -c 'xml' \"$T/trust.svg\" && head -c 4 \"$T/flips.png\"",
     0,
     {"gains most wrong answers", "taken more often than by", "PNG", NULL}},
    {"netsuke budget demo/kiln.ini -m \"$T/once.nsk\"",
     0,
     {"On board 'trimmer'", "holds,", "How each figure was obtained", "emulator", NULL}},
    {"netsuke budget demo/kiln.ini --board boards/sponge.ini --plot \"$T/plan.svg\" && "
     "grep -c '<svg' \"$T/plan.svg\"",
     0,
     {"holds,", "a row of the camera's 144 B", "layers run while the frame comes in", "rows kept",
      NULL}},
    {"netsuke rehearse demo/kiln.ini --board boards/sponge.ini --frames 20",
     0,
     {"frames", "dropped", NULL}},
    {"netsuke drift demo/kiln.ini --sample 30 --plot \"$T/drift.svg\" && "
     "grep -c 'xml' \"$T/drift.svg\"",
     0,
     {"on 30 held-out images", "conv11", "softmax12", "if one layer alone were float, on 30",
      "every answer is the float network's: there is nothing to win", NULL}},
    {"netsuke probe demo/kiln.ini demo/images/held-out/crack/crack-0003.png && netsuke probe "
     "demo/kiln.ini demo/images/held-out/crack/crack-0003.png --layer conv3 -o \"$T/c.npy\"",
     0,
     {"crack-0003.png, layer by layer", "conv11", "6 x 6 x 128", "softmax12",
      "c.npy: 2 x 24 x 24 x 32 "
      "numbers, the float network's first",
      NULL}},
    {"netsuke weigh demo/kiln-third.ini demo/kiln.ini --sample 60 --plot \"$T/weigh.svg\" && "
     "grep -c '<svg' \"$T/weigh.svg\"",
     0,
     {"2 variants", "board trimmer", "* kiln-third  ", "* kiln ", "no other is as good", NULL}},
    {"netsuke stress demo/kiln.ini --sample 24 --plot \"$T/stress.svg\" && "
     "grep -c 'xml' \"$T/stress.svg\"",
     0,
     {"on 24 held-out images", "darker, % of the light", "hidden, % of the frame", "seed 1",
      "both fail      ", "integer alone  nowhere", NULL}},
    {"netsuke atlas demo/kiln.ini --sample 120 --points \"$T/atlas.csv\" --plot \"$T/atlas.svg\" "
     "&& "
     "grep -c 'xml' \"$T/atlas.svg\" && grep -c belt- \"$T/atlas.csv\"",
     0,
     {"of 120 held-out images: 128 numbers each", "among another class", "10 sound", NULL}},
    {"netsuke budget demo/kiln.ini --board boards/needle.ini",
     1,
     {"On board 'needle'", "BROKEN,", "too much", NULL}},
    {"netsuke budget demo/kiln.ini -m \"$T/once.nsk\" --board boards/calliper.ini",
     0,
     {"cortex-m55 at 160 MHz", "of the vector extension", "timings are not published",
      "a model of the core's pipeline", NULL}},
    {"netsuke budget demo/kiln.ini --board boards/ribbon.ini",
     0,
     {"cortex-m3 at 72 MHz", "layers run while the frame comes in", "Arm DDI 0337", NULL}},
    {"netsuke budget demo/kiln.ini -m \"$T/once.nsk\" --board boards/paddle.ini",
     0,
     {"rv32imac at 100 MHz", "riscv64-unknown-elf-gcc", NULL}},
    {"netsuke classify demo/kiln.ini -m \"$T/once.nsk\" -m \"$T/once.nsk\" "
     "demo/images/held-out/belt/belt-0001.png",
     0,
     {"belt-0001.png", "float", "integer", "1  belt", NULL}},
    {"netsuke classify demo/kiln.ini -m \"$T/once.nsk\" -m \"$T/once.nsk\" "
     "demo/images/held-out/chip --sheet \"$T/chips.png\"",
     0,
     {"chip-0002.png", "200 of 200 have a folder that tells", NULL}},
    {"netsuke classify demo/kiln.ini -m \"$T/once.nsk\" - < "
     "demo/images/held-out/belt/belt-0001.png",
     0,
     {"standard input", "1  belt", NULL}},
    {"netsuke rehearse demo/kiln.ini -m \"$T/once.nsk\" --frames 30",
     0,
     {"frames", "dropped", "line raised", "Rule: probability at least 0.60 on 2 of the last 3",
      NULL}},
    {"netsuke rehearse demo/kiln.ini -m \"$T/once.nsk\" --scene demo/scenes/plain.csv --plot "
     "\"$T/plain.svg\" "
     "--signals "
     "\"$T/plain.vcd\" && grep -c '<svg' \"$T/plain.svg\" && grep -c timescale \"$T/plain.vcd\"",
     0,
     {"pictures of 64 x 64 pixels", "of the 10 longer than 5 frames, 0", "0  of 10 actions",
      "frames from event to action", NULL}},
    {"netsuke rehearse demo/kiln.ini -m \"$T/once.nsk\" --scene demo/scenes/belt.csv", /* ten
                                                                                          minutes */
     0,
     {"1800  from the camera, in 600.0", "0  of 0 actions had nothing", NULL}},
    {"netsuke rehearse demo/kiln.ini -m \"$T/once.nsk\" --scenes --frames 90 --sweep --plot "
     "\"$T/sweep.svg\"",
     0,
     {"long missed", "glaze", "88 other settings", "brief", NULL}},
    {"netsuke rehearse demo/kiln.ini -m \"$T/once.nsk\" --scene demo/scenes/plain.csv --frames 60 "
     "--fault flash@20+4 "
     "--fault brown-out@40 --capture \"$T/captured\" && ls \"$T/captured\"/*/*.png | wc -l",
     0,
     {"4  frames without an answer; 1 restart", "\n55\n", NULL}},
    {"netsuke headroom demo/kiln.ini --board boards/sponge.ini",
     0,
     {"the limit of ram binds first", "input of 32 x 32", "50 % of the channels", "train again",
      NULL}},
    {"netsuke emit demo/kiln.ini -m \"$T/once.nsk\" -o \"$T/clocked\" > \"$T/log\" && make -s -C "
     "\"$T/clocked\" "
     "emulate "
     "CORE=cortex-m7 > \"$T/run.txt\" && netsuke clock demo/kiln.ini -m \"$T/once.nsk\" --log "
     "\"$T/run.txt\" --tick "
     "25MHz -o \"$T/ours.ini\" && sed 's#^file = .*#file = '\"$T\"'/ours.ini#; "
     "s/^clock = .*/clock = 60 MHz/' boards/trimmer.ini > "
     "\"$T/ours-board.ini\" && netsuke budget demo/kiln.ini -m \"$T/once.nsk\" --board "
     "\"$T/ours-board.ini\"",
     1,
     {"preparation", "conv11", "pace", "unseen", "learned from", NULL}},
};

/* Every line fits a terminal. */
static void check_width(const char *text) {
    char **lines = g_strsplit(text, "\n", -1);
    for (char **line = lines; *line != NULL; line++) {
        if (g_utf8_strlen(*line, -1) > 96) {
            fprintf(stderr, "\n    %s\n", *line);
            CU_FAIL("a line is too long");
        }
    }
    g_strfreev(lines);
}

/* Few pictures leave a limit open, which is said there, too. */
static bool only_warnings(const char *text) {
    char **lines = g_strsplit(text, "\n", -1);
    bool only = true;
    for (char **line = lines; *line != NULL; line++) {
        only = only && (**line == '\0' || g_str_has_prefix(*line, "netsuke: open: "));
    }
    g_strfreev(lines);
    return only;
}

static void they_print_for_people(void) {
    outcome made = drive_for(0, "netsuke quantise demo/kiln.ini -o \"$T/once.nsk\"");
    outcome_clear(&made);
    for (size_t i = 0; i < G_N_ELEMENTS(cases); i++) {
        outcome o = drive_for(cases[i].status, "%s", cases[i].line);
        for (const char *const *part = cases[i].parts; *part != NULL; part++) {
            if (strstr(o.out, *part) == NULL) {
                fprintf(stderr, "\n    %s\n    prints no '%s'\n", cases[i].line, *part);
                CU_FAIL("something is not printed");
            }
        }
        CU_ASSERT(only_warnings(o.err)); /* no terminal, no progress */
        check_width(o.out);
        outcome_clear(&o);
    }
}

/* The confusion matrices stand side by side within 80 columns. */
static void matrices_fit_80_columns(void) {
    outcome o = drive_for(0, "netsuke compare demo/kiln.ini");
    char *at = strstr(o.out, "float says");
    CU_ASSERT_PTR_NOT_NULL_FATAL(at);
    char **lines = g_strsplit(at, "\n", 9);
    for (int i = 0; i < 8; i++) {
        CU_ASSERT(strlen(lines[i]) <= 80);
    }
    g_strfreev(lines);
    outcome_clear(&o);
}

static void broken_limits_are_status_one(void) {
    outcome o = drive_for(1, "sed -e 's/^loss = .*/loss = -50/' demo/kiln.ini > demo/.tight.ini; "
                             "netsuke compare demo/.tight.ini; status=$?; rm -f demo/.tight.ini; "
                             "exit $status");
    CU_ASSERT_PTR_NOT_NULL(strstr(o.out, "-50.00 points: BROKEN"));
    outcome_clear(&o);
}

static void small_boards_fault_in_the_rehearsal(void) {
    drive_fails("board 'needle': memory fault: byte",
                "netsuke rehearse demo/kiln.ini --board boards/needle.ini --frames 3");
}

/* Neither waiting for ever nor a crash; one thread needs less. */
static void low_limits_are_said(void) {
    static const struct {
        const char *limit, *said;
    } limits[] = {
        {"-v 100000", "the limit of memory, 97 MiB (ulimit -v), is too low for"},
        {"-v 200000", "raise it, or say OMP_NUM_THREADS=1"},
        {"-d 100000", "97 MiB (ulimit -d), is too low for"},
        {"-s 64", "the limit of the stack, 64 KiB (ulimit -s), is too low; 512 KiB are needed"},
    };
    for (size_t i = 0; i < G_N_ELEMENTS(limits); i++) {
        drive_fails(limits[i].said,
                    "unset OMP_NUM_THREADS; ulimit %s && netsuke compare demo/kiln.ini",
                    limits[i].limit);
    }
    outcome o = drive_for(0, "ulimit -v 450000 && OMP_NUM_THREADS=1 netsuke outline demo/kiln.ini");
    outcome_clear(&o);
    o = drive_for(0, "ulimit -v 450000 -s 512 && OMP_NUM_THREADS=1 netsuke drift demo/kiln.ini "
                     "--sample 24");
    outcome_clear(&o);
}

/* One bar is full, and the others tell how far they are from it. */
static void bars_do_not_saturate(void) {
    outcome o = drive_for(0, "netsuke drift demo/kiln.ini --sample 24 | "
                             "grep -o '#[#.>]*$' | sort -u");
    char **bars = g_strsplit(g_strchomp(o.out), "\n", -1);
    int full = 0;
    for (char **bar = bars; *bar != NULL; bar++) {
        full += strchr(*bar, '.') == NULL;
    }
    CU_ASSERT_EQUAL(full, 1);
    CU_ASSERT(g_strv_length(bars) >= 5);
    g_strfreev(bars);
    outcome_clear(&o);
}

CU_TestInfo command_tests[] = {
    {"help tells the order of work", help_names_the_order},
    {"what people read", they_print_for_people},
    {"low limits are said", low_limits_are_said},
    {"bars do not saturate", bars_do_not_saturate},
    {"matrices fit 80 columns", matrices_fit_80_columns},
    {"a broken limit is status 1", broken_limits_are_status_one},
    {"a board too small faults in the rehearsal", small_boards_fault_in_the_rehearsal},
    CU_TEST_INFO_NULL,
};
