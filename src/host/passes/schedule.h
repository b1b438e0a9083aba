/* passes/schedule: which layers run while the frame comes in, how many rows each tensor holds,
 * and where it stands. */
#ifndef NSK_PASSES_SCHEDULE_H
#define NSK_PASSES_SCHEDULE_H

#include "lowered/lowered.h"
#include "passes/plan.h"

typedef struct nsk_schedule {
    int streamed, band;  /* layers from the first; rows of the frame that make a step of them */
    int *rows;           /* one a tensor: rows held at a time */
    nsk_buffer *buffers; /* one a tensor; 0 bytes where it stands in another */
    uint32_t *places;    /* one a tensor */
    uint32_t workspace, lower_bound;
} nsk_schedule;

/* `streamed` as the recipe says; of the schedules within its RAM the one with the fewest pieces of
 * work, else the one that needs the least. */
nsk_schedule *nsk_schedule_make(const nsk_lowered *lowered, const nsk_recipe *recipe);
/* The schedule with the first `streamed` layers streamed, `band` rows a step, nothing placed yet;
 * NULL where those cannot be. */
nsk_schedule *nsk_schedule_of(const nsk_lowered *lowered, int streamed, int band);
void nsk_schedule_place(const nsk_lowered *lowered, nsk_schedule *schedule);
void nsk_schedule_free(nsk_schedule *schedule);

#endif
