/* The hand-over as a library of other build systems, each by that system's own documented format.
 * What of them can be had is used (CMake, Kconfig's parser, compilers); commands of the others are
 * stood in for by the least that their documents say of them. */
#include <stdio.h>
#include <string.h>

#include "drive.h"

/* A hand-over with a version, "$T/pack/kiln". */
static void hand_over(void) {
    outcome o =
        drive_for(0, "mkdir -p \"$T/pack\" && sed 's/^\\[model\\]/[model]\\nversion = 1.2/; s#= "
                     "images#= '$PWD'/demo/images#; s#kiln.onnx#'$PWD'/demo/kiln.onnx#; "
                     "s#labels.txt#'$PWD'/demo/labels.txt#; s#\\.\\./boards#'$PWD'/boards#' "
                     "demo/kiln.ini > \"$T/pack/k.ini\" && netsuke emit \"$T/pack/k.ini\" -o "
                     "\"$T/pack/kiln\" --frames 2");
    outcome_clear(&o);
}

/* A program that links the loop finds version 1 and no other; the runtime is compiled for speed
 * though all else is compiled for size. */
static void cmake_finds_its_version(void) {
    outcome o = drive_for(
        0, "cd \"$T/pack\" && cmake -S kiln -B b -DCMAKE_BUILD_TYPE=MinSizeRel "
           "-DCMAKE_EXPORT_COMPILE_COMMANDS=ON > log && cmake --build b >> log && b/self_test | "
           "tail -1 && "
           "cmake --install b --prefix p >> log && "
           "grep -c -e '-Os.*-O2.*nsk_[a-z_]*\\.c' b/compile_commands.json && "
           "! grep -e '-O2.*kiln_model.c' b/compile_commands.json && mkdir -p u && "
           "printf '%%s\\n' 'cmake_minimum_required(VERSION 3.13)' 'project(u C)' "
           "'find_package(kiln ${WANTED} REQUIRED)' 'add_executable(u u.c)' "
           "'target_link_libraries(u kiln_firmware)' > u/CMakeLists.txt && printf '%%s\\n' "
           "'#include \"kiln.h\"' 'int main(void) { nsk_port p = {0}; return "
           "kiln_firmware.camera_width != "
           "64 || (p.row && nsk_firmware_run(&p, &kiln_firmware)); }' > u/u.c && "
           "cmake -S u -B ub -DWANTED=1.0 -DCMAKE_PREFIX_PATH=$PWD/p >> log && cmake --build ub >> "
           "log && "
           "ub/u && ! cmake -S u -B ub2 -DWANTED=2.0 -DCMAKE_PREFIX_PATH=$PWD/p > log2 2>&1 && "
           "grep -o 'version: 1.2.0' log2");
    CU_ASSERT(g_str_has_prefix(o.out, "passed\n"));
    CU_ASSERT_PTR_NOT_NULL(strstr(o.out, "version: 1.2.0"));
    outcome_clear(&o);
}

/* The symbols, read by Kconfig's own parser; and both builds, with the loop and without it. */
static void zephyr_leaves_out_what_it_is_told(void) {
    outcome o = drive_for(
        0,
        "cd \"$T/pack\" && printf 'mainmenu \"m\"\\nsource \"%%s/kiln/zephyr/Kconfig\"\\n' $PWD > "
        "Kconfig "
        "&& /usr/bin/python3 -c \"import kconfiglib; k = kconfiglib.Kconfig('Kconfig', "
        "warn_to_stderr="
        "True); s = k.syms; print(s['KILN'].str_value, s['KILN_FIRMWARE'].str_value); "
        "s['KILN'].set_value(0); print(s['KILN_FIRMWARE'].str_value)\" && grep 'kconfig: "
        "zephyr/Kconfig' kiln/zephyr/module.yml && mkdir -p z && printf '%%s\\n' "
        "'cmake_minimum_required(VERSION 3.20)' 'project(z C)' 'macro(zephyr_library_named name)' "
        "'set(LIB ${name})' 'add_library(${name} STATIC)' 'endmacro()' "
        "'function(zephyr_library_sources)' "
        "'target_sources(${LIB} PRIVATE ${ARGN})' 'endfunction()' "
        "'function(zephyr_include_directories)' "
        "'target_include_directories(${LIB} PRIVATE ${ARGN})' 'endfunction()' "
        "'function(zephyr_library)' 'endfunction()' 'add_subdirectory(../kiln kiln)' > "
        "z/CMakeLists.txt && "
        "cmake -S z -B zb -DCONFIG_KILN=y -DCONFIG_KILN_FIRMWARE=y > log && cmake --build zb >> "
        "log && "
        "nm zb/kiln/libkiln.a 2>/dev/null | grep -c 'T nsk_firmware_run$' && "
        "cmake -S z -B zc -DCONFIG_KILN=y > log && cmake --build zc >> log && "
        "nm zc/kiln/libkiln.a 2>/dev/null | grep -c 'nsk_firmware_run$'; cmake -S z -B zd > log && "
        "cmake --build zd >> log && ls zd/kiln | grep -c '\\.a$' || true");
    CU_ASSERT_STRING_EQUAL(o.out, "y y\nn\n  kconfig: zephyr/Kconfig\n1\n0\n0\n");
    outcome_clear(&o);
}

