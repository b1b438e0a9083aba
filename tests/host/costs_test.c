/* How instructions become cycles: the makers' timings, and the plugin that counts. */
#include <math.h>
#include <stdio.h>
#include <string.h>

#include "../suites.h"
#include "../support.h"
#include "cycles.h"
#include "decode.h"
#include "device/stream.h"
#include "emulator.h"
#include "fit.h"
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
    static const char *const cores[] = {"cortex-m0", "cortex-m4", "cortex-m7", "cortex-m55",
                                        "rv32imac"};
    const grid_shape shape = {NSK_KIND_DEPTHWISE, 12, 32, 32, 3, 1};
    nsk_error error = {.text = ""};
    char *folder = scratch_new();
    char *model = scratch_path(folder, "m.nsk");
    char *frame = scratch_path(folder, "f.bin");
    char *counts = scratch_path(folder, "counts.txt");
    char *steps = scratch_path(folder, "steps.txt");
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
        cycle_image *image = cycle_image_read(elf, core_timings_of(cores[i]), &error);
        assert_error(&error, "");
        CU_ASSERT_PTR_NOT_NULL_FATAL(image);
        char *plugin = cycle_image_plugin(image, NSK_TRACE, counts, steps, &error);
        CU_ASSERT(emulate(emulated_core_named(cores[i]), elf, model, frame, plugin, &run, &error));
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
        if (pipeline_core_of(cores[i]) != NULL) { /* two at once at most */
            CU_ASSERT(mix.fast > mix.instructions / 2.0 && mix.fast < mix.slow);
            CU_ASSERT(mix.slow < 3.0 * mix.instructions);
        } else {
            CU_ASSERT_EQUAL(mix.slow, 0.0);
        }
        cycle_image_free(image);
        emulated_run_clear(&run);
        g_free(elf);
        g_free(plugin);
    }
    nsk_model_file_free(file);
    char *const texts[] = {model, frame, counts, steps};
    for (size_t i = 0; i < G_N_ELEMENTS(texts); i++) {
        g_free(texts[i]);
    }
    scratch_remove(folder);
}

/* Bits of registers. */
#define R(n)  (UINT32_C(1) << (n))
#define Q(n)  (UINT32_C(1) << (PIPELINE_Q0 + (n)))
#define FLAGS R(PIPELINE_FLAGS)
#define P0    R(PIPELINE_PREDICATE)
enum { SP = 13, LR = 14, PC = 15 };

