/* src/device by itself: freestanding, on its own headers, for cores that it was not built on. */
#include <string.h>

#include "drive.h"

static void freestanding_on_cortex_m(void) {
    static const char *const cores[] = {"cortex-m0", "cortex-m4", "cortex-m55"};
    for (size_t i = 0; i < G_N_ELEMENTS(cores); i++) {
        outcome o = drive_for(
            0,
            "mkdir -p \"$T/%s\" && cd src/device && for f in *.c */*.c; do "
            "case $f in x86-64/*|aarch64/*) continue ;; esac; arm-none-eabi-gcc -std=c11 -mcpu=%s "
            "-mthumb -Os "
            "-ffreestanding -Wall -Wextra -Wconversion -Wshadow -Werror -I../../include -c $f "
            "-o \"$T/%s/$(echo $f | tr / .).o\" || exit 3; "
            "done; arm-none-eabi-ld -r \"$T/%s\"/*.o -o \"$T/%s.all\" || exit 4; "
            "arm-none-eabi-nm \"$T/%s.all\" > \"$T/%s.names\" || exit 5; "
            "grep -q ' T nsk_run$' \"$T/%s.names\"",
            cores[i], cores[i], cores[i], cores[i], cores[i], cores[i], cores[i], cores[i]);
        outcome_clear(&o);
        o = drive_for(0,
                      "awk '$1 == \"U\" && $2 !~ "
                      "/^(memcpy|memset|__aeabi_[a-z0-9]+|__gnu_thumb1_[a-z0-9_]+)$/' "
                      "\"$T/%s.names\"",
                      cores[i]);
        CU_ASSERT_STRING_EQUAL(o.out, "");
        outcome_clear(&o);
        /* no floating point: none of the compiler's helpers for it */
        o = drive_for(0, "awk '$1 == \"U\" && $2 ~ /__aeabi_(f|d|i2f|i2d|ui2|l2)/' \"$T/%s.names\"",
                      cores[i]);
        CU_ASSERT_STRING_EQUAL(o.out, "");
        outcome_clear(&o);
    }
}

/* Vector kernels besides include their compiler's header of intrinsics. */
static void only_its_own_headers(void) {
    outcome o =
        drive_for(0, "cd src/device && ls *.h *.def */*.h | sed 's/.*\\///' > \"$T/own\" && "
                     "grep -h '^#include' *.[ch] */*.[ch] ../../include/netsuke/device.h "
                     "../../include/netsuke/port.h ../../include/netsuke/firmware.h "
                     "../../include/netsuke/link.h ../../include/netsuke/sensor.h "
                     "../../include/netsuke/slots.h | tr -d '\"' | "
                     "sed 's/\\.\\.\\///' "
                     "> \"$T/includes\" && grep -q '<stdint.h>' \"$T/includes\" && "
                     "awk 'FILENAME ~ /own$/ { own[$1] = 1; next } !($2 in own) && $2 !~ "
                     "/^(<(stdint|stddef|stdbool|string|immintrin|arm_mve|arm_neon)\\.h>|netsuke\\/"
                     "(device|port|firmware|link|sensor|slots)\\.h)$/' "
                     "\"$T/own\" \"$T/includes\"");
    CU_ASSERT_STRING_EQUAL(o.out, "");
    outcome_clear(&o);
}

static void nothing_global_and_mutable(void) {
    outcome o =
        drive_for(0, "arm-none-eabi-size -A \"$T/cortex-m4.all\" > \"$T/sections\" && "
                     "grep -q '^.text' \"$T/sections\" && awk '$1 ~ "
                     "/^\\.(data|bss)/ { total += $2 } END { print total + 0 }' \"$T/sections\"");
    CU_ASSERT_STRING_EQUAL(o.out, "0\n");
    outcome_clear(&o);
}

/* Each by itself, and netsuke.h has them all. */
static void headers_stand_alone(void) {
    outcome o = drive_for(
        0,
        "for h in include/netsuke/*.h; do n=netsuke/${h##*/}; for l in 'c -std=c11' 'c++ "
        "-std=c++17'; do echo \"#include \\\"$n\\\"\" | cc -x $l -Wall -Wextra -Werror -Iinclude "
        "-fsyntax-only - || exit 3; done; test $n = netsuke/netsuke.h || grep -q \"$n\" "
        "include/netsuke/netsuke.h || exit 4; done");
    outcome_clear(&o);
}

CU_TestInfo device_build_tests[] = {
    {"freestanding on Cortex-M0 and M4", freestanding_on_cortex_m},
    {"only its own headers", only_its_own_headers},
    {"nothing global and mutable", nothing_global_and_mutable},
    {"public headers stand alone, as C and C++", headers_stand_alone},
    CU_TEST_INFO_NULL,
};
