/* pare/worth: what the loss would lose with each channel. */
#ifndef NSK_PARE_WORTH_H
#define NSK_PARE_WORTH_H

#include "channels/channels.h"
#include "pipeline/pipeline.h"
#include "refine/lesson.h"

/* The mean over images of the square of what taking a channel's numbers away would change the loss
 * by, to the first order: by what each number is times its gradient (P. Molchanov and others, arXiv
 * 1611.06440, 2016; the square of an image's sum: L. Theis and others, arXiv 1801.05787, 2018).
 * `channels` are those of the pipeline's graph. One number a channel, g_free; NULL and an error
 * where the network cannot be gone through backwards. */
double *nsk_worth_of(const nsk_pipeline *pipeline, const nsk_channels *channels,
                     const nsk_lesson *lesson, nsk_error *error);

#endif
