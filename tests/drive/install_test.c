/* Installing: into a prefix, below a folder, and away again; manuals, completion, boards by name.
 */
#include <stdio.h>
#include <string.h>

#include "drive.h"

/* The command finds its boards and tables where it was put, wherever that is. */
static void into_a_folder_and_away(void) {
    outcome o = drive_for(0,
                          "make -s install BUILD='%s' PREFIX=/opt/n DESTDIR=\"$T/root\" && cd / && "
                          "P=\"$T/root/opt/n\" && "
                          "\"$P/bin/netsuke\" --version && \"$P/bin/netsuke\" shelf | grep -c "
                          "\"$P/share/netsuke/boards\" && "
                          "ls $P/share/man/man1 | grep -c netsuke && ls $P/share/man/man5",
                          NSK_BINARY_DIR);
    CU_ASSERT_PTR_NOT_NULL(strstr(o.out,
                                  "netsuke 0.1.0\n9\n19\nnetsuke-board.5\nnetsuke-brief.5\nnetsuke-"
                                  "model.5\n"));
    outcome_clear(&o);
    o = drive_for(
        0, "sed \"s#= images/#= $PWD/demo/images/#; s#kiln.onnx#$PWD/demo/kiln.onnx#; "
           "s#labels.txt#$PWD/demo/labels.txt#; s#\\.\\./boards/trimmer.ini#stilt#\" demo/kiln.ini "
           "> \"$T/i.ini\" && cd / && \"$T/root/opt/n/bin/netsuke\" budget \"$T/i.ini\" | grep 'On "
           "board'");
    CU_ASSERT(g_str_has_prefix(o.out, "On board 'stilt': cortex-m33"));
    outcome_clear(&o);
    o = drive_for(
        0, "make -s uninstall BUILD='%s' DESTDIR=\"$T/root\" && find \"$T/root\" -type f | wc -l",
        NSK_BINARY_DIR);
    CU_ASSERT_STRING_EQUAL(o.out, "0\n");
    outcome_clear(&o);
}

/* Boards without a table of their own, cores whose code another's table knows; and a core of which
 * nothing is known, for what needs no table. */
static void cores_and_tables(void) {
    static const char *const cores[] = {"cortex-m0plus", "cortex-m23"};
    for (size_t i = 0; i < G_N_ELEMENTS(cores); i++) {
        outcome o = drive_for(
            0,
            "printf '[board]\\nname = b\\ncore = %s\\nclock = 64 MHz\\nflash = 256 "
            "KiB\\nram = 64 KiB\\ncamera-rate = 1 /s\\n' > \"$T/b.ini\" && netsuke budget "
            "demo/kiln.ini --board \"$T/b.ini\" || test $? = 1",
            cores[i]);
        CU_ASSERT_PTR_NOT_NULL(strstr(o.out, "of the cortex-m0, whose code the"));
        outcome_clear(&o);
    }
    outcome o = drive_for(
        0, "sed 's/core = .*/core = z9/; s#\\[costs\\]##; /^file/d' \"$T/b.ini\" > "
           "\"$T/z.ini\" && sed \"s#= images/#= $PWD/demo/images/#; s#kiln.onnx#$PWD/demo/"
           "kiln.onnx#; s#labels.txt#$PWD/demo/labels.txt#; s#\\.\\./boards/trimmer.ini#"
           "$T/z.ini#\" demo/kiln.ini > \"$T/z\" && sed -i 's/core = .*/core = z9/' "
           "\"$T/z.ini\" && netsuke compare \"$T/z\" > /dev/null && netsuke emit \"$T/z\" -o "
           "\"$T/z-out\" --frames 1 > /dev/null");
    outcome_clear(&o);
}

/* Manuals format without a warning, say what --help says, and the shells read their scripts. */
static void manuals_and_completion(void) {
    outcome o = drive_for(0,
                          "M='%s/manual'; for f in $M/man1/* $M/man5/*; do man --warnings -E UTF-8 "
                          "-l $f 2>&1 >/dev/null; done; "
                          "for c in $(ls $M/man1 | sed -n 's/netsuke-\\(.*\\)\\.1/\\1/p'); do "
                          "netsuke $c --help | grep -o -e "
                          "'--[a-z-]*' | sort -u > \"$T/h\"; MANWIDTH=200 man -E ascii -l "
                          "$M/man1/netsuke-$c.1 | grep -o -e "
                          "'--[a-z-]*' | sort -u > \"$T/n\"; comm -23 \"$T/h\" \"$T/n\"; done",
                          NSK_BINARY_DIR);
    CU_ASSERT_STRING_EQUAL(o.out, "");
    outcome_clear(&o);
    o = drive_for(
        0,
        "C='%s/manual/completion'; bash -n $C/netsuke.bash && bash -c \"source $C/netsuke.bash; "
        "COMP_WORDS=(netsuke su); COMP_CWORD=1; _netsuke; echo \\${COMPREPLY[0]}; "
        "COMP_WORDS=(netsuke vet --sa); COMP_CWORD=2; _netsuke; echo \\${COMPREPLY[0]}\" && zsh -n "
        "$C/_netsuke && fish --no-execute $C/netsuke.fish && HOME=\"$T\" fish -c \"source "
        "$C/netsuke.fish; complete -C 'netsuke vet --sam'\" | cut -f1",
        NSK_BINARY_DIR);
    CU_ASSERT_STRING_EQUAL(o.out, "survey\n--sample\n--sample\n");
    outcome_clear(&o);
}

