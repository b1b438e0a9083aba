/* run/runner: one thread's means of running both models on a frame. */
#ifndef NSK_RUN_RUNNER_H
#define NSK_RUN_RUNNER_H

#include "float/forward.h"
#include "netsuke/quantise.h"

typedef struct nsk_runner {
    const nsk_network *network;
    const nsk_model *model;         /* or NULL */
    const nsk_elsewhere *elsewhere; /* where the model runs besides, or NULL */
    const nsk_images *images;       /* for the input and the labels */
    nsk_pass *pass;
    uint8_t *frame;
    int8_t *workspace;
    float *probabilities;
} nsk_runner;

/* One image: its frame stands in runner->frame. Called by many threads at once. */
typedef bool nsk_image_step(const nsk_runner *runner, int image, void *context, nsk_error *error);

/* Calls `step` for every image of the set, a runner a thread. `model` may be NULL, where no step
 * asks for it, and so may `progress`. */
bool nsk_run_images(const nsk_network *network, const nsk_model *model,
                    const nsk_elsewhere *elsewhere, const nsk_images *images, nsk_image_step *step,
                    void *context, nsk_progress progress, void *progress_context, nsk_error *error);

/* What the float network says of runner->frame, a number a class. */
const float *nsk_runner_float(const nsk_runner *runner);
/* The scores that the model gives runner->frame: here, or elsewhere. They are valid until the next
 * call; NULL where it could not be run there. */
const int32_t *nsk_runner_integers(const nsk_runner *runner, nsk_error *error);
/* The class of the largest; the first of equals. */
int nsk_best_share(const float *probabilities, int classes);

#endif
