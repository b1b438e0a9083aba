/* designs: the networks of the kiln line that are trained. */
#ifndef NSK_DEMO_DESIGNS_H
#define NSK_DEMO_DESIGNS_H

#include "train/fit.h"

/* What a design is made for. */
typedef struct design_form {
    int classes;
    int size;     /* of a picture: pixels each way */
    int width;    /* channels, in hundredths of the design's own */
    double rate;  /* of training; 0: the design's own */
    bool several; /* a picture may have several labels */
} design_form;

typedef struct design {
    const char *name, *graph;
    nsk_train_net *(*make)(const design_form *form);
    double rate, decay; /* of training */
    bool adaptive;
} design;

/* NULL where there is none of that name; all names, with commas between, for people. */
const design *design_named(const char *name);
const char *design_names(void);

#endif
