/* scene: draws one picture of the kiln line: a belt, mostly with a glazed wall tile on it. */
#ifndef KILN_SCENE_H
#define KILN_SCENE_H

#include <stdint.h>

#include "base/random.h"

enum { SCENE_SIZE = 48 };

typedef enum kiln_class { BELT, SOUND, CRACK, CHIP, PINHOLE, DRIP, KILN_CLASSES } kiln_class;

extern const char *const kiln_class_names[KILN_CLASSES];

/* Draws a picture of the class into SCENE_SIZE x SCENE_SIZE RGB bytes. Everything about it is drawn
 * from `r`: the same state gives the same bytes. */
void scene_draw(kiln_class class, random_state *r, uint8_t *rgb);

#endif
