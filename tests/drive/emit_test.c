/* The hand-over: what is in the folder, with every compiler at hand and on every emulated core. */
#include <stdio.h>
#include <stdlib.h>
#include <string.h>

#include "drive.h"

/* The strictest flags, in an empty folder without a path to the project. */
static void compiles_everywhere(void) {
    static const char *const compilers[] = {"gcc -std=c11 -O0", "clang -std=c11 -O2",
                                            "c++ -x c++ -std=c++17", "clang++ -x c++ -std=c++17"};
    outcome o =
        drive_for(0, "netsuke emit demo/kiln.ini -o \"$T/kiln\" && cat \"$T/kiln/README.md\"");
    CU_ASSERT_PTR_NOT_NULL(strstr(o.out, "belt, sound, crack, chip, pinhole, drip"));
    CU_ASSERT_PTR_NULL(strchr(strstr(o.out, "# kiln"), '@'));
    outcome_clear(&o);
    for (size_t i = 0; i < G_N_ELEMENTS(compilers); i++) {
        o = drive_for(
            0,
            "cd \"$T/kiln\" && %s -Wall -Wextra -Wconversion -Werror -I. *.c firmware/*.c "
            "-o ../self_test && ../self_test | tail -1",
            compilers[i]);
        CU_ASSERT_STRING_EQUAL(o.out, "passed\n");
        outcome_clear(&o);
    }
    o = drive_for(0, "grep -r -F --exclude-dir=src -e \"$PWD\" -e '../' \"$T/kiln\" | head -3");
    CU_ASSERT_STRING_EQUAL(o.out, "");
    outcome_clear(&o);
}

static void a_score_that_differs_fails(void) {
    outcome o = drive_for(
        1, "cd \"$T/kiln\" && sed '/kiln_expected/{n;s/-*[0-9][0-9]*/7/}' self_test_data.c > "
           "\"$T/data.c\" && cp \"$T/data.c\" ./self_test_data.c && cc -std=c11 -I. *.c "
           "firmware/*.c -o ../self_test "
           "&& ../self_test");
    CU_ASSERT_PTR_NOT_NULL(strstr(o.out, "differ\n"));
    CU_ASSERT_PTR_NOT_NULL(strstr(o.out, "FAILED 1\n"));
    outcome_clear(&o);
}

static void is_a_cmake_package(void) {
    outcome o = drive_for(
        0,
        "netsuke emit demo/kiln.ini -o \"$T/kiln\" > \"$T/log\" && cd \"$T\" && "
        "cmake -S kiln -B kiln-build >> log && cmake --build kiln-build >> log && "
        "(cd kiln-build && ctest >> ../log) && cmake --install kiln-build --prefix prefix >> log "
        "&& mkdir -p user && printf '%%s\\n' 'cmake_minimum_required(VERSION 3.13)' "
        "'project(user C)' 'find_package(kiln REQUIRED)' 'add_executable(user user.c)' "
        "'target_link_libraries(user kiln)' > user/CMakeLists.txt && printf '%%s\\n' "
        "'#include \"kiln.h\"' 'int main(void) { nsk_model m; return nsk_open(&m, kiln_model, "
        "sizeof kiln_model); }' > user/user.c && cmake -S user -B user-build "
        "-DCMAKE_PREFIX_PATH=\"$T/prefix\" >> log && cmake --build user-build >> log && "
        "user-build/user");
    outcome_clear(&o);
}

/* Two networks on one runtime; the second has a table where the first has none. */
static void networks_share_a_runtime(void) {
    outcome o = drive_for(
        0, "sed 's/^\\[model\\]/[model]\\nname = night shift/; s#= images#= '$PWD'/demo/images#; "
           "s#kiln.onnx#'$PWD'/demo/kiln.onnx#; s#labels.txt#'$PWD'/demo/labels.txt#; "
           "s#\\.\\./boards#'$PWD'/boards#' demo/kiln.ini > \"$T/night.ini\" && "
           "netsuke emit demo/kiln.ini \"$T/night.ini\" -o \"$T/two\" --frames 2 && "
           "make -s -C \"$T/two\"");
    CU_ASSERT_PTR_NOT_NULL(strstr(o.out, "network night_shift\n"));
    CU_ASSERT_PTR_NOT_NULL(strstr(o.out, "passed\n"));
    outcome_clear(&o);
    drive_fails("two networks are called 'kiln'",
                "netsuke emit demo/kiln.ini demo/kiln.ini -o \"$T/same\"");
}

