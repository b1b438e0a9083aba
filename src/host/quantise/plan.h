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

/* Places the buffers so that no two that are alive at once overlap. Each goes to the lowest free
 * place, in an order; several orders are tried, then a search moves what stands highest further to
 * the front, until the lower bound is met or some thousands of orders have been tried. The same
 * buffers always get the same places. Returns the bytes that all need. */
uint32_t nsk_plan_place(nsk_buffer *buffers, int count);

/* The most bytes alive at one step: no placement can need less. */
uint32_t nsk_plan_lower_bound(const nsk_buffer *buffers, int count);

#endif
