#include "emulator.h"

#include <glib/gstdio.h>
#include <math.h>
#include <stdio.h>
#include <stdlib.h>
#include <string.h>

/* With -icount shift=6 an instruction takes 64 ns of virtual time. SysTick runs at 25, 20 or 32 MHz
 * there; what RISC-V's counter of instructions gives is nanoseconds. */
const emulated_core emulated_cores[] = {
    {"cortex-m0", "qemu-system-arm", "mps2-an385", 40.0 / 64.0, NULL},
    {"cortex-m3", "qemu-system-arm", "mps2-an385", 40.0 / 64.0, NULL},
    {"cortex-m4", "qemu-system-arm", "mps2-an386", 40.0 / 64.0, NULL},
    {"cortex-m7", "qemu-system-arm", "mps2-an500", 40.0 / 64.0, NULL},
    {"cortex-m33", "qemu-system-arm", "mps2-an505", 50.0 / 64.0, NULL},
    {"cortex-m55", "qemu-system-arm", "mps3-an547", 31.25 / 64.0, NULL},
    {"rv32imac", "qemu-system-riscv32", "virt", 1.0 / 64.0, NULL},
    {"rv32imac-zve32x", "qemu-system-riscv32", "virt", 1.0 / 64.0,
     "rv32,v=true,vext_spec=v1.0,vlen=128"},
    {"aarch64", "qemu-aarch64", NULL, 0.0, NULL},
    {"powerpc", "qemu-ppc", NULL, 0.0, NULL},
    {"i686", "qemu-i386", NULL, 0.0, NULL},
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

/* Ticks are printed as an int32 and counted as a uint32. */
static double instructions_of(const emulated_core *core, char **rest) {
    return core->instructions_per_tick * (uint32_t)strtol(*rest, rest, 10);
}

static void read_layer(const emulated_core *core, char *rest, emulated_run *run) {
    long layer = strtol(rest, &rest, 10);
    if (layer >= 0 && layer < (long)G_N_ELEMENTS(run->layer)) {
        run->layer[layer] = instructions_of(core, &rest);
        run->sum[layer] = (uint32_t)strtol(rest, &rest, 10);
        run->deep[layer] = strtod(rest, NULL);
        run->stack = fmax(run->stack, run->deep[layer]);
        run->layers = (int)layer + 1;
    }
}

static void read_prepare(const emulated_core *core, char *rest, emulated_run *run) {
    run->prepare = instructions_of(core, &rest);
    run->prepare_deep = strtod(rest, NULL);
    run->stack = fmax(run->stack, run->prepare_deep);
}

static void read_around(const emulated_core *core, char *rest, emulated_around *to) {
    to->width = (int)strtol(rest, &rest, 10);
    to->height = (int)strtol(rest, &rest, 10);
    to->instructions = instructions_of(core, &rest);
}

static void read_scale(const emulated_core *core, char *rest, emulated_run *run) {
    if (run->scaled < (int)G_N_ELEMENTS(run->scale)) {
        run->scale[run->scaled].way = (int)strtol(rest, &rest, 10);
        read_around(core, rest, &run->scale[run->scaled++]);
    }
}

static void read_frame_check(const emulated_core *core, char *rest, emulated_run *run) {
    if (run->looked < (int)G_N_ELEMENTS(run->frame_check)) {
        read_around(core, rest, &run->frame_check[run->looked++]);
    }
}

static void read_check(const emulated_core *core, char *rest, emulated_run *run) {
    run->check = instructions_of(core, &rest);
}

static void read_scores(const emulated_core *core, char *rest, emulated_run *run) {
    (void)core;
    strtol(rest, &rest, 10); /* the frame's index */
    for (char *end;; rest = end) {
        int score = (int)strtol(rest, &end, 10);
        if (end == rest) {
            break;
        }
        g_array_append_val(run->scores, score);
    }
}

static void read_line(const emulated_core *core, const char *line, emulated_run *run) {
    static const struct {
        const char *word;
        void (*read)(const emulated_core *core, char *rest, emulated_run *run);
    } words[] = {{"layer", read_layer}, {"prepare", read_prepare},
                 {"scale", read_scale}, {"frame-check", read_frame_check},
                 {"check", read_check}, {"scores", read_scores}};
    char word[16];
    int used = 0;
    if (sscanf(line, "%15s%n", word, &used) != 1) {
        return;
    }
    for (size_t i = 0; i < G_N_ELEMENTS(words); i++) {
        if (strcmp(words[i].word, word) == 0) {
            words[i].read(core, (char *)line + used, run);
        }
    }
}

/* The lines of some models' runs; whether each printed a layer. */
static bool read_runs(const emulated_core *core, const char *text, emulated_run *runs, int count) {
    char **lines = g_strsplit(text, "\n", -1);
    int now = 0;
    for (char **line = lines; *line != NULL; line++) {
        if (g_str_has_prefix(*line, "model ")) {
            now = (int)strtol(*line + strlen("model "), NULL, 10);
        }
        if (now >= 0 && now < count) {
            read_line(core, *line, &runs[now]);
        }
    }
    g_strfreev(lines);
    bool good = true;
    for (int i = 0; i < count; i++) {
        good = good && runs[i].layers > 0;
    }
    return good;
}

/* The command that starts the image; free the array, not the texts. */
static GPtrArray *command_of(const emulated_core *core, const char *elf, const char *model,
                             const char *frames, const char *semihosting, const char *trace) {
    const char *const board[] = {"-M",
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
    const char *const start[] = {"timeout", "600", core->emulator};
    const char *const program[] = {elf, model, frames};
    GPtrArray *command = g_ptr_array_new();
    const bool bare = core->machine != NULL;
    for (size_t i = 0; i < G_N_ELEMENTS(start); i++) {
        g_ptr_array_add(command, (char *)start[i]);
    }
    for (size_t i = 0; i < G_N_ELEMENTS(board) && bare; i++) {
        g_ptr_array_add(command, (char *)board[i]);
    }
    const char *const chosen[][2] = {{"-cpu", core->processor}, {"-plugin", bare ? trace : NULL}};
    for (size_t i = 0; i < G_N_ELEMENTS(chosen); i++) {
        for (int k = 0; k < 2 && chosen[i][1] != NULL; k++) {
            g_ptr_array_add(command, (char *)chosen[i][k]);
        }
    }
    for (size_t i = 0; i < G_N_ELEMENTS(program) && !bare; i++) {
        g_ptr_array_add(command, (char *)program[i]);
    }
    g_ptr_array_add(command, NULL);
    return command;
}

static bool run_image(const emulated_core *core, const char *elf, const char *model,
                      const char *frames, const char *trace, emulated_run *runs, int count,
                      nsk_error *error) {
    char *semihosting =
        g_strdup_printf("enable=on,target=native,arg=replay,arg=%s,arg=%s", model, frames);
    GPtrArray *command = command_of(core, elf, model, frames, semihosting, trace);
    char *out = NULL;
    char *err = NULL;
    int status = 0;
    GError *reason = NULL;
    for (int i = 0; i < count; i++) {
        runs[i] = (emulated_run){.scores = g_array_new(FALSE, FALSE, sizeof(int))};
    }
    bool good = g_spawn_sync(NULL, (char **)command->pdata, NULL, G_SPAWN_SEARCH_PATH, NULL, NULL,
                             &out, &err, &status, &reason);
    if (!good) {
        nsk_fail(error, "%s cannot be started: %s", core->emulator, reason->message);
        g_error_free(reason);
    } else if (status != 0) {
        good = nsk_fail(error, "the emulated image failed: %s%s", err, out);
    } else {
        const bool on_error = err[0] != '\0' && strstr(out, "layer") == NULL;
        good = read_runs(core, on_error ? err : out, runs, count) ||
               nsk_fail(error, "the emulated image printed no layer: %s", out);
    }
    g_free(out);
    g_free(err);
    g_free(semihosting);
    g_ptr_array_free(command, TRUE);
    return good;
}

bool emulate(const emulated_core *core, const char *elf, const char *model, const char *frames,
             const char *trace, emulated_run *run, nsk_error *error) {
    return run_image(core, elf, model, frames, trace, run, 1, error);
}

/* What replay.c has room for. */
enum { MOST_BYTES = 1 << 20, ALIGNED = 16 };

int emulate_some(const emulated_core *core, const char *elf, const emulated_job *jobs, int count,
                 const char *folder, const char *trace, emulated_run *runs, nsk_error *error) {
    static const uint8_t gap[ALIGNED];
    GByteArray *models = g_byte_array_new();
    GByteArray *frames = g_byte_array_new();
    int some = 0;
    for (; some < count; some++) {
        const nsk_model_file *file = jobs[some].file;
        nsk_model model;
        if (nsk_open(&model, file->bytes, file->size) != NSK_STATUS_OK) {
            break;
        }
        const guint frame = (guint)model.width * model.height * model.channels;
        if (models->len + file->size + ALIGNED > MOST_BYTES || frames->len + frame > MOST_BYTES) {
            break;
        }
        g_byte_array_append(models, gap, (ALIGNED - models->len % ALIGNED) % ALIGNED);
        g_byte_array_append(models, file->bytes, (guint)file->size);
        g_byte_array_append(frames, jobs[some].frame, frame);
    }
    char *models_path = g_build_filename(folder, "models.bin", NULL);
    char *frames_path = g_build_filename(folder, "frames.bin", NULL);
    const bool good =
        (some > 0 || nsk_fail(error, "a model that cannot be run, or is too large")) &&
        nsk_file_write(models_path, models->data, models->len, error) &&
        nsk_file_write(frames_path, frames->data, frames->len, error) &&
        run_image(core, elf, models_path, frames_path, trace, runs, some, error);
    g_byte_array_free(models, TRUE);
    g_byte_array_free(frames, TRUE);
    g_unlink(models_path);
    g_unlink(frames_path);
    g_free(models_path);
    g_free(frames_path);
    return good ? some : 0;
}

void emulated_run_clear(emulated_run *run) {
    if (run->scores != NULL) {
        g_array_free(run->scores, TRUE);
        run->scores = NULL;
    }
}
