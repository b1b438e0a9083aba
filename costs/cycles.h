/* cycles: from counts of executed instructions, by address (trace.c), to cycles by the core's
 * published timings (timings.h). */
#ifndef NSK_COSTS_CYCLES_H
#define NSK_COSTS_CYCLES_H

#include "base/base.h"
#include "timings.h"

typedef struct cycle_mix {
    double instructions, cycles, taken_branches;
    double fast, slow; /* cycles by the two ends of the core's pipeline model; 0 without one */
} cycle_mix;

/* What the image's instructions take and which source file each comes from. */
typedef struct cycle_image cycle_image;

/* Reads the image with the core's binutils. */
cycle_image *cycle_image_read(const char *elf, const core_timings *timings, nsk_error *error);
void cycle_image_free(cycle_image *image);

/* What to give the emulator for the plugin trace.c, which is to write to `counts`. `steps`: a file
 * that is written for it where the core has a pipeline model. NULL where that fails. */
char *cycle_image_plugin(const cycle_image *image, const char *trace, const char *counts,
                         const char *steps, nsk_error *error);

/* Adds what trace.c wrote of the instructions that come from any of `sources`
 * ("conv product"). */
bool cycle_mix_add(const cycle_image *image, const char *counts, const char *sources,
                   cycle_mix *mix, nsk_error *error);

#endif
