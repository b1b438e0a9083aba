/* passes/join: concatenations without a copy. */
#ifndef NSK_PASSES_JOIN_H
#define NSK_PASSES_JOIN_H

#include "lowered/lowered.h"

/* Layers write their part of a concatenation where it belongs, so that nothing needs to be copied,
 * where that takes no more RAM: all parts of one at once, else each that can be alone. */
void nsk_join_concatenations(nsk_lowered *lowered, const nsk_graph *graph);

#endif
