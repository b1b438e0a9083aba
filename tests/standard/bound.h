/* bound: how far an integer model may be from the float network, from its scales alone. */
#ifndef NSK_TESTS_STANDARD_BOUND_H
#define NSK_TESTS_STANDARD_BOUND_H

#include "float/forward.h"
#include "lowered/integer.h"

/* The most that each output of the lowered network can be off, when its input is off by half a
 * level: every layer passes on what its inputs are off by, times how steep it is, and adds its own
 * rounding of weights and output. `pass` holds the float values. */
double bound_of(const nsk_lowered *lowered, const nsk_scale *scales, const nsk_pass *pass,
                const nsk_graph *graph);

#endif
