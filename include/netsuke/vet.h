/* netsuke/vet.h: is the float network fed as it was in training?. */
#ifndef NETSUKE_VET_H
#define NETSUKE_VET_H

#include "netsuke/images.h"
#include "netsuke/network.h"

#ifdef __cplusplus
extern "C" {
#endif

/* Another preparation than the brief's. */
typedef struct nsk_alternative {
    char *change; /* what to write in the brief, as in "colour = bgr" */
    nsk_input input;
    bool mirrored; /* rows for columns: pictures turned over their diagonal */
    int correct;
    int lost, won; /* right as the brief has it only; right in this way only */
    double gain;   /* how much likelier the true label is than as the brief has it: mean difference
                    * of the logarithms of its probability, none counted below e^-10 */
    double certainty; /* that mean over its standard error */
} nsk_alternative;

typedef struct nsk_vetting {
    int images, classes;
    int correct; /* as the brief has it */
    int count;
    nsk_alternative *alternatives; /* the best first */
    int better; /* 0 where the first is clearly better: right on one point more or more, and the
                 * true label likelier with a certainty of 4 standard errors, which chance gives
                 * less than once in a thousand times for all that are tried; or -1 */
    /* [label][answer], in that way or else as the brief has it; nothing where pictures may have
     * several labels at once: right is then what is right in all of them, and no renaming is tried
     */
    int *confusion;
    /* The one-to-one renaming of the outputs under which some way is right most often, where it is
     * clearly better: 3 points or more, and each label that moves is then right on more than half
     * of its images. Output k should be called labels[order[k]]. The alternatives are judged with
     * it. */
    bool renamed;
    int *order;
    int order_correct; /* as the brief has it but for the labels */
} nsk_vetting;

/* Runs the float network on all images of the set in the ways that it may have been trained in:
 * either colour order, the usual ranges, with and without mean and deviation, each fit, rows for
 * columns. */
nsk_vetting *nsk_vet(const nsk_network *network, const nsk_images *images, nsk_progress progress,
                     void *context, nsk_error *error);
void nsk_vetting_free(nsk_vetting *vetting);

#ifdef __cplusplus
}
#endif
#endif
