/* emulator: runs replay.elf in QEMU on a model file and reads what it prints. */
#ifndef COST_EMULATOR_H
#define COST_EMULATOR_H

#include "base/base.h"

typedef struct emulated_run {
    int layers;
    double layer[256]; /* instructions of the first frame */
    double prepare;    /* instructions */
    double stack;      /* bytes */
    GArray *scores;    /* of int: all frames' scores, one behind the other */
} emulated_run;

/* `trace`: a file for QEMU's log of every instruction executed, or NULL. Needs qemu-system-arm. */
bool emulate(const char *elf, const char *model, const char *frames, const char *trace,
             emulated_run *run, nsk_error *error);
void emulated_run_clear(emulated_run *run);

#endif