static void disassembly_is_understood(void) {
    static const struct {
        const char *mnemonic, *operands;
        uint32_t reads, writes, moves;
        pipeline_unit unit;
    } cases[] = {
        {"adds", "r0, r1, #4", R(1), R(0) | FLAGS, 0, PIPELINE_ALU},
        {"add", "r0, sl", R(0) | R(10), R(0), 0, PIPELINE_ALU},
        {"mov.w", "fp, ip", R(12), R(11), 0, PIPELINE_ALU},
        {"cmp", "r3, r4", R(3) | R(4), FLAGS, 0, PIPELINE_ALU},
        {"bne.n", "8012 <loop>", FLAGS, 0, 0, PIPELINE_BRANCH},
        {"bl", "8012 <nsk_run>", 0, 0, 0, PIPELINE_BRANCH},
        {"bic.w", "r1, r2, r3", R(2) | R(3), R(1), 0, PIPELINE_ALU},
        {"lsls", "r3, r2, #2", R(2), R(3) | FLAGS, 0, PIPELINE_ALU},
        {"mls", "r1, r2, r3, r4", R(2) | R(3) | R(4), R(1), 0, PIPELINE_MULTIPLY},
        {"smlad", "r1, r2, r3, r1", R(1) | R(2) | R(3), R(1), 0, PIPELINE_MULTIPLY},
        {"smlal", "r0, r1, r2, r3", R(0) | R(1) | R(2) | R(3), R(0) | R(1), 0, PIPELINE_MULTIPLY},
        {"umull", "r0, r1, r2, r3", R(2) | R(3), R(0) | R(1), 0, PIPELINE_MULTIPLY},
        {"udiv", "r0, r1, r2", R(1) | R(2), R(0), 0, PIPELINE_DIVIDE},
        {"ldr.w", "r0, [r1], #4", R(1), R(0), R(1), PIPELINE_LOAD},
        {"ldr.w", "r0, [r1, #-4]!", R(1), R(0), R(1), PIPELINE_LOAD},
        {"ldrsb.w", "r0, [r1, r2]", R(1) | R(2), R(0), 0, PIPELINE_LOAD},
        {"ldr", "r3, [pc, #88]\t@ (8060 <x>)", R(PC), R(3), 0, PIPELINE_LOAD},
        {"ldrd", "r2, r3, [r4, #8]", R(4), R(2) | R(3), 0, PIPELINE_LOADS},
        {"ldmia.w", "r1!, {r2, r3, r9}", R(1), R(2) | R(3) | R(9), R(1), PIPELINE_LOADS},
        {"push", "{r4, lr}", R(4) | R(LR), 0, 0, PIPELINE_STORES},
        {"str", "r0, [r1, #4]", R(0) | R(1), 0, 0, PIPELINE_STORE},
        {"letp", "lr, 678e <nsk_look_up+0xa>", R(LR), 0, R(LR), PIPELINE_LOOP},
        {"dlstp.8", "lr, r3", R(3), R(LR), 0, PIPELINE_ALU},
        {"vldrb.u8", "q1, [r0], #16", R(0), Q(1), R(0), PIPELINE_VECTOR_LOAD},
        {"vldrb.u32", "q1, [r0, q2]", R(0) | Q(2), Q(1), 0, PIPELINE_VECTOR_SCATTERED},
        {"vldr", "s7, [sp]", R(SP), Q(1), 0, PIPELINE_LOAD},
        {"vpop", "{d8-d15}", 0, Q(4) | Q(5) | Q(6) | Q(7), 0, PIPELINE_LOADS},
        {"vstrb.32", "q4, [r5]", Q(4) | R(5), 0, 0, PIPELINE_VECTOR_STORE},
        {"vmlava.s8", "r8, q1, q2", R(8) | Q(1) | Q(2), R(8), 0, PIPELINE_VECTOR_MULTIPLY},
        {"vmul.i32", "q7, q6, q1", Q(6) | Q(1), Q(7), 0, PIPELINE_VECTOR_MULTIPLY},
        {"vmov", "q4[2], q4[0], r0, r4", Q(4) | R(0) | R(4), Q(4), 0, PIPELINE_VECTOR},
        {"vmov", "r0, s7", Q(1), R(0), 0, PIPELINE_VECTOR},
        {"vqmovnb.s32", "q0, q1", Q(0) | Q(1), Q(0), 0, PIPELINE_VECTOR},
        {"vctp.8", "r3", R(3), P0, 0, PIPELINE_ALU},
        {"cneg", "r7, r6, lt", R(6) | FLAGS, R(7), 0, PIPELINE_ALU},
    };
    for (size_t i = 0; i < G_N_ELEMENTS(cases); i++) {
        decode_block none = {0};
        const pipeline_step s = decode_step(cases[i].mnemonic, cases[i].operands, 4, &none);
        const bool as_told = s.reads == cases[i].reads && s.writes == cases[i].writes &&
                             s.moves == cases[i].moves && s.unit == cases[i].unit;
        if (!as_told) {
            fprintf(stderr, "\n    %s %s: reads %x writes %x moves %x unit %d\n", cases[i].mnemonic,
                    cases[i].operands, s.reads, s.writes, s.moves, s.unit);
        }
        CU_ASSERT(as_told);
    }
    decode_block block = {0}; /* what flags decide reads them, and what it may leave as it was */
    decode_step("ite", "ne", 2, &block);
    CU_ASSERT_EQUAL(decode_step("movne", "r0, r1", 2, &block).reads, FLAGS | R(0) | R(1));
    CU_ASSERT_EQUAL(decode_step("moveq", "r0, #0", 2, &block).reads, FLAGS | R(0));
    CU_ASSERT_EQUAL(decode_step("movs", "r0, #0", 2, &block).reads, 0);
}

