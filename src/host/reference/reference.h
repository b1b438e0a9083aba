/* reference/reference: what a model file computes, by the formulas of docs/arithmetic.md as they
 * stand there: a number at a time, too wide to overflow, each tensor in memory of its own. None of
 * the device's kernels, plans and streams has a part in it, so that it can tell when they are
 * wrong. */
#ifndef NSK_REFERENCE_REFERENCE_H
#define NSK_REFERENCE_REFERENCE_H

#include "netsuke/device.h"

/* The scores, model->classes of them, of a frame: model->height rows of model->width pixels. The
 * model was opened by nsk_open. For checks: it is far slower than nsk_run. */
void nsk_reference_scores(const nsk_model *model, const uint8_t *frame, int32_t *scores);

#endif