static void only_its_own_files(void) {
    outcome o = drive_for(0, "ls \"$T/kiln\" | grep -E 'move|resize|max_pool|x86|table' ; "
                             "echo mine > \"$T/kiln/mine.txt\" && touch \"$T/kiln/nsk_old.c\" && "
                             "echo nsk_old.c >> \"$T/kiln/files.txt\" && "
                             "netsuke emit demo/kiln.ini -o \"$T/kiln\" --json > \"$T/e.json\" && "
                             "ls \"$T/kiln\" | grep -E 'mine|old'");
    CU_ASSERT_STRING_EQUAL(o.out, "mine.txt\n");
    outcome_clear(&o);
    JsonNode *root = drive_json(0, "netsuke emit demo/kiln.ini -o \"$T/kiln\" --json");
    CU_ASSERT(json_length(root, "files") > 40);
    json_node_unref(root);
    drive_fails("name a new folder", "mkdir -p \"$T/full\" && touch \"$T/full/x\" && "
                                     "netsuke emit demo/kiln.ini -o \"$T/full\"");
    drive_fails("is a file; name a folder", "netsuke emit demo/kiln.ini -o \"$T/full/x\"");
    drive_fails("say where the C goes", "netsuke emit demo/kiln.ini");
    drive_fails("--frames -1: a whole number from 1",
                "netsuke emit demo/kiln.ini -o \"$T/n\" --frames -1");
}

/* A disk that gets full on the way: what was there stays as it was, and is not half of two. */
static void a_full_disk_leaves_what_was_there(void) {
    outcome o = drive_for(0, "rm -rf \"$T/before\" && cp -r \"$T/kiln\" \"$T/before\"");
    outcome_clear(&o);
    drive_fails("File too large",
                "(ulimit -f 64; netsuke emit demo/kiln-third.ini -o \"$T/kiln\")");
    drive_fails("File too large", "(ulimit -f 64; netsuke emit demo/kiln.ini -o \"$T/none\")");
    o = drive_for(0, "diff -r \"$T/before\" \"$T/kiln\" && ! test -e \"$T/none\"");
    outcome_clear(&o);
}

/* The hand-over is written all the same; what it says of itself is that nothing was shown. */
static void a_proof_wants_its_tool(void) {
    drive_fails("--prove: frama-c: not here; install frama-c-base",
                "mkdir \"$T/few\" && ln -s $(command -v sh) $(command -v dirname) \"$T/few\" && "
                "n=$(command -v netsuke) && PATH=\"$T/few\" \"$n\" emit demo/kiln-third.ini -o "
                "\"$T/unproven\" --prove");
    outcome o = drive_for(0, "cat \"$T/unproven/proof/kiln_third.txt\"");
    CU_ASSERT_STRING_EQUAL(o.out, "kiln_third: nothing was shown yet; sh proof/prove.sh\n");
    outcome_clear(&o);
}

