/* compare/runner: one thread's means of running both models on a frame. */
#ifndef NSK_RUNNER_H
#define NSK_RUNNER_H

#include "float/forward.h"

typedef struct nsk_runner {
    const nsk_network *network;
    const nsk_model *model;
    const nsk_images *images; /* for the input and the labels */
    nsk_pass *pass;
    uint8_t *frame;
    int8_t *workspace;
    float *probabilities;
} nsk_runner;

/* False: `runner` is to be cleared all the same. */
bool nsk_runner_start(nsk_runner *runner, const nsk_network *network, const nsk_model *model,
                      const nsk_images *images, nsk_error *error);
void nsk_runner_clear(nsk_runner *runner);

/* What both say of runner->frame, whose label is given. */
void nsk_runner_answer(const nsk_runner *runner, int label, nsk_answer *answer);

#endif
