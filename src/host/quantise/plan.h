/* quantise/plan: where each tensor stands in the workspace. */
#ifndef NSK_PLAN_H
#define NSK_PLAN_H

#include <stdint.h>

/* A buffer that is alive from step `first` to step `last`, both included. */
typedef struct nsk_buffer {
    uint32_t bytes;
    int first, last;
    uint32_t place; /* the answer: bytes from the workspace's start, a multiple of 4 */
} nsk_buffer;

/* Places the buffers so that no two that are alive at once overlap: largest first, each at the
 * lowest free place. Returns the bytes that all need. */
uint32_t nsk_plan_place(nsk_buffer *buffers, int count);

/* The most bytes alive at one step: no placement can need less. */
uint32_t nsk_plan_lower_bound(const nsk_buffer *buffers, int count);

#endif