/* A model that is streamed: here, in C++, and on two emulated cores. */
static void streamed_models_are_handed_over(void) {
    outcome o = drive_for(
        0, "sed 's/^\\[limits\\]/[schedule]\\nstreamed = always\\n[limits]/; s#= images#= "
           "'$PWD'/demo/images#; s#kiln.onnx#'$PWD'/demo/kiln.onnx#; s#labels.txt#'$PWD'/demo/"
           "labels.txt#; s#\\.\\./boards#'$PWD'/boards#' demo/kiln.ini > \"$T/s.ini\" && "
           "netsuke emit \"$T/s.ini\" -o \"$T/streamed\" > /dev/null && cd \"$T/streamed\" && "
           "make -s && make -s emulate CORE=cortex-m4 && make -s emulate CORE=rv32imac && "
           "cc -std=c11 -Wall -Wextra -Wconversion -Werror -I. *.c firmware/*.c -o "
           "../streamed_test && "
           "grep nsk_feed_rows README.md && ls nsk_stream.c && ! test -e ../kiln/nsk_stream.c");
    CU_ASSERT_PTR_NOT_NULL(strstr(o.out, "passed\n"));
    CU_ASSERT_PTR_NULL(strstr(o.out, "FAILED"));
    CU_ASSERT_PTR_NOT_NULL(strstr(o.out, "nsk_stream.c\n"));
    outcome_clear(&o);
}

/* A product behind a sensor of another format: as it is, in C++, and on three emulated cores; as a
 * board at a link its camera is read in the same way. One without a sensor links none of it. */
static void sensors_are_handed_over(void) {
    outcome o = drive_for(
        0,
        "for f in nv12 gbrg rgb565-high-first; do sed 's/^\\[limits\\]/[camera]\\nformat = "
        "'$f'\\nwindow = 60x56+3+2\\nmirrored = yes\\nupside-down = yes\\n[limits]/; s#= images#= "
        "'$PWD'/demo/images#; s#kiln-third.onnx#'$PWD'/demo/kiln-third.onnx#; "
        "s#labels.txt#'$PWD'/demo/labels.txt#; s#\\.\\./boards#'$PWD'/boards#' "
        "demo/kiln-third.ini > \"$T/$f.ini\" && printf '[firmware]\\ncamera = 64x64\\n' >> "
        "\"$T/$f.ini\" && netsuke emit \"$T/$f.ini\" -o \"$T/$f\" > /dev/null || exit 1; done; "
        "cd \"$T/nv12\" && make -s && make -s emulate CORE=cortex-m4 && c++ -std=c++17 -x c++ "
        "-Wall -Wextra -Werror -I. -c firmware/nsk_firmware_sensor.c -o /dev/null && cd ../gbrg && "
        "make -s emulate CORE=rv32imac && cd ../rgb565-high-first && make -s emulate "
        "CORE=cortex-m0");
    const char *at = o.out;
    int passed = 0;
    for (; (at = strstr(at, "passed\n")) != NULL; at++) {
        passed++;
    }
    CU_ASSERT_EQUAL(passed, 4);
    CU_ASSERT_PTR_NULL(strstr(o.out, "FAILED"));
    outcome_clear(&o);
    JsonNode *root =
        drive_json(0, "netsuke watch \"$T/gbrg.ini\" --on emulate:cortex-m4 --json --frames 3");
    CU_ASSERT(json_number(root, "pictures") == 3.0 && json_number(root, "differ") == 0.0);
    json_node_unref(root);
}

/* A kind of layer that the folder leaves out is told from a damaged model. */
static void other_kinds_are_refused(void) {
    outcome o =
        drive_for(0, "cd \"$T/kiln\" && sed -i 's/&nsk_operation_scores/NULL/' nsk_operations.c && "
                     "cc -std=c11 -I. *.c firmware/*.c -o "
                     "../self_test; ../self_test | sed -n 2p");
    CU_ASSERT_STRING_EQUAL(o.out, "the model is in need of a layer that is left out\n");
    outcome_clear(&o);
}

