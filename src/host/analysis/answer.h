/* analysis/answer: what both models say of one image. */
#ifndef NSK_ANALYSIS_ANSWER_H
#define NSK_ANALYSIS_ANSWER_H

#include "netsuke/compare.h"
#include "run/runner.h"

/* What both say of runner->frame, whose label is given. */
void nsk_runner_answer(const nsk_runner *runner, int label, nsk_answer *answer);

#endif