static void esp_idf_registers_it(void) {
    outcome o = drive_for(
        0,
        "cd \"$T/pack\" && mkdir -p e && printf '%%s\\n' 'cmake_minimum_required(VERSION 3.16)' "
        "'project(e C)' 'set(ESP_PLATFORM 1)' 'function(idf_component_register)' "
        "'cmake_parse_arguments(C \"\" \"\" \"SRCS;INCLUDE_DIRS;REQUIRES\" ${ARGN})' "
        "'if(C_UNPARSED_ARGUMENTS)' 'message(FATAL_ERROR \"${C_UNPARSED_ARGUMENTS}\")' 'endif()' "
        "'add_library(component STATIC ${C_SRCS})' "
        "'target_include_directories(component PUBLIC ${C_INCLUDE_DIRS})' 'endfunction()' "
        "'add_subdirectory(../kiln kiln)' 'add_executable(e e.c)' 'target_link_libraries(e "
        "component)' > "
        "e/CMakeLists.txt && cp u/u.c e/e.c && cmake -S e -B eb > log && cmake --build eb >> log "
        "&& eb/e && "
        "/usr/bin/python3 -c \"import re; t = open('kiln/idf_component.yml').read(); "
        "print(re.search('version: \\\"([0-9.]+)\\\"', t).group(1), 'description:' in t)\"");
    CU_ASSERT_STRING_EQUAL(o.out, "1.2.0 True\n");
    outcome_clear(&o);
}

/* What is below src/ compiles with src/ alone as include path, as that builder has it; the sketch
 * in C++. */
static void arduino_compiles_what_is_below_src(void) {
    outcome o = drive_for(
        0, "cd \"$T/pack\" && mkdir -p a && for f in $(cd kiln && find src -name '*.c'); do gcc "
           "-std=gnu11 "
           "-Os -Ikiln/src -c kiln/$f -o a/$(basename $f .c).o || exit 1; done && printf '%%s\\n' "
           "'#include <kiln.h>' 'int main() { nsk_model m; return nsk_open(&m, kiln_model, sizeof "
           "kiln_model); "
           "}' > a/sketch.cpp && g++ -std=gnu++17 -Os -Ikiln/src a/sketch.cpp a/*.o -o a/sketch && "
           "a/sketch && "
           "for k in name version author maintainer sentence paragraph category url architectures; "
           "do grep "
           "-q \"^$k=\" kiln/library.properties || echo $k; done; grep '^version' "
           "kiln/library.properties");
    CU_ASSERT_STRING_EQUAL(o.out, "version=1.2.0\n");
    outcome_clear(&o);
}

/* Every file that the description names is there, and every source of the library is named. */
static void the_pack_describes_the_folder(void) {
    outcome o = drive_for(
        0,
        "cd \"$T/pack/kiln\" && xmllint --noout Netsuke.kiln.pdsc && xmllint --xpath "
        "'string(/package/releases/release/@version)' Netsuke.kiln.pdsc && for f in $(xmllint "
        "--xpath "
        "'//file/@name' Netsuke.kiln.pdsc | sed 's/.*\"\\(.*\\)\"/\\1/'); do test -e $f || echo "
        "missing $f; "
        "done; for f in nsk_*.c firmware/*.c kiln_*.c netsuke/*.h; do grep -q \"name=\\\"$f\\\"\" "
        "Netsuke.kiln.pdsc || echo unnamed $f; done");
    CU_ASSERT_STRING_EQUAL(o.out, "1.2.0\n");
    outcome_clear(&o);
}

static void platformio_filters_its_sources(void) {
    JsonNode *root = drive_json(0, "cat \"$T/pack/kiln/library.json\"");
    CU_ASSERT_STRING_EQUAL(json_text(root, "version"), "1.2.0");
    CU_ASSERT_STRING_EQUAL(json_text(root, "build.flags.0"), "-O2");
    CU_ASSERT_STRING_EQUAL(json_text(root, "build.unflags.0"), "-Os");
    for (int i = 1; i < json_length(root, "build.srcFilter"); i++) { /* "+<GLOB>" */
        char *path = g_strdup_printf("build.srcFilter.%d", i);
        char *glob = g_strdup(json_text(root, path) + 2);
        glob[strlen(glob) - 1] = '\0';
        outcome o = drive_for(0, "cd \"$T/pack/kiln\" && ls %s > /dev/null", glob);
        outcome_clear(&o);
        g_free(glob);
        g_free(path);
    }
    json_node_unref(root);
}

