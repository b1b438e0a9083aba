/* emulator: runs replay.elf in QEMU on a model file and reads what it prints. */
#ifndef NSK_COSTS_EMULATOR_H
#define NSK_COSTS_EMULATOR_H

#include "base/base.h"
#include "netsuke/quantise.h"

/* Work on a picture of the camera. */
typedef struct emulated_around {
    int way; /* nsk_resample, of scaling */
    int width, height;
    double instructions;
} emulated_around;

typedef struct emulated_run {
    int layers;
    double layer[256];          /* instructions of the first frame */
    uint32_t sum[256];          /* CRC-32 of each layer's output on it */
    double deep[256];           /* bytes of stack */
    double prepare;             /* instructions */
    double prepare_deep, stack; /* bytes; the latter at the deepest of all */
    double check;               /* instructions that looking at the model takes */
    int scaled, looked;
    emulated_around scale[12], frame_check[3]; /* three sizes; scaling in four ways */
    GArray *scores; /* of int: all frames' scores, one behind the other */
} emulated_run;

/* A core that QEMU emulates, and what its board's timer counts. */
typedef struct emulated_core {
    const char *name;
    const char *emulator;
    const char *machine;          /* NULL: a program of Linux, which counts nothing */
    double instructions_per_tick; /* at 64 ns an instruction */
    const char *processor;        /* where it is not the machine's usual one, or NULL */
} emulated_core;
extern const emulated_core emulated_cores[];
extern const int emulated_core_count;
const emulated_core *emulated_core_named(const char *name);

/* `trace`: a plugin and its arguments ("trace.so,out=FILE"), or NULL. */
bool emulate(const emulated_core *core, const char *elf, const char *model, const char *frames,
             const char *trace, emulated_run *run, nsk_error *error);
/* A model and a frame of it. */
typedef struct emulated_job {
    const nsk_model_file *file;
    const uint8_t *frame;
} emulated_job;

/* Runs the first of some jobs, as many as the image has room for, in one start of the emulator,
 * which takes longer than most of them. Returns how many, to `runs`, or 0: where one fails, all do.
 * `folder` is for its files. */
int emulate_some(const emulated_core *core, const char *elf, const emulated_job *jobs, int count,
                 const char *folder, const char *trace, emulated_run *runs, nsk_error *error);
void emulated_run_clear(emulated_run *run);

#endif
