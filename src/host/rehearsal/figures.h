/* rehearsal/figures: what a rehearsal comes to: events by the film's truth, and lines beside them.
 */
#ifndef NSK_REHEARSAL_FIGURES_H
#define NSK_REHEARSAL_FIGURES_H

#include "netsuke/rehearse.h"

/* Finds the events of the film and fills the rehearsal's figures by its own decisions. */
void nsk_judge(nsk_rehearsal *rehearsal, const nsk_stage *stage);

/* The line that a class moves: itself or its group's; -1: none, or the resting one's. */
int nsk_line_of_class(const nsk_decision *decision, const nsk_model *model, int class_index);

#endif