/* Whoever links it needs no Fortran compiler, and the plain line is enough. */
static void no_fortran_is_linked(void) {
    outcome o =
        drive_for(0,
                  "cmake --install '%s' --prefix \"$T/usr\" > /dev/null && export "
                  "PKG_CONFIG_PATH=$(dirname $(find "
                  "\"$T/usr\" -name netsuke.pc)) && for s in '' --static; do pkg-config --libs $s "
                  "netsuke | grep -c "
                  "gfortran; cc -std=c11 examples/quantise_in_process.c $(pkg-config --cflags "
                  "--libs $s netsuke) -o "
                  "\"$T/q\" && \"$T/q\" demo/kiln-third.ini | grep -c 'right in float'; done",
                  NSK_BINARY_DIR);
    CU_ASSERT_STRING_EQUAL(o.out, "0\n1\n0\n1\n");
    outcome_clear(&o);
}

/* Nobody's: neither root nor sudo. One line says what to ask for. */
static void without_root(void) {
    outcome o = drive_for(
        1, "mkdir -p \"$T/fake\" && cd \"$T/fake\" && printf '#!/bin/sh\\necho 1000\\n' > id && "
           "printf "
           "'#!/bin/sh\\nexit 1\\n' > dpkg-query && cp dpkg-query apt-get && chmod +x * && ln -sf "
           "$(command -v "
           "grep) grep && cd \"$OLDPWD\" && PATH=\"$T/fake\" /bin/sh scripts/dependencies boards");
    CU_ASSERT_PTR_NOT_NULL(
        strstr(o.err, "neither root nor sudo here; ask for these Debian packages: gcc "));
    CU_ASSERT_PTR_NOT_NULL(strstr(o.err, " parallel\n"));
    CU_ASSERT_STRING_EQUAL(o.out, "");
    outcome_clear(&o);
    o = drive_for(2, "scripts/dependencies everything");
    CU_ASSERT_PTR_NOT_NULL(strstr(o.err, "say demo, boards, check"));
    outcome_clear(&o);
}

/* A cross compiler or an emulator that is not here: one line, with the packages that have it. */
static void a_tool_that_is_missing(void) {
    outcome o = drive_for(2, "netsuke emit demo/kiln.ini -o \"$T/e\" --frames 1 > /dev/null && "
                             "mkdir -p \"$T/few\" && for t in sh "
                             "make echo test mkdir cut cc; do ln -sf $(command -v $t) "
                             "\"$T/few/$t\"; done && PATH=\"$T/few\" make "
                             "-s -C \"$T/e\" emulate CORE=cortex-m4");
    CU_ASSERT_PTR_NOT_NULL(strstr(o.err, "arm-none-eabi-gcc: not here; install gcc-arm-none-eabi"));
    outcome_clear(&o);
    drive_fails("arm-none-eabi-gcc: not here; install gcc-arm-none-eabi",
                "N='%s'; PATH=\"$T/few\" \"$N\" budget demo/kiln.ini --compile", NSK_COMMAND);
}

/* The list of what can be made names every target that is one's own. */
static void make_help_lists_targets(void) {
    outcome o = drive_for(
        0, "make -s help > \"$T/help\" && for t in demo check check-fast bench emulate install "
           "uninstall package costs study onnx-table screenshots clean demo-train; do grep -q -E "
           "\"^make $t( |$)\" \"$T/help\" || echo $t; done");
    CU_ASSERT_STRING_EQUAL(o.out, "");
    outcome_clear(&o);
}

CU_TestInfo install_tests[] = {
    {"without root", without_root},
    {"a tool that is missing", a_tool_that_is_missing},
    {"make help lists targets", make_help_lists_targets},
    {"into a folder, and away", into_a_folder_and_away},
    {"cores and tables", cores_and_tables},
    {"manuals and completion", manuals_and_completion},
    {"no Fortran is linked", no_fortran_is_linked},
    CU_TEST_INFO_NULL,
};
