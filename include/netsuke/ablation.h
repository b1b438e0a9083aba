/* netsuke/ablation.h: what each stage of quantising gained. */
#ifndef NETSUKE_ABLATION_H
#define NETSUKE_ABLATION_H

#include "netsuke/quantise.h"

#ifdef __cplusplus
extern "C" {
#endif

/* The model with the stages up to one, fitted to some images and judged on others. */
typedef struct nsk_stage_gain {
    const char *name; /* "rounding fitted" */
    double output_db; /* signal over error of the scores: the float network's beside the model's */
    int agree;        /* images on which both give the same answer */
} nsk_stage_gain;

enum { NSK_STAGES = 5 };
typedef struct nsk_ablation {
    int fitted, judged; /* images */
    int count;          /* stages that the recipe asks for, ranges alone being the first */
    nsk_stage_gain stage[NSK_STAGES];
} nsk_ablation;

/* Switches the recipe's stages on one after the other, in the order in which they run. Both sets
 * are the calibration images, opened alike; every fifth image of a class is kept to judge, and the
 * others to fit to. False where a class has fewer than five. */
bool nsk_ablate(const nsk_network *network, const nsk_recipe *recipe, nsk_images *fitted,
                nsk_images *judging, nsk_ablation *ablation, nsk_error *error);

#ifdef __cplusplus
}
#endif
#endif