/* By hand, from the numbers of pipeline.c. */
static void pipelines_wait_as_they_say(void) {
    static const struct {
        const char *core;
        struct {
            const char *mnemonic, *operands;
            int size;
        } line[6];
        uint64_t fast, slow; /* to when a last "nop" begins */
    } cases[] = {
        /* both at once; the second waits for the first */
        {"cortex-m7", {{"add.w", "r0, r1, r2", 4}, {"add.w", "r3, r1, r2", 4}}, 1, 1},
        {"cortex-m7", {{"add.w", "r0, r1, r2", 4}, {"add.w", "r3, r0, r2", 4}}, 1, 1},
        /* a load's result after 2 or 3 cycles */
        {"cortex-m7", {{"ldr", "r0, [r1]", 2}, {"adds", "r2, r0, r0", 2}}, 2, 3},
        {"cortex-m7", {{"ldr", "r0, [r1]", 2}, {"ldr", "r2, [r3]", 2}, {"nop", "", 2}}, 1, 2},
        {"cortex-m7", {{"ldrd", "r0, r2, [r1]", 4}, {"adds", "r3, r3, r4", 2}}, 1, 3},
        /* products of a chain */
        {"cortex-m7", {{"smlad", "r0, r1, r2, r0", 4}, {"smlad", "r0, r3, r4, r0", 4}}, 1, 2},
        {"cortex-m33", {{"adds", "r0, r1, r2", 2}, {"adds", "r3, r1, r2", 2}}, 1, 2},
        {"cortex-m33", {{"add.w", "r0, r1, r2", 4}, {"add.w", "r3, r1, r2", 4}}, 2, 2},
        {"cortex-m33", {{"ldr", "r0, [r1]", 2}, {"adds", "r2, r0, r0", 2}}, 2, 3},
        /* a vector's two beats, and what overlaps them */
        {"cortex-m55", {{"vldrb.u8", "q0, [r0]", 4}, {"vldrb.u8", "q1, [r1]", 4}}, 3, 4},
        {"cortex-m55", {{"vldrb.u8", "q0, [r0]", 4}, {"vmlava.s8", "r2, q0, q1", 4}}, 2, 5},
        {"cortex-m55", {{"vldrb.u32", "q0, [r0, q1]", 4}, {"adds", "r1, r2, r3", 2}}, 5, 10},
    };
    for (size_t i = 0; i < G_N_ELEMENTS(cases); i++) {
        const pipeline_core *core = pipeline_core_of(cases[i].core);
        pipeline_step step[7];
        uint64_t passed[2] = {0, 0};
        decode_block block = {0};
        for (int end = 0; end < 2; end++) {
            pipeline_run run = {.numbers = end == 0 ? &core->fast : &core->slow};
            int k = 0;
            for (; k < 6 && cases[i].line[k].mnemonic != NULL; k++) {
                step[k] = decode_step(cases[i].line[k].mnemonic, cases[i].line[k].operands,
                                      cases[i].line[k].size, &block);
                passed[end] += pipeline_begin(&run, &step[k], (pipeline_way){false, false});
            }
            step[k] = decode_step("nop", "", 4, &block);
            passed[end] += pipeline_begin(&run, &step[k], (pipeline_way){false, false});
        }
        if (passed[0] != cases[i].fast || passed[1] != cases[i].slow) {
            fprintf(stderr, "\n    %s, %s: %d to %d\n", cases[i].core, cases[i].line[0].mnemonic,
                    (int)passed[0], (int)passed[1]);
        }
        CU_ASSERT_EQUAL(passed[0], cases[i].fast);
        CU_ASSERT_EQUAL(passed[1], cases[i].slow);
    }
    CU_ASSERT_PTR_NULL(pipeline_core_of("cortex-m4"));
}

