/* analysis/answer: what both models say of one image, and whether that is right. */
#ifndef NSK_ANALYSIS_ANSWER_H
#define NSK_ANALYSIS_ANSWER_H

#include "netsuke/compare.h"
#include "run/runner.h"

/* What both say of runner->frame, which is an image of runner->images. Where images may have
 * several labels, `each`, if not NULL, gets the image's row, and classes stay -1: sets of labels
 * get their numbers when all are known. False where the model could not be run. */
bool nsk_runner_answer(const nsk_runner *runner, int image, nsk_label_answers *each,
                       nsk_answer *answer, nsk_error *error);

#endif
