/* cycles: from a trace of executed instructions to cycles, by the core's published timings.
 *
 * Source: Arm DDI 0439, Cortex-M4 Technical Reference Manual, table 3-1: loads two cycles, one
 * behind another load; load and store multiple 1 + N; taken branches 1 + P, P taken as 2; division
 * 2 to 12, taken as 7; everything else, multiply-accumulate included, one. Memory without wait
 * states.
 */
#ifndef COST_CYCLES_H
#define COST_CYCLES_H

#include "base/base.h"

typedef struct cycle_mix {
    double instructions, cycles, taken_branches;
} cycle_mix;

/* What the image's instructions are and which source file each comes from. */
typedef struct cycle_image cycle_image;

/* Reads the image with the cross binutils (`prefix`objdump and `prefix`nm). */
cycle_image *cycle_image_read(const char *elf, const char *prefix, nsk_error *error);
void cycle_image_free(cycle_image *image);

/* Adds up the instructions of a QEMU log (-singlestep -d exec,nochain) that come from any of
 * `sources` ("conv.c|product.c"). */
bool cycle_mix_read(const cycle_image *image, const char *log, const char *sources, cycle_mix *mix,
                    nsk_error *error);

#endif