/* A jump on the two cores; and one that goes another way than before. */
static void jumps_wait(void) {
    static const struct {
        const char *core;
        uint64_t fast, slow, fast_turned, slow_turned;
    } cases[] = {{"cortex-m7", 1, 2, 1, 9}, {"cortex-m33", 2, 3, 2, 3}, {"cortex-m55", 2, 4, 2, 4}};
    for (size_t i = 0; i < G_N_ELEMENTS(cases); i++) {
        const pipeline_core *core = pipeline_core_of(cases[i].core);
        decode_block block = {0};
        const pipeline_step jump = decode_step("b.n", "8012 <loop>", 2, &block);
        const pipeline_step next = decode_step("nop", "", 2, &block);
        for (int turned = 0; turned < 2; turned++) {
            pipeline_run fast = {.numbers = &core->fast};
            pipeline_run slow = {.numbers = &core->slow};
            const pipeline_way way = {true, turned == 1};
            pipeline_begin(&fast, &jump, (pipeline_way){false, false});
            pipeline_begin(&slow, &jump, (pipeline_way){false, false});
            CU_ASSERT_EQUAL(pipeline_begin(&fast, &next, way),
                            turned == 1 ? cases[i].fast_turned : cases[i].fast);
            CU_ASSERT_EQUAL(pipeline_begin(&slow, &next, way),
                            turned == 1 ? cases[i].slow_turned : cases[i].slow);
        }
    }
}