/* Archives of two hand-overs: the linker would take the first's runtime and leave the second's. */
static void two_of_them_clash_when_linked(void) {
    outcome o = drive_for(
        1,
        "netsuke emit demo/kiln-gated.ini -o \"$T/pack/gated\" --frames 1 > \"$T/pack/log\" && cd "
        "\"$T/pack\" && for n in kiln gated; do (cd $n && mkdir -p o && cd o && gcc -std=c11 -O1 "
        "-I.. -c "
        "../nsk_*.c ../*_model.c && ar rcs ../../lib$n.a *.o) || exit 3; done && n=$(cd gated && "
        "ls "
        "kiln*_model.c | sed 's/_model.c//') && printf '%%s\\n' '#include \"kiln.h\"' \"#include "
        "\\\"$n.h\\\"\" "
        "\"int main(void) { nsk_model a, b; return nsk_open(&a, kiln_model, sizeof kiln_model) + "
        "nsk_open("
        "&b, ${n}_model, sizeof ${n}_model); }\" > two.c && gcc -std=c11 -Ikiln -Igated two.c -L. "
        "-lkiln "
        "-lgated -o two");
    CU_ASSERT_PTR_NOT_NULL(strstr(o.err, "multiple definition of `nsk_operations'"));
    outcome_clear(&o);
    o = drive_for(0, "grep -c 'netsuke emit A.ini B.ini -o DIR' \"$T/pack/kiln/README.md\"");
    CU_ASSERT_STRING_EQUAL(o.out, "1\n");
    outcome_clear(&o);
}

/* As C++17 for every core, with all warnings; no header has an enum without a name. */
static void compiles_as_cpp_for_every_core(void) {
    static const char *const compilers[] = {
        "arm-none-eabi-g++ -mthumb -mcpu=cortex-m0", "arm-none-eabi-g++ -mthumb -mcpu=cortex-m4",
        "arm-none-eabi-g++ -mthumb -mcpu=cortex-m33",
        "arm-none-eabi-g++ -mthumb -mcpu=cortex-m55 -mfloat-abi=hard",
        "riscv64-unknown-elf-g++ -march=rv32imac -mabi=ilp32 -specs=picolibc.specs"};
    outcome all = drive_for(0, "netsuke emit demo/kiln-transformer.ini -o \"$T/pack/attending\" "
                               "--frames 1 >/dev/null");
    outcome_clear(&all);
    for (size_t i = 0; i < G_N_ELEMENTS(compilers); i++) {
        outcome o =
            drive_for(0,
                      "cd \"$T/pack\" && for f in kiln attending; do (cd $f && %s -x c++ "
                      "-std=c++17 -O2 -Wall -Wextra -Wconversion -Werror -I. -fsyntax-only "
                      "$(for c in nsk_*.c firmware/*.c kiln*.c; do [ $f != kiln ] && cmp -s $c "
                      "../kiln/$c || echo $c; done)) || exit 1; done",
                      compilers[i]);
        outcome_clear(&o);
    }
    outcome o = drive_for(0, "cd \"$T/pack/kiln\" && grep -E 'enum *\\{' *.h netsuke/*.h || true");
    CU_ASSERT_STRING_EQUAL(o.out, "");
    outcome_clear(&o);
}

/* The brief's product is in it, and the self-test runs it: another rule's decisions differ. */
static void the_product_is_handed_over(void) {
    outcome o = drive_for(0, "cd \"$T/pack/kiln\" && make -s | grep -E '^(step|loop) ' && cat "
                             "kiln_firmware.c");
    CU_ASSERT_PTR_NOT_NULL(strstr(o.out, "step 3 0 "));
    CU_ASSERT_PTR_NOT_NULL(strstr(o.out, "loop 4\n"));
    CU_ASSERT_PTR_NOT_NULL(strstr(o.out, "64, /* the camera's width"));
    CU_ASSERT_PTR_NOT_NULL(strstr(o.out, "644245095, /* threshold, in units of 2^-30 */"));
    outcome_clear(&o);
    o = drive_for(
        2,
        "cd \"$T/pack/kiln\" && sed -i 's/644245095, .. threshold/1073741824, \\/\\* threshold/; "
        "s/kiln_line_of\\[\\] = "
        "{1, 1,/kiln_line_of[] = {0, 0,/' kiln_firmware.c && make -s");
    CU_ASSERT_PTR_NOT_NULL(strstr(o.out, "differ\n"));
    CU_ASSERT_PTR_NOT_NULL(strstr(o.out, "FAILED"));
    outcome_clear(&o);
}

CU_TestInfo package_tests[] = {
    {"made", hand_over},
    {"CMake finds its version, kernels stay fast", cmake_finds_its_version},
    {"Zephyr leaves out what it is told", zephyr_leaves_out_what_it_is_told},
    {"ESP-IDF registers it", esp_idf_registers_it},
    {"Arduino compiles what is below src/", arduino_compiles_what_is_below_src},
    {"the CMSIS-Pack description is whole", the_pack_describes_the_folder},
    {"PlatformIO filters its sources", platformio_filters_its_sources},
    {"two of them clash when linked", two_of_them_clash_when_linked},
    {"C++17 for every core", compiles_as_cpp_for_every_core},
    {"the product is handed over", the_product_is_handed_over},
    CU_TEST_INFO_NULL,
};
