/* Installing: into a prefix, below a folder, and away again; manuals, completion, boards by name.
 */
#include <stdio.h>
#include <stdlib.h>
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
    CU_ASSERT_PTR_NOT_NULL(
        strstr(o.out, "netsuke 0.1.0\n10\n23\nnetsuke-board.5\nnetsuke-brief.5\nnetsuke-"
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

static void install_below_scratch(void) {
    outcome o = drive_for(0,
                          "cmake --install '%s' --prefix \"$T/usr\" > /dev/null && "
                          "dirname $(find \"$T/usr\" -name netsuke.pc) | sed 's#/pkgconfig##'",
                          NSK_BINARY_DIR);
    g_strchomp(o.out);
    g_setenv("LIBRARIES", o.out, TRUE);
    outcome_clear(&o);
}

/* Whoever links it needs no Fortran compiler, and the plain line is enough; the archive, which asks
 * for what it uses, serves too. */
static void no_fortran_is_linked(void) {
    static const char *const ways[] = {"$(pkg-config --libs netsuke)",
                                       "$LIBRARIES/libnetsuke.a $(pkg-config --libs --static "
                                       "netsuke | sed 's/-lnetsuke//')"};
    install_below_scratch();
    for (size_t i = 0; i < G_N_ELEMENTS(ways); i++) {
        outcome o = drive_for(
            0,
            "export PKG_CONFIG_PATH=$LIBRARIES/pkgconfig LD_LIBRARY_PATH=$LIBRARIES; echo \"%s\" "
            "| grep -c gfortran; cc -std=c11 examples/quantise_in_process.c $(pkg-config --cflags "
            "netsuke) %s -o \"$T/q\" && \"$T/q\" demo/kiln-third.ini | grep -c 'right in float'",
            ways[i], ways[i]);
        CU_ASSERT_STRING_EQUAL(o.out, "0\n1\n");
        outcome_clear(&o);
    }
}

/* What the headers declare, and nothing besides, can be seen of both libraries. */
static void libraries_show_public_names(void) {
    install_below_scratch();
    outcome o = drive_for(
        0,
        "sort '%s/library/public.txt' > \"$T/public\" && wc -l < \"$T/public\" && "
        "nm -D --defined-only $LIBRARIES/libnetsuke.so | awk '$2 != \"A\" { sub(/@.*/, \"\", $3); "
        "print $3 }' | sort | diff - \"$T/public\" && "
        "nm -g --defined-only $LIBRARIES/libnetsuke.a | awk 'NF == 3 && $3 !~ "
        "/^\\.gomp_critical_user_nsk_/ { print $3 }' | sort | diff - \"$T/public\" && "
        "grep -vc '^nsk_' \"$T/public\"; readelf -d $LIBRARIES/libnetsuke.so | grep -o 'soname: "
        ".*'",
        NSK_BINARY_DIR);
    CU_ASSERT(atoi(o.out) > 150);
    CU_ASSERT_PTR_NOT_NULL(strstr(o.out, "\n0\nsoname: [libnetsuke.so.0]\n"));
    outcome_clear(&o);
}

/* A project of somebody else's, by CMake: the whole library; and the device half with nothing else
 * in sight, not even pkg-config's files. */
static void cmake_finds_both_halves(void) {
    install_below_scratch();
    outcome o = drive_for(
        0,
        "mkdir -p \"$T/user\" && cp examples/*.c \"$T/user\" && netsuke quantise "
        "demo/kiln.ini -o \"$T/m.nsk\" --array \"$T/user/kiln_model.c\" --array-name kiln_model > "
        "/dev/null && cat > \"$T/user/CMakeLists.txt\" <<'EOF'\n"
        "cmake_minimum_required(VERSION 3.20)\nproject(user C)\n"
        "find_package(netsuke 0.1 REQUIRED)\nadd_executable(whole quantise_in_process.c)\n"
        "target_link_libraries(whole netsuke::netsuke)\n"
        "find_package(netsuke-device 0.1 REQUIRED)\n"
        "add_executable(device classify_frame.c kiln_model.c)\n"
        "target_link_libraries(device netsuke::device)\nEOF\n"
        "cmake -S \"$T/user\" -B \"$T/user/b\" -DCMAKE_PREFIX_PATH=\"$T/usr\" > /dev/null && make "
        "-s "
        "-C \"$T/user/b\" > /dev/null && cd '%s' && \"$T/user/b/whole\" demo/kiln-third.ini | grep "
        "-c 'right "
        "in "
        "float'; head -c 6912 demo/kiln.onnx | \"$T/user/b/device\" | grep -c decision; ldd "
        "\"$T/user/b/device\" | grep -c 'libc\\|ld-linux\\|vdso'; ldd \"$T/user/b/device\" | grep "
        "-vc "
        "'libc\\|ld-linux\\|vdso'; PKG_CONFIG_PATH=$LIBRARIES/pkgconfig pkg-config --libs --static "
        "netsuke-device | wc -w",
        NSK_SOURCE_DIR);
    CU_ASSERT_STRING_EQUAL(o.out, "1\n1\n3\n0\n2\n");
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
    {"libraries show public names", libraries_show_public_names},
    {"CMake finds both halves", cmake_finds_both_halves},
    CU_TEST_INFO_NULL,
};
