/* src/device by itself: freestanding, on its own headers, for cores that it was not built on. */
#include <string.h>

#include "drive.h"

static void freestanding_on_cortex_m(void) {
    static const char *const cores[] = {"cortex-m0", "cortex-m4"};
    for (size_t i = 0; i < G_N_ELEMENTS(cores); i++) {
        outcome o =
            drive_for(0,
                      "mkdir -p \"$T/%s\" && for f in src/device/*.c; do "
                      "arm-none-eabi-gcc -std=c11 -mcpu=%s -mthumb -Os -ffreestanding -Wall "
                      "-Wextra -Wconversion -Wshadow -Werror -Iinclude -c $f -o "
                      "\"$T/%s/$(basename $f .c).o\" || exit 3; done; "
                      "arm-none-eabi-ld -r \"$T/%s\"/*.o -o \"$T/%s.all\" && "
                      "arm-none-eabi-nm -u \"$T/%s.all\" | sed 's/.* U //' | "
                      "grep -vE '^(memcpy|memset|__aeabi_[a-z0-9]+|__gnu_thumb1_[a-z0-9_]+)$' "
                      "|| true",
                      cores[i], cores[i], cores[i], cores[i], cores[i], cores[i]);
        CU_ASSERT_STRING_EQUAL(o.out, "");
        outcome_clear(&o);
        /* no floating point: none of the compiler's helpers for it */
        o = drive_for(
            0, "arm-none-eabi-nm -u \"$T/%s.all\" | grep -cE '__aeabi_(f|d|i2f|i2d)' || true",
            cores[i]);
        CU_ASSERT_STRING_EQUAL(o.out, "0\n");
        outcome_clear(&o);
    }
}

static void only_its_own_headers(void) {
    outcome o =
        drive_for(0, "cat src/device/*.[ch] include/netsuke/device.h include/netsuke/port.h "
                     "ports/firmware.c | grep '^#include' | sort -u | grep -vE "
                     "'<(stdint|stddef|stdbool|string)\\.h>|\"(netsuke/[a-z]+|arithmetic|"
                     "crc|format|layer)\\.h\"' || true");
    CU_ASSERT_STRING_EQUAL(o.out, "");
    outcome_clear(&o);
}

static void nothing_global_and_mutable(void) {
    outcome o = drive_for(0, "arm-none-eabi-size -A \"$T/cortex-m4.all\" | awk '$1 ~ "
                             "/^\\.(data|bss)/ { total += $2 } END { print total + 0 }'");
    CU_ASSERT_STRING_EQUAL(o.out, "0\n");
    outcome_clear(&o);
}

static void headers_are_cpp_too(void) {
    outcome o =
        drive_for(0, "for h in device port host; do echo \"#include \\\"netsuke/$h.h\\\"\" | "
                     "c++ -std=c++17 -Wall -Wextra -Werror -Iinclude -fsyntax-only -x c++ - "
                     "|| exit 3; done");
    outcome_clear(&o);
}

/* The sizes that budgets tell are those of the code as it is. */
static void code_sizes_are_the_tables(void) {
    outcome table =
        drive_for(0, "sed -n '/^\\[code\\]/,/^$/s/^\\([a-z]*\\) = \\([0-9]*\\) B/\\1 \\2/p' "
                     "costs/cortex-m4.ini");
    outcome built = drive_for(0,
                              "cd '%s/bare-metal/device' && arm-none-eabi-size *.o | awk 'NR > 1 "
                              "{ sub(/\\.o$/, \"\", $6); print $6, $1 }'",
                              NSK_BINARY_DIR);
    CU_ASSERT_STRING_EQUAL(table.out, built.out);
    outcome_clear(&table);
    outcome_clear(&built);
}

CU_TestInfo device_build_tests[] = {
    {"freestanding on Cortex-M0 and M4", freestanding_on_cortex_m},
    {"only its own headers", only_its_own_headers},
    {"nothing global and mutable", nothing_global_and_mutable},
    {"the public headers are C++ too", headers_are_cpp_too},
    {"code sizes in the cost table are those of the code", code_sizes_are_the_tables},
    CU_TEST_INFO_NULL,
};
