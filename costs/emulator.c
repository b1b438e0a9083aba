#include "emulator.h"

#include <stdio.h>
#include <stdlib.h>
#include <string.h>

/* With -icount shift=6 an instruction takes 64 ns of virtual time. SysTick runs at 25, 20 or 32 MHz
 * there; what RISC-V's counter of instructions gives is nanoseconds. */
const emulated_core emulated_cores[] = {
    {"cortex-m0", "qemu-system-arm", "mps2-an385", 40.0 / 64.0},
    {"cortex-m3", "qemu-system-arm", "mps2-an385", 40.0 / 64.0},
    {"cortex-m4", "qemu-system-arm", "mps2-an386", 40.0 / 64.0},
    {"cortex-m7", "qemu-system-arm", "mps2-an500", 40.0 / 64.0},
    {"cortex-m33", "qemu-system-arm", "mps2-an505", 50.0 / 64.0},
    {"cortex-m55", "qemu-system-arm", "mps3-an547", 31.25 / 64.0},
    {"rv32imac", "qemu-system-riscv32", "virt", 1.0 / 64.0},
    {"aarch64", "qemu-aarch64", NULL, 0.0},
    {"powerpc", "qemu-ppc", NULL, 0.0},
    {"i686", "qemu-i386", NULL, 0.0},
};
const int emulated_core_count = G_N_ELEMENTS(emulated_cores);

const emulated_core *emulated_core_named(const char *name) {
    for (int i = 0; i < emulated_core_count; i++) {
        if (strcmp(emulated_cores[i].name, name) == 0) {
            return &emulated_cores[i];
        }
    }
    return NULL;
}

static void read_line(const emulated_core *core, const char *line, emulated_run *run) {
    char word[16];
    int used = 0;
    if (sscanf(line, "%15s%n", word, &used) != 1) {
        return;
    }
    char *rest = (char *)line + used;
    if (strcmp(word, "layer") == 0) {
        long layer = strtol(rest, &rest, 10);
        if (layer >= 0 && layer < (long)G_N_ELEMENTS(run->layer)) {
            run->layer[layer] = core->instructions_per_tick * strtod(rest, &rest);
            run->sum[layer] = (uint32_t)strtol(rest, NULL, 10);
            run->layers = (int)layer + 1;
        }
    } else if (strcmp(word, "prepare") == 0) {
        run->prepare = core->instructions_per_tick * strtod(rest, NULL);
    } else if (strcmp(word, "stack") == 0) {
        run->stack = strtod(rest, NULL);
    } else if (strcmp(word, "scores") == 0) {
        strtol(rest, &rest, 10); /* the frame's index */
        for (char *end;; rest = end) {
            int score = (int)strtol(rest, &end, 10);
            if (end == rest) {
                break;
            }
            g_array_append_val(run->scores, score);
        }
    }
}

bool emulate(const emulated_core *core, const char *elf, const char *model, const char *frames,
             const char *trace, emulated_run *run, nsk_error *error) {
    char *semihosting =
        g_strdup_printf("enable=on,target=native,arg=replay,arg=%s,arg=%s", model, frames);
    const char *arguments[26] = {"timeout",
                                 "120",
                                 core->emulator,
                                 "-M",
                                 core->machine,
                                 "-bios",
                                 "none",
                                 "-icount",
                                 "shift=6",
                                 "-display",
                                 "none",
                                 "-monitor",
                                 "none",
                                 "-serial",
                                 "none",
                                 "-semihosting-config",
                                 semihosting,
                                 "-kernel",
                                 elf};
    const char *program[] = {"timeout", "120", core->emulator, elf, model, frames, NULL};
    if (core->machine == NULL) {
        memcpy(arguments, program, sizeof program);
    } else if (trace != NULL) {
        arguments[19] = "-plugin";
        arguments[20] = trace;
    }
    char *out = NULL;
    char *err = NULL;
    int status = 0;
    GError *reason = NULL;
    memset(run, 0, sizeof *run);
    run->scores = g_array_new(FALSE, FALSE, sizeof(int));
    bool good = g_spawn_sync(NULL, (char **)arguments, NULL, G_SPAWN_SEARCH_PATH, NULL, NULL, &out,
                             &err, &status, &reason);
    if (!good) {
        nsk_fail(error, "%s cannot be started: %s", core->emulator, reason->message);
        g_error_free(reason);
    } else if (status != 0) {
        good = nsk_fail(error, "the emulated image failed: %s%s", err, out);
    } else {
        char **lines =
            g_strsplit(err[0] != '\0' && strstr(out, "layer") == NULL ? err : out, "\n", -1);
        for (char **line = lines; *line != NULL; line++) {
            read_line(core, *line, run);
        }
        g_strfreev(lines);
        good = run->layers > 0 || nsk_fail(error, "the emulated image printed no layer: %s", out);
    }
    g_free(out);
    g_free(err);
    g_free(semihosting);
    return good;
}

void emulated_run_clear(emulated_run *run) {
    if (run->scores != NULL) {
        g_array_free(run->scores, TRUE);
        run->scores = NULL;
    }
}