/* Loads and stores of a Cortex-M4, from an object whose counts are made up: each ran once. */
static void loads_wait_for_addresses(void) {
    static const struct {
        const char *code;
        double cycles;
    } cases[] = {
        {"ldr r0, [r1]; ldr r2, [r3]", 3},        /* one behind another */
        {"ldr r0, [r1]; ldr r2, [r0]", 4},        /* whose address it loads */
        {"ldr r0, [r1]; str r2, [r3, r4]", 3},    /* a store hides, too */
        {"adds r0, r0, #1; str r2, [r3, r4]", 3}, /* or takes two by itself */
        {"str r2, [r3, r4]; ldr r0, [r1]", 4},    /* behind it nothing hides */
        {"str r2, [r3, #4]; adds r0, r0, #1", 2},
    };
    nsk_error error = {.text = ""};
    char *folder = scratch_new();
    char *counts = scratch_path(folder, "counts.txt");
    for (size_t i = 0; i < G_N_ELEMENTS(cases); i++) {
        char *command = g_strdup_printf(
            "printf '__attribute__((naked)) void f(void) { __asm__(\".syntax unified; %s\"); }' > "
            "%s/few.c && arm-none-eabi-gcc -mcpu=cortex-m4 -mthumb -g -c %s/few.c -o %s/few.o",
            cases[i].code, folder, folder, folder);
        CU_ASSERT_EQUAL_FATAL(system(command), 0); /* NOLINT(concurrency-mt-unsafe) */
        char *object = scratch_path(folder, "few.o");
        cycle_image *image = cycle_image_read(object, core_timings_of("cortex-m4"), &error);
        CU_ASSERT_PTR_NOT_NULL_FATAL(image);
        cycle_mix mix = {0};
        /* both of two bytes */
        scratch_write_text(counts, "0 1 0 0 0 0 0\n2 1 0 0 0 0 0\n");
        CU_ASSERT(cycle_mix_add(image, counts, "few", &mix, &error));
        if (mix.cycles != cases[i].cycles) {
            fprintf(stderr, "\n    %s: %.0f\n", cases[i].code, mix.cycles);
        }
        CU_ASSERT_EQUAL(mix.cycles, cases[i].cycles);
        cycle_image_free(image);
        g_free(object);
        g_free(command);
    }
    g_free(counts);
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

static int term_named(const char *name) {
    int term = 0;
    while (strcmp(nsk_cost_terms[term], name) != 0) {
        term++;
    }
    return term;
}

/* Of made-up layers of a kind: 100 a call, 2.5 a product, 40 an output, and more for unpacking; or,
 * a piece that is written over its input, 300 more. */
static void add_layers(cost_points *points, const char *kind, double more, bool over) {
    for (uint64_t i = 1; i <= 12; i++) {
        const uint64_t outputs = 8 + i * i % 7 * 16;
        nsk_work w = {.calls = 1, .outputs = outputs, .products = outputs * i * 4, .over = over};
        w.blocks = w.products + 3; /* goes along, and costs nothing here */
        w.macs = w.products;
        w.unpacked = more > 0.0 ? w.products / 2 : 0;
        const double count = 100.0 + 2.5 * (double)w.products + 40.0 * (double)outputs +
                             more * (double)w.unpacked + (over ? 300.0 : 0.0);
        CU_ASSERT(cost_points_add(points, kind, &w, over && i == 12 ? 9.0 * count : count));
    }
}

static void factors_are_found_again(void) {
    static cost_points points;
    nsk_error error = {.text = ""};
    cost_fit plain;
    cost_fit packed;
    points.count = 0;
    add_layers(&points, "conv", 0.0, false);
    add_layers(&points, "conv", 0.0, true); /* one of them nine times as dear: the median stands */
    add_layers(&points, "conv-packed", 1.5, false);
    CU_ASSERT(cost_fit_kind(&points, "cortex-m4", "conv", NULL, &plain, &error));
    CU_ASSERT_DOUBLE_EQUAL(plain.factor[term_named("call")], 100.0, 1e-3);
    CU_ASSERT_DOUBLE_EQUAL(plain.factor[term_named("product")], 2.5, 1e-5);
    CU_ASSERT_DOUBLE_EQUAL(plain.factor[term_named("output")], 40.0, 1e-4);
    CU_ASSERT_DOUBLE_EQUAL(plain.factor[term_named("over")], 300.0, 1e-2);
    CU_ASSERT_EQUAL(plain.factor[term_named("block")], 0.0); /* that core has no vectors */
    CU_ASSERT_EQUAL(plain.factor[term_named("mac")], 0.0);
    CU_ASSERT(plain.worst < 1e-6 && plain.spread < 1e-6);
    CU_ASSERT(cost_fit_kind(&points, "cortex-m4", "conv-packed", &plain, &packed, &error));
    CU_ASSERT_DOUBLE_EQUAL(packed.factor[term_named("unpacked")], 1.5, 1e-4);
    CU_ASSERT_DOUBLE_EQUAL(packed.factor[term_named("product")], 2.5, 1e-5);
    CU_ASSERT_FALSE(cost_fit_kind(&points, "cortex-m4", "lut", NULL, &plain, &error));
    assert_error(&error, "no layer of kind 'lut' in the grid");
    const nsk_work none = {.calls = 1};
    const int before = points.count;
    CU_ASSERT(cost_points_add(&points, "lut", &none, 0.0)); /* nothing was counted */
    CU_ASSERT_EQUAL(points.count, before);
    points.count = COST_MOST_POINTS;
    CU_ASSERT_FALSE(cost_points_add(&points, "lut", &none, 1.0));
}

/* The tested layer's work in a way of running it. */
static nsk_work work_of(const grid_shape *shape, grid_way way) {
    nsk_error error = {.text = ""};
    nsk_model model;
    nsk_model_file *file = grid_model(shape, way, &error);
    CU_ASSERT_PTR_NOT_NULL_FATAL(file);
    CU_ASSERT_EQUAL_FATAL(nsk_open(&model, file->bytes, file->size), NSK_STATUS_OK);
    const nsk_work work = nsk_layer_work(&model, GRID_TESTED_LAYER);
    nsk_model_file_free(file);
    return work;
}

/* By hand. */
static void work_is_counted(void) {
    /* 3 x 3 windows on 6 x 6 pixels: along an axis 2 of 18 taps are outside */
    const grid_shape conv = {NSK_KIND_CONV, 6, 4, 7, 3, 1};
    nsk_work w = work_of(&conv, GRID_PLAIN);
    CU_ASSERT_EQUAL(w.pads, (18 * 18 - 16 * 16) * 4);
    CU_ASSERT_EQUAL(w.macs, 16 * 16 * 4 * 7);
    CU_ASSERT_EQUAL(w.products, 36 * 36 * 7);
    CU_ASSERT_EQUAL(w.twice, 36 * 36); /* the seventh output is alone */
    CU_ASSERT_EQUAL(w.over, 0);
    const nsk_work pieces = work_of(&conv, GRID_OVER);
    CU_ASSERT(pieces.over > 0 && pieces.over <= 6);
    CU_ASSERT_EQUAL(pieces.calls, pieces.over);
    CU_ASSERT_EQUAL(pieces.macs, w.macs);
    /* a move: all elements, runs of its innermost loop, rows of runs */
    const grid_shape heads = {NSK_KIND_COPY, 6, 64, 64, 4, 1};
    w = work_of(&heads, GRID_PLAIN);
    CU_ASSERT_EQUAL(w.moved, 36 * 64);
    CU_ASSERT_EQUAL(w.outputs, 36 * 64);
    CU_ASSERT_EQUAL(w.macs, 64);
    CU_ASSERT_EQUAL(w.rows, 4);
    /* an average: rows of windows in each channel, or one run where it takes the whole picture */
    const grid_shape some = {NSK_KIND_AVERAGE_POOL, 6, 8, 8, 2, 2};
    const grid_shape whole = {NSK_KIND_AVERAGE_POOL, 6, 8, 8, 6, 1};
    CU_ASSERT_EQUAL(work_of(&some, GRID_PLAIN).runs, 3 * 3 * 2 * 8);
    CU_ASSERT_EQUAL(work_of(&whole, GRID_PLAIN).runs, 8);
}

/* Several models in one start of the emulator: each as if it were alone. */
static void models_run_one_behind_another(void) {
    static const grid_shape shapes[] = {{NSK_KIND_DEPTHWISE, 12, 16, 16, 3, 1},
                                        {NSK_KIND_CONV, 5, 4, 14, 1, 1},
                                        {NSK_KIND_DENSE, 3, 21, 19, 1, 1}};
    enum { COUNT = G_N_ELEMENTS(shapes) };
    const emulated_core *core = emulated_core_named("cortex-m4");
    const char *elf = NSK_BARE_METAL "/cortex-m4/replay.elf";
    static uint8_t frame[12 * 12 * 3];
    nsk_error error = {.text = ""};
    char *folder = scratch_new();
    emulated_job jobs[COUNT];
    emulated_run together[COUNT];
    nsk_model_file *files[COUNT];
    memset(frame, 77, sizeof frame);
    for (int i = 0; i < COUNT; i++) {
        files[i] = grid_model(&shapes[i], GRID_PLAIN, &error);
        CU_ASSERT_PTR_NOT_NULL_FATAL(files[i]);
        jobs[i] = (emulated_job){files[i], frame};
    }
    CU_ASSERT_EQUAL_FATAL(emulate_some(core, elf, jobs, COUNT, folder, NULL, together, &error),
                          COUNT);
    for (int i = 0; i < COUNT; i++) {
        emulated_run alone;
        CU_ASSERT_EQUAL(emulate_some(core, elf, &jobs[i], 1, folder, NULL, &alone, &error), 1);
        CU_ASSERT_EQUAL(together[i].layers, alone.layers);
        CU_ASSERT_EQUAL(together[i].scaled, alone.scaled);
        for (int k = 0; k < alone.layers; k++) {
            CU_ASSERT_EQUAL(together[i].sum[k], alone.sum[k]);
            CU_ASSERT_EQUAL(together[i].deep[k], alone.deep[k]);
            CU_ASSERT_DOUBLE_EQUAL(together[i].layer[k], alone.layer[k], 2.0); /* ticks */
        }
        emulated_run_clear(&alone);
        emulated_run_clear(&together[i]);
    }
    files[0]->bytes[40] ^= 1; /* none of a model that is broken */
    CU_ASSERT_EQUAL(emulate_some(core, elf, jobs, COUNT, folder, NULL, together, &error), 0);
    assert_error(&error, "a model that cannot be run, or is too large");
    for (int i = 0; i < COUNT; i++) {
        nsk_model_file_free(files[i]);
    }
    scratch_remove(folder);
}

CU_TestInfo cost_tests[] = {
    {"timings are the makers'", timings_are_the_makers},
    {"the plugin counts what the timer counts", the_plugin_counts_what_the_timer_counts},
    {"disassembly is understood", disassembly_is_understood},
    {"pipelines wait as they say", pipelines_wait_as_they_say},
    {"jumps wait", jumps_wait},
    {"loads wait for addresses", loads_wait_for_addresses},
    {"factors are found again", factors_are_found_again},
    {"work is counted", work_is_counted},
    {"models run one behind another", models_run_one_behind_another},
    {"counts of nothing are nothing", nothing_is_counted_of_nothing},
    CU_TEST_INFO_NULL,
};
