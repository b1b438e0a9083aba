/* quantised: the network of a brief as the benchmarks take it. */
#ifndef NSK_BENCH_QUANTISED_H
#define NSK_BENCH_QUANTISED_H

#include "emulator.h"
#include "netsuke/quantise.h"

/* Quantises a brief's network on its calibration images. nsk_model_file_free. */
nsk_model_file *bench_quantise(const char *brief, nsk_error *error);

/* Writes a model, and a frame of its size, for the emulated boards. */
bool bench_write(const nsk_model_file *file, nsk_model *model, const char *model_path,
                 const char *frame_path, nsk_error *error);

/* Whether a core is among some names that end with NULL; all are where there is none. */
bool bench_is_asked(char *const *names, const emulated_core *core);

#endif
