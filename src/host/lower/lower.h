/* lower/lower: the folded float graph as layers of the device. */
#ifndef NSK_LOWER_LOWER_H
#define NSK_LOWER_LOWER_H

#include "lowered/lowered.h"

/* Operator by operator. One without integer form is an error that names the node and says what to
 * change. */
nsk_lowered *nsk_lower(const nsk_graph *graph, nsk_error *error);

/* Gives every layer the scratch that the device needs for it as it is now. Part of nsk_lower;
 * again, where layers have changed since. */
bool nsk_lowered_fit_scratch(nsk_lowered *lowered, nsk_error *error);

#endif
