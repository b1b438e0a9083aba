/* How instructions become cycles: the makers' timings, and the plugin that counts. */
#include <math.h>
#include <stdio.h>
#include <string.h>

#include "../suites.h"
#include "../support.h"
#include "cycles.h"
#include "emulator.h"
#include "grid.h"

static void timings_are_the_makers(void) {
    static const struct {
        const char *core, *mnemonic;
        int cycles;
        bool each, piped;
    } cases[] = {
        {"cortex-m0", "ldrsb", 2, false, false}, {"cortex-m0", "strb", 2, false, false},
        {"cortex-m0", "muls", 1, false, false},  {"cortex-m0", "ldmia", 1, true, false},
        {"cortex-m0", "push", 1, true, false},   {"cortex-m0", "bl", 2, false, false},
        {"cortex-m0", "bls.n", 1, false, false}, {"cortex-m3", "ldr.w", 2, false, true},
        {"cortex-m3", "mla", 2, false, false},   {"cortex-m3", "mul.w", 1, false, false},
        {"cortex-m3", "smull", 4, false, false}, {"cortex-m3", "strd", 3, false, false},
        {"cortex-m3", "str.w", 1, false, false}, {"cortex-m4", "smlad", 1, false, false},
        {"cortex-m4", "ldrd", 3, false, false},  {"cortex-m4", "ldrb.w", 2, false, true},
        {"cortex-m4", "stmdb", 1, true, false},  {"cortex-m4", "sdiv", 7, false, false},
        {"cortex-m4", "smull", 1, false, false}, {"cortex-m55", "vmladava.s8", 1, false, false},
        {"rv32imac", "lw", 1, false, false},
    };
    for (size_t i = 0; i < G_N_ELEMENTS(cases); i++) {
        const core_timings *timings = core_timings_of(cases[i].core);
        CU_ASSERT_PTR_NOT_NULL_FATAL(timings);
        timing_rule rule = timing_of(timings, cases[i].mnemonic);
        if (rule.cycles != cases[i].cycles) {
            fprintf(stderr, "\n    %s on %s: %d\n", cases[i].mnemonic, cases[i].core, rule.cycles);
        }
        CU_ASSERT_EQUAL(rule.cycles, cases[i].cycles);
        CU_ASSERT_EQUAL(rule.each, cases[i].each);
        CU_ASSERT_EQUAL(rule.piped, cases[i].piped);
    }
    CU_ASSERT_PTR_NULL(core_timings_of("cortex-m1000"));
    for (int i = 0; i < emulated_core_count; i++) { /* every core that is counted has a table */
        CU_ASSERT_EQUAL(core_timings_of(emulated_cores[i].name) != NULL,
                        emulated_cores[i].machine != NULL);
    }
}

/* What the plugin counts by address is what the timer counts by layer. */
static void the_plugin_counts_what_the_timer_counts(void) {
    static const char *const cores[] = {"cortex-m0", "cortex-m4", "cortex-m55", "rv32imac"};
    const grid_shape shape = {NSK_KIND_DEPTHWISE, 12, 32, 32, 3, 1};
    nsk_error error = {.text = ""};
    char *folder = scratch_new();
    char *model = scratch_path(folder, "m.nsk");
    char *frame = scratch_path(folder, "f.bin");
    char *counts = scratch_path(folder, "counts.txt");
    char *plugin = g_strdup_printf("%s,out=%s", NSK_TRACE, counts);
    uint8_t bytes[12 * 12 * 3];
    for (size_t i = 0; i < sizeof bytes; i++) {
        bytes[i] = (uint8_t)(i * 31U % 251U);
    }
    nsk_model_file *file = grid_model(&shape, GRID_PLAIN, &error);
    CU_ASSERT_PTR_NOT_NULL_FATAL(file);
    CU_ASSERT(nsk_model_file_write(file, model, &error));
    scratch_write(frame, bytes, sizeof bytes);
    for (size_t i = 0; i < G_N_ELEMENTS(cores); i++) {
        emulated_run run = {0};
        cycle_mix mix = {0};
        char *elf = g_strdup_printf("%s/%s/replay.elf", NSK_BARE_METAL, cores[i]);
        CU_ASSERT(emulate(emulated_core_named(cores[i]), elf, model, frame, plugin, &run, &error));
        cycle_image *image = cycle_image_read(elf, core_timings_of(cores[i]), &error);
        assert_error(&error, "");
        CU_ASSERT_PTR_NOT_NULL_FATAL(image);
        CU_ASSERT(cycle_mix_add(image, counts,
                                "depthwise depthwise_plain depthwise_direct sixteen run feed", &mix,
                                &error));
        /* feed.c prepares, run.c calls; memset and the like are the rest */
        double counted = run.layer[GRID_TESTED_LAYER] + run.prepare;
        if (fabs(mix.instructions / counted - 1.0) > 0.15) {
            fprintf(stderr, "\n    %s: %.0f by address, %.0f by the timer\n", cores[i],
                    mix.instructions, counted);
        }
        CU_ASSERT(fabs(mix.instructions / counted - 1.0) <= 0.15);
        CU_ASSERT(mix.taken_branches > 0.0 && mix.taken_branches < mix.instructions / 3.0);
        double each = mix.cycles / mix.instructions;
        bool published = core_timings_of(cores[i])->source[0] != '\0';
        CU_ASSERT(published ? each > 1.1 && each < 2.0 : fabs(each - 1.0) < 1e-9);
        cycle_image_free(image);
        emulated_run_clear(&run);
        g_free(elf);
    }
    nsk_model_file_free(file);
    char *const texts[] = {model, frame, counts, plugin};
    for (size_t i = 0; i < G_N_ELEMENTS(texts); i++) {
        g_free(texts[i]);
    }
    scratch_remove(folder);
}

static void nothing_is_counted_of_nothing(void) {
    nsk_error error = {.text = ""};
    char *folder = scratch_new();
    char *counts = scratch_path(folder, "counts.txt");
    cycle_mix mix = {0};
    cycle_image *image = cycle_image_read(NSK_BARE_METAL "/cortex-m4/replay.elf",
                                          core_timings_of("cortex-m4"), &error);
    CU_ASSERT_PTR_NOT_NULL_FATAL(image);
    scratch_write_text(counts, "ffffff00 5 0 0\nzz\n");
    CU_ASSERT(cycle_mix_add(image, counts, "conv", &mix, &error));
    CU_ASSERT_EQUAL(mix.instructions, 0.0); /* no code there */
    CU_ASSERT_FALSE(cycle_mix_add(image, "nowhere/counts.txt", "conv", &mix, &error));
    assert_error(&error, "nowhere/counts.txt: cannot be read");
    cycle_image_free(image);
    error.text[0] = '\0';
    CU_ASSERT_PTR_NULL(cycle_image_read("nowhere.elf", core_timings_of("cortex-m4"), &error));
    assert_error(&error, "nowhere.elf");
    g_free(counts);
    scratch_remove(folder);
}

CU_TestInfo cost_tests[] = {
    {"timings are the makers'", timings_are_the_makers},
    {"the plugin counts what the timer counts", the_plugin_counts_what_the_timer_counts},
    {"counts of nothing are nothing", nothing_is_counted_of_nothing},
    CU_TEST_INFO_NULL,
};
