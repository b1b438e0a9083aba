#include "timings.h"

#include <stddef.h>
#include <string.h>

#define ARM   "arm-none-eabi-"
#define RISCV "riscv64-unknown-elf-"

/* P, what a taken branch waits, is 1 to 3 and taken as 2; division is 2 to 12 and taken as 7.
 * Memory without wait states. */
static const core_timings cores[] = {
    /* a multiplication takes one cycle or 32, as the chip's maker chose */
    {"cortex-m0",
     ARM,
     "of the small instruction set",
     "Arm DDI 0432, table 3-1, multiplication in one cycle",
     {{"ldm", 1, true, false},
      {"stm", 1, true, false},
      {"push", 1, true, false},
      {"pop", 1, true, false},
      {"ldr", 2, false, false},
      {"str", 2, false, false},
      {"bl ", 2, false, false}},
     2,
     false,
     NULL},
    /* long multiplications are 3 to 5 and taken as 4 */
    {"cortex-m3",
     ARM,
     "plain C",
     "Arm DDI 0337, table 3-1 and its load/store timings",
     {{"ldm", 1, true, false},
      {"stm", 1, true, false},
      {"push", 1, true, false},
      {"pop", 1, true, false},
      {"ldrd", 3, false, false},
      {"strd", 3, false, false},
      {"ldr", 2, false, true},
      {"mla", 2, false, false},
      {"mls", 2, false, false},
      {"smull", 4, false, false},
      {"umull", 4, false, false},
      {"smlal", 5, false, false},
      {"umlal", 5, false, false},
      {"udiv", 7, false, false},
      {"sdiv", 7, false, false}},
     2,
     true,
     NULL},
    {"cortex-m4",
     ARM,
     "of the DSP extension",
     "Arm DDI 0439, table 3-1 and its load/store timings",
     {{"ldm", 1, true, false},
      {"stm", 1, true, false},
      {"push", 1, true, false},
      {"pop", 1, true, false},
      {"ldrd", 3, false, false},
      {"strd", 3, false, false},
      {"ldr", 2, false, true},
      {"udiv", 7, false, false},
      {"sdiv", 7, false, false}},
     2,
     true,
     NULL},
    {"cortex-m7", ARM, "of the DSP extension", "", {{NULL, 0, false, false}}, 0, false, NULL},
    {"cortex-m33", ARM, "of the DSP extension", "", {{NULL, 0, false, false}}, 0, false, NULL},
    {"cortex-m55",
     ARM,
     "of the vector extension",
     "",
     {{NULL, 0, false, false}},
     0,
     false,
     "-marmv8.1-m.main"},
    {"rv32imac", RISCV, "plain C", "", {{NULL, 0, false, false}}, 0, false, NULL},
    {"rv32imac-zve32x",
     RISCV,
     "of vectors, of 128 bits each",
     "",
     {{NULL, 0, false, false}},
     0,
     false,
     NULL},
};

const core_timings *core_timings_of(const char *core) {
    for (size_t i = 0; i < sizeof cores / sizeof cores[0]; i++) {
        if (strcmp(cores[i].core, core) == 0) {
            return &cores[i];
        }
    }
    return NULL;
}

static bool fits(const char *rule, const char *mnemonic) {
    size_t length = strlen(rule);
    return rule[length - 1] == ' '
               ? strlen(mnemonic) == length - 1 && strncmp(rule, mnemonic, length - 1) == 0
               : strncmp(rule, mnemonic, length) == 0;
}

timing_rule timing_of(const core_timings *timings, const char *mnemonic) {
    for (const timing_rule *r = timings->rules; r->mnemonic != NULL; r++) {
        if (fits(r->mnemonic, mnemonic)) {
            return *r;
        }
    }
    return (timing_rule){NULL, 1, false, false};
}
