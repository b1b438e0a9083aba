/* netsuke/drift.h: where accuracy goes, layer by layer. */
#ifndef NETSUKE_DRIFT_H
#define NETSUKE_DRIFT_H

#include "netsuke/quantise.h"

#ifdef __cplusplus
extern "C" {
#endif

/* The output of one layer of the integer model beside the same numbers of the float network: both
 * as a function of one number takes them where that alone reads them, for what it makes no
 * difference of is no error. */
typedef struct nsk_drift_layer {
    char *name;
    bool measured;   /* false where it holds its numbers in an order of its own */
    double sqnr_db;  /* signal over error: what all layers up to this one have done */
    double alone_db; /* the same where its inputs are the float network's; NAN where unknown */
    double at_low, at_high; /* shares of outputs at the ends of their levels */
    int levels;             /* the fewest of the 256 that hold nine tenths of its outputs */
    int worst_channel;
    double worst_channel_db;
    int channels;
    double *channel_db; /* the same so far, channel by channel; NAN where there is no signal */
} nsk_drift_layer;

typedef struct nsk_drift {
    int images, layers;
    nsk_drift_layer *layer;
} nsk_drift;

/* Runs both over a set and looks at every layer. The model must have been made from this network,
 * as nsk_network_equalised gives it where its recipe says so, and not be streamed. `progress` may
 * be NULL. */
nsk_drift *nsk_drift_measure(const nsk_network *network, const nsk_model_file *model,
                             const nsk_images *images, nsk_progress progress, void *context,
                             nsk_error *error);
void nsk_drift_free(nsk_drift *drift);

/* Answers of the integer model imitated in float, and how far its probabilities are apart from the
 * float network's: half the sum of their distances, added up over all images. */
typedef struct nsk_regained {
    char *name; /* of the layer that alone is float; NULL for all or none */
    int right, agree;
    long long apart; /* in parts of NSK_REGAIN_APART */
    long long odds;  /* squares of nsk_answer's, added up, in the same parts */
} nsk_regained;
#define NSK_REGAIN_APART 1e6

typedef struct nsk_regain {
    int images, layers;
    nsk_regained exact, rounded; /* the float network; everything rounded */
    nsk_regained *layer;         /* the one that would bring back most comes first */
} nsk_regain;

/* What would come back if one layer alone were float, its weights and its output: measured layer by
 * layer. Quantises as nsk_quantise does, first. `progress` may be NULL. */
nsk_regain *nsk_regain_measure(const nsk_network *network, const nsk_images *calibration,
                               const nsk_recipe *recipe, const nsk_images *images,
                               nsk_progress progress, void *context, nsk_error *error);
void nsk_regain_free(nsk_regain *regain);
/* By how many percent less the probabilities differ then from the float network's. */
double nsk_regain_closer(const nsk_regain *regain, const nsk_regained *layer);
/* By how many percent the mean square of what the log-odds change by is less then. What layers
 * add to it by their rounding adds up. */
double nsk_regain_quieter(const nsk_regain *regain, const nsk_regained *layer);
/* A change of the brief that was tried, and helped. */
typedef struct nsk_advice {
    char *change;    /* "conv9 = extremes, under [ranges]" */
    char *reason;    /* why it was tried */
    int agree[2];    /* images answered as by the float network, before and with it */
    double apart[2]; /* nsk_comparison's, before and with it */
} nsk_advice;

typedef struct nsk_advices {
    int images, tried, count;
    int agree;          /* as the brief has it */
    nsk_advice *advice; /* what helps most comes first */
} nsk_advices;

/* Tries what the drift of the layers suggests, each by itself, and keeps what measurably helps: no
 * fewer images answered as by the float network, and more of them, or probabilities that are nearer
 * to its by a twentieth. Layers that bring back most, where `regain` is not NULL, are tried with 16
 * bits, too. `file` is what network, calibration and recipe give. */
nsk_advices *nsk_advise(const nsk_network *network, const nsk_images *calibration,
                        const nsk_recipe *recipe, const nsk_model_file *file,
                        const nsk_drift *drift, const nsk_regain *regain, const nsk_images *images,
                        nsk_progress progress, void *context, nsk_error *error);
void nsk_advices_free(nsk_advices *advices);

/* Draws error by layer, so far and alone, and what each layer would bring back where `regain` is
 * not NULL, as a .png or .svg file. */
bool nsk_drift_draw(const nsk_drift *drift, const nsk_regain *regain, const char *name,
                    const char *path, nsk_error *error);

#ifdef __cplusplus
}
#endif
#endif
