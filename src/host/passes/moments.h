/* passes/moments: how the inputs of each layer with weights vary together, in the float network on
 * calibration images. */
#ifndef NSK_PASSES_MOMENTS_H
#define NSK_PASSES_MOMENTS_H

#include "lowered/lowered.h"
#include "netsuke/brief.h"
#include "netsuke/images.h"
#include "passes/windows.h"

/* Of one layer: sums of x and of x x' over windows. A depthwise layer has a group a channel. */
typedef struct nsk_layer_moments {
    nsk_windows windows;
    double count;    /* windows of all images */
    double *sum;     /* [group][tap] */
    double *product; /* [group][tap][tap], the upper half */
} nsk_layer_moments;

typedef struct nsk_moments {
    int images, layers;       /* images that were looked at */
    nsk_layer_moments *layer; /* one a layer; windows.groups is 0 where it is not looked at */
} nsk_moments;

/* Looks at `count` images, as nsk_spread_image spreads them. The recipe is asked for its progress
 * alone.
 */
nsk_moments *nsk_moments_observe(const nsk_graph *graph, const nsk_lowered *lowered,
                                 const nsk_images *images, int count, const nsk_recipe *recipe,
                                 nsk_error *error);
void nsk_moments_free(nsk_moments *moments);

#endif
