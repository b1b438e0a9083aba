/* netsuke/stress.h: both models on changed pictures. */
#ifndef NETSUKE_STRESS_H
#define NETSUKE_STRESS_H

#include "netsuke/quantise.h"

#ifdef __cplusplus
extern "C" {
#endif

enum { NSK_STRENGTHS = 5 };

/* One change at one strength, on all images. */
typedef struct nsk_stress_count {
    int float_correct, integer_correct;
    int lost, won; /* right in float alone, in integers alone */
    double chance; /* McNemar's: that equally good models differ so unevenly */
} nsk_stress_count;

typedef struct nsk_stress_change {
    const char *name, *unit;
    double amount[NSK_STRENGTHS]; /* in that unit */
    nsk_stress_count count[NSK_STRENGTHS];
} nsk_stress_change;

typedef struct nsk_stress {
    int images, changes;
    nsk_stress_count unchanged;
    nsk_stress_change *change;
} nsk_stress;

/* Changes the pictures of a set, as the network gets them, in light, colour, sharpness, place, by
 * noise, JPEG and a patch, each at five strengths; and, where the set has five images or more of
 * class `resting` (NSK_NO_CLASS: none), for 'nothing there', puts those behind the others. What is
 * random about a change comes from the seed, the image and the change. `progress` may be NULL. */
enum { NSK_NO_CLASS = -1 };
nsk_stress *nsk_stress_measure(const nsk_network *network, const nsk_model_file *file,
                               const nsk_images *images, int resting, uint64_t seed,
                               nsk_progress progress, void *context, nsk_error *error);
void nsk_stress_free(nsk_stress *stress);

/* Whether the integer model is worse there than chance explains, though one looks at all of them:
 * Bonferroni's correction of 5 % over all changes and strengths. */
bool nsk_stress_breaks(const nsk_stress *stress, const nsk_stress_count *count);

/* Whether both models lose more than ten points there: a matter of training, not of quantising. */
bool nsk_stress_both_fail(const nsk_stress *stress, const nsk_stress_count *count);

/* Draws accuracy over strength, a panel a change, as a .png or .svg file. */
bool nsk_stress_draw(const nsk_stress *stress, const char *name, const char *path,
                     nsk_error *error);

#ifdef __cplusplus
}
#endif
#endif
