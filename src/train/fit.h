/* train/fit: epochs over a set of pictures in memory: shuffling, augmentation, the schedule. */
#ifndef NSK_TRAIN_FIT_H
#define NSK_TRAIN_FIT_H

#include <stdint.h>

#include "train/net.h"

/* Pictures as the camera gives them, and how a byte becomes an input value. */
typedef struct nsk_train_set {
    int count;
    const uint8_t *frames; /* count x height x width x channels */
    const int *labels;     /* a class; of a net for several labels, a bit for each, 31 at most */
    float mean[3], deviation[3]; /* of values scaled to 0..1 */
} nsk_train_set;

typedef struct nsk_train_plan {
    int epochs, warm_up; /* the rate climbs for `warm_up` epochs, then follows half a cosine to 0 */
    double rate, momentum, decay, smoothing;
    bool adaptive;    /* nsk_train_rule */
    int most_shift;   /* augmentation: moved up to this many pixels, edges repeated */
    int mirror;       /* augmentation: mirrored left to right half the time */
    double most_gain; /* augmentation: brightness times 1 +- this */
    unsigned long long seed;
} nsk_train_plan;

typedef struct nsk_train_epoch {
    int epoch;
    double loss, accuracy, rate; /* over the augmented training images */
} nsk_train_epoch;

/* Trains; calls `report` after each epoch. */
void nsk_train_fit(nsk_train_net *net, const nsk_train_set *set, const nsk_train_plan *plan,
                   void (*report)(const nsk_train_epoch *epoch));

/* The share of pictures whose highest score is the label's, or all of whose labels are right, in
 * inference form. */
double nsk_train_accuracy(nsk_train_net *net, const nsk_train_set *set);

#endif