/* Labels that are no C names, or the same one twice. */
static void labels_become_names(void) {
    outcome o = drive_for(
        0,
        "mkdir -p \"$T/odd\" && for s in calibration held-out; do mkdir -p \"$T/odd/$s\" && "
        "printf '%%s\\n' 'belt:sound tile' 'sound:sound-tile' 'crack:3 cracks' 'chip:\303\274ber' "
        "'pinhole:a \"quoted\" one' 'drip:drip' | while IFS=: read -r class label; do "
        "ln -s \"$PWD/demo/images/$s/$class\" \"$T/odd/$s/$label\"; done; done && "
        "printf '%%s\\n' 'sound tile' sound-tile '3 cracks' '\303\274ber' 'a \"quoted\" one' drip "
        "> "
        "\"$T/odd/labels.txt\" && sed \"s#kiln.onnx#$PWD/demo/kiln.onnx#; s#= images/#= #; "
        "s#\\.\\./boards#$PWD/boards#; /^\\[decision/,\\$d\" demo/kiln.ini > \"$T/odd/odd.ini\" && "
        "netsuke emit \"$T/odd/odd.ini\" -o \"$T/odd/c\" && cat \"$T/odd/c/kiln.h\"");
    static const char *const names[] = {"KILN_SOUND_TILE = 0",   "KILN_SOUND_TILE_1 = 1",
                                        "KILN_3_CRACKS = 2",     "KILN_BER = 3",
                                        "KILN_A_QUOTED_ONE = 4", "KILN_DRIP = 5"};
    for (size_t i = 0; i < G_N_ELEMENTS(names); i++) {
        CU_ASSERT_PTR_NOT_NULL(strstr(o.out, names[i]));
    }
    outcome_clear(&o);
    o = drive_for(0, "make -s -C \"$T/odd/c\" | tail -1 && grep -c 'a \"quoted\" one' "
                     "\"$T/odd/c/README.md\"");
    CU_ASSERT_STRING_EQUAL(o.out, "passed\n1\n");
    outcome_clear(&o);
}

/* All that is handed over for the kiln line, on Cortex-M4. */
static void code_is_small(void) {
    static const struct {
        const char *flags;
        long most;
    } cases[] = {{"-O2", 10 * 1024}, {"-Os", 7 * 1024}};
    for (size_t i = 0; i < G_N_ELEMENTS(cases); i++) {
        outcome o =
            drive_for(0,
                      "netsuke emit demo/kiln.ini -o \"$T/size\" > \"$T/log\" && "
                      "cd \"$T/size\" && arm-none-eabi-gcc -std=c11 -mcpu=cortex-m4 -mthumb "
                      "%s -c nsk_*.c && arm-none-eabi-size nsk_*.o | awk "
                      "'{ total += $1 } END { print total }'",
                      cases[i].flags);
        long bytes = strtol(o.out, NULL, 10);
        printf("[%s: %ld bytes] ", cases[i].flags, bytes);
        CU_ASSERT(bytes > 1024 && bytes <= cases[i].most);
        outcome_clear(&o);
    }
}

/* Where the model goes is the linker's matter; other ecosystems read their own files. */
static void fits_other_builds(void) {
    outcome o = drive_for(
        0,
        "cd \"$T/kiln\" && cc -std=c11 -DNSK_MODEL_SECTION='\".far_flash\"' -I. -c kiln_model.c -o "
        "../model.o && objdump -h ../model.o | grep -c far_flash && cat zephyr/module.yml");
    CU_ASSERT_STRING_EQUAL(o.out, "1\nname: kiln\nbuild:\n  cmake: .\n  kconfig: zephyr/Kconfig\n");
    outcome_clear(&o);
    JsonNode *root = drive_json(0, "cat \"$T/kiln/library.json\"");
    CU_ASSERT_STRING_EQUAL(json_text(root, "name"), "kiln");
    CU_ASSERT_STRING_EQUAL(json_text(root, "headers.0"), "kiln.h");
    CU_ASSERT_STRING_EQUAL(json_text(root, "build.srcFilter.3"), "+<kiln_model.c>");
    json_node_unref(root);
}

/* A model file built before is handed over as it is (what is proven has its order); one for another
 * brief is refused. */
