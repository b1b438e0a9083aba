/* passes/plan: where each tensor stands in the workspace. */
#ifndef NSK_PASSES_PLAN_H
#define NSK_PASSES_PLAN_H

#include <stdint.h>

/* A buffer that is alive from step `first` to step `last`, both included.
 *
 * A layer that goes through its rows in order may write them over input rows that it needs no more:
 * its output's buffer may begin `lead` bytes or more before that of its input, `over`, which dies
 * in the step in which the output is born. */
typedef struct nsk_buffer {
    uint32_t bytes;
    int first, last;
    uint32_t place; /* the answer: bytes from the workspace's start, a multiple of 4 */
    const struct nsk_buffer *over; /* or NULL */
    uint32_t lead;
} nsk_buffer;

/* Places the buffers so that no two that are alive at once overlap but as said above. Each goes to
 * the lowest free place, in an order; several orders are tried, then a search moves what stands
 * highest further to the front, until the lower bound is met or some thousands of orders have been
 * tried. The same buffers always get the same places. Returns the bytes that all need. */
uint32_t nsk_plan_place(nsk_buffer *buffers, int count);

/* The most bytes alive at one step: no placement can need less. */
uint32_t nsk_plan_lower_bound(const nsk_buffer *buffers, int count);

#endif
