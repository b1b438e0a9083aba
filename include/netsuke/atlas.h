/* netsuke/atlas.h: the images on a plane, by what the layer before the last says of them. */
#ifndef NETSUKE_ATLAS_H
#define NETSUKE_ATLAS_H

#include "netsuke/quantise.h"

#ifdef __cplusplus
extern "C" {
#endif

enum { NSK_NEIGHBOURS = 10 };

typedef struct nsk_atlas_side {
    double x, y;         /* on the plane */
    int answer;          /* class */
    int of_its_own;      /* of its nearest neighbours, how many have its label */
    int other, of_other; /* the label that most of the rest have, and how many */
    int nearest[NSK_NEIGHBOURS], neighbours; /* those images, the nearest first */
} nsk_atlas_side;

typedef struct nsk_atlas_image {
    int label;
    nsk_atlas_side in_float, in_integer;
} nsk_atlas_image;

typedef struct nsk_atlas {
    int images, numbers; /* numbers: that the layer gives for an image */
    bool by_neighbours;
    double spread[2]; /* shares of the whole spread that the two directions carry; by neighbours: 0
                       */
    double kept;      /* of an image's nearest neighbours, the share that is nearest on the plane */
    nsk_atlas_image *image; /* in the set's order */
} nsk_atlas;

/* The network must be the one that the model was made from, as for nsk_drift_measure. The two
 * directions are the first principal components of the float network's numbers (K. Pearson,
 * Philosophical Magazine 2, 1901); the integer model's are put along the same two. `by_neighbours`:
 * from there, both models' points are moved together so that near ones stay near (L. van der
 * Maaten, G. Hinton, Journal of Machine Learning Research 9, 2008). Neighbours are counted among
 * all numbers, not on the plane. At most NSK_ATLAS_MOST images, half of them by neighbours. */
enum { NSK_ATLAS_MOST = 2000 };
nsk_atlas *nsk_atlas_make(const nsk_network *network, const nsk_model_file *file,
                          const nsk_images *images, bool by_neighbours, nsk_progress progress,
                          void *context, nsk_error *error);
void nsk_atlas_free(nsk_atlas *atlas);

/* Whether most of an image's neighbours, in both models, have one other label: it may be labelled
 * wrongly, or look like that class. */
bool nsk_atlas_is_astray(const nsk_atlas_image *image);

/* The images of one class. */
typedef struct nsk_atlas_class {
    int images, astray;
    double float_own, integer_own; /* neighbours of its own that an image has, on the average */
} nsk_atlas_class;
nsk_atlas_class nsk_atlas_class_of(const nsk_atlas *atlas, int label);

/* Draws both planes beside each other, as a .png or .svg file. */
bool nsk_atlas_draw(const nsk_atlas *atlas, const nsk_labels *labels, const char *name,
                    const char *path, nsk_error *error);

#ifdef __cplusplus
}
#endif
#endif
