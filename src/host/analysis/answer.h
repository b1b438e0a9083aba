/* analysis/answer: what both models say of one image, and whether that is right. */
#ifndef NSK_ANALYSIS_ANSWER_H
#define NSK_ANALYSIS_ANSWER_H

#include "netsuke/compare.h"
#include "run/runner.h"

/* What both say of runner->frame, which is an image of runner->images. Where images may have
 * several labels, `each`, if not NULL, gets the image's row, and classes stay -1: sets of labels
 * get their numbers when all are known. */
void nsk_runner_answer(const nsk_runner *runner, int image, nsk_label_answers *each,
                       nsk_answer *answer);

/* Whether probabilities say what the image is, and whether two say the same. */
bool nsk_is_right(const nsk_images *images, int image, const float *probabilities);
bool nsk_say_the_same(const nsk_labels *labels, const float *a, const float *b);

#endif
