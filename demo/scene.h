/* scene: draws pictures of the kiln line: a belt, mostly with a glazed wall tile on it. */
#ifndef NSK_DEMO_SCENE_H
#define NSK_DEMO_SCENE_H

#include <stdint.h>

#include "base/random.h"

/* Lengths in a scene are in pixels of a camera of SCENE_SIZE x SCENE_SIZE, whatever the camera. */
enum { SCENE_SIZE = 48, SCENE_LARGEST = 256 };

typedef enum kiln_class { BELT, SOUND, CRACK, CHIP, PINHOLE, DRIP, KILN_CLASSES } kiln_class;

extern const char *const kiln_class_names[KILN_CLASSES];

/* Draws a picture of the class, with the faults that `faults` has a bit for besides, into size x
 * size RGB bytes. Everything about it is drawn from `r`:
 * the same state gives the same bytes. */
void scene_draw(kiln_class class, unsigned faults, random_state *r, int size, uint8_t *rgb);

/* ---- the same, as a camera over a running belt sees it: one scene, many frames ---- */

/* What tiles that run past have in common; NULL: nothing. */
typedef struct scene_batch {
    uint64_t seed;   /* of the belt */
    int fresh_glaze; /* a dark, glossy one that training has not seen */
} scene_batch;

/* What changes from frame to frame; NULL: nothing. */
typedef struct scene_view {
    double right, down; /* where the tile is, from its place */
    double belt;        /* how far the belt has run */
    double light;       /* times the scene's own */
    double hand;        /* how far a hand reaches in from the right; 0: none */
} scene_view;

typedef struct scene scene;

/* A thing on the belt; `r` need not outlive the call. */
scene *scene_new(kiln_class class, const scene_batch *batch, random_state *r);
void scene_free(scene *s);
/* One frame; the sensor's noise is drawn from `r`. */
void scene_frame(const scene *s, const scene_view *view, int size, random_state *r, uint8_t *rgb);

#endif
