/* refine/refine: fine-tuning with the integer network in the loop. */
#ifndef NSK_REFINE_REFINE_H
#define NSK_REFINE_REFINE_H

#include "modelfile/build.h"
#include "refine/lesson.h"

/* What of a network refining needs besides its layers. */
typedef struct nsk_refine_subject {
    const nsk_network *network; /* that it learns from, where no other teacher is named */
    nsk_lowered *lowered;       /* made from it, or from a copy with its channels equalised out */
    const nsk_graph *graph;     /* that it was made from */
    const nsk_scale *scales;
    const bool *still; /* of each layer: nothing is learned of it; NULL: of none */
} nsk_refine_subject;

/* The layers as they are now as a model with no facts, for images of that set's form, open. Where
 * the model has been open before, of the same layers, its checks are not made again. NULL where it
 * cannot be; nsk_model_file_free. */
nsk_model_file *nsk_refine_model(const nsk_refine_subject *subject, const nsk_images *images,
                                 const nsk_schedule *schedule, nsk_model *model, nsk_error *error);

/* Changes the levels of the weights, and the biases, so that the integer network answers the
 * training images better: see nsk_refine_settings in netsuke/brief.h. Scales stay as they are. */
bool nsk_refine(const nsk_refine_subject *refining, const nsk_refine_settings *how,
                nsk_error *error);
/* The same on a lesson that is read already, whatever was trusted there. The layers' float weights
 * become what was learned, too, before it was rounded to levels. */
bool nsk_refine_on(const nsk_refine_subject *refining, const nsk_lesson *lesson,
                   const nsk_refine_settings *how, nsk_error *error);

#endif