static void takes_a_model_file(void) {
    outcome o = drive_for(
        0,
        "netsuke quantise demo/kiln.ini -o \"$T/k.nsk\" > \"$T/log\" && netsuke emit "
        "demo/kiln.ini --model \"$T/k.nsk\" -o \"$T/from\" --frames 6 && make -s -C \"$T/from\" | "
        "grep -c '^scores' && tr -d ' \\n' < \"$T/from/proof/kiln_model.c\" | sed "
        "'s/^[^{]*={//; s/,};.*//' | tr ',' '\\n' | awk '{ printf \"%%02x\", $1 }' > \"$T/a\" && "
        "od -An -v -tx1 \"$T/k.nsk\" | tr -d ' \\n' > \"$T/b\" && cmp \"$T/a\" \"$T/b\"");
    CU_ASSERT_PTR_NOT_NULL(strstr(o.out, "\n6\n"));
    outcome_clear(&o);
    drive_fails("built for another [input]",
                "sed 's/colour = rgb/colour = bgr/; s#= images#= '$PWD'/demo/images#; "
                "s#kiln.onnx#'$PWD'/demo/kiln.onnx#; s#labels.txt#'$PWD'/demo/labels.txt#; "
                "s#\\.\\./boards#'$PWD'/boards#' demo/kiln.ini > \"$T/bgr.ini\" && "
                "netsuke emit \"$T/bgr.ini\" --model \"$T/k.nsk\" -o \"$T/other\"");
    drive_fails("--model is for one brief",
                "netsuke emit demo/kiln.ini demo/kiln.ini --model \"$T/k.nsk\" -o \"$T/other\"");
}

/* In a terminal, too, where a stopped emulator would wait for ever. */
static void runs_in_a_terminal(void) {
    outcome o = drive_for(0, "timeout 60 script -qec \"make -C $T/streamed emulate\" /dev/null");
    CU_ASSERT_PTR_NOT_NULL(strstr(o.out, "passed"));
    outcome_clear(&o);
}

/* Twenty frames on a big-endian and on a 32-bit host, and one of the network with residuals,
 * channels weighed and tables on one core of each folder of kernels. (The kiln line on every core
 * is where budgets are held against what was linked: tests/device/cores_test.c.) */
static void every_core_agrees(void) {
    static const struct {
        const char *hosts, *brief, *cores;
        int frames, passed;
    } ways[] = {{"", "kiln.ini", "cortex-m3", 20, 3},
                {"HOSTS=", "kiln-gated.ini", "cortex-m0 cortex-m4 cortex-m55 rv32imac", 1, 4}};
    for (size_t i = 0; i < G_N_ELEMENTS(ways); i++) {
        outcome o = drive_for(0, "%s BRIEF=demo/%s scripts/emulate \"%s\" \"$T/cores-%s\" %d %s",
                              ways[i].hosts, ways[i].brief, NSK_COMMAND, ways[i].brief,
                              ways[i].frames, ways[i].cores);
        int passed = 0;
        for (const char *at = o.out; (at = strstr(at, " passed\n")) != NULL; at++) {
            passed++;
        }
        CU_ASSERT_EQUAL(passed, ways[i].passed);
        outcome_clear(&o);
    }
}

CU_TestInfo emit_tests[] = {
    {"compiles everywhere", compiles_everywhere},
    {"a score that differs fails", a_score_that_differs_fails},
    {"is a CMake package", is_a_cmake_package},
    {"networks share a runtime", networks_share_a_runtime},
    {"only its own files", only_its_own_files},
    {"a full disk leaves what was there", a_full_disk_leaves_what_was_there},
    {"a proof wants its tool", a_proof_wants_its_tool},
    {"streamed models are handed over", streamed_models_are_handed_over},
    {"sensors are handed over", sensors_are_handed_over},
    {"other kinds of layer are refused", other_kinds_are_refused},
    {"labels become names", labels_become_names},
    {"code is small", code_is_small},
    {"fits other builds", fits_other_builds},
    {"takes a model file", takes_a_model_file},
    {"runs in a terminal", runs_in_a_terminal},
    {"every core agrees", every_core_agrees},
    CU_TEST_INFO_NULL,
};
