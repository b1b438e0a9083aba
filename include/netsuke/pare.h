/* netsuke/pare.h: a network brought under a board's limits by taking channels out of it. */
#ifndef NETSUKE_PARE_H
#define NETSUKE_PARE_H

#include "netsuke/budget.h"
#include "netsuke/compare.h"

#ifdef __cplusplus
extern "C" {
#endif

/* Channels that have the same places: those of one layer, or of several that are tied. */
typedef struct nsk_rung_layer {
    char *name;      /* of the first node that makes them */
    int before, now; /* channels */
} nsk_rung_layer;

/* One network of a ladder. */
typedef struct nsk_rung {
    nsk_network *network;
    nsk_model_file *model; /* by the recipe, as nsk_quantise makes it */
    nsk_budget *budget;
    nsk_comparison *comparison; /* with the network as it was, on images that had no part in it */
    uint64_t macs, parameters;
    int layers;
    nsk_rung_layer *layer;
    /* Of flash, RAM and latency; of the latter, counts in 19 of 20 cases: nsk_budget's
     * seconds_high.
     */
    bool holds[NSK_BUDGET_LIMITS];
    bool fits; /* all of them */
} nsk_rung;

/* From the network as it was, which comes first, downwards. */
typedef struct nsk_ladder {
    int rungs;
    nsk_rung *rung;
    int first;        /* that fits; NSK_NO_RUNG: none does */
    bool ended;       /* nothing more can be taken out, though more was wanted */
    int pictures;     /* learned from */
    int aside;        /* others, which said which epoch was best */
    double seconds;   /* of learning */
    int gone_through; /* pictures in that time, each as often as it was learned from */
} nsk_ladder;

enum { NSK_NO_RUNG = -1 };

typedef struct nsk_paring {
    const nsk_images *training; /* labelled; a fifth of each class says which epoch is best */
    const nsk_images *judged;   /* labelled, none of them among the former */
    int rungs;                  /* the original among them */
    int epochs;                 /* of learning on each rung, besides those while it is pared */
    double rate;                /* levels by which a weight moves in a step, at first */
    double trust;               /* in the original's answers; the rest: in the labels */
    unsigned changes;           /* of the pictures: nsk_refine_settings */
    unsigned seed;
    /* A line about what is going on, and what part of the whole is done; may be NULL. */
    void (*tell)(void *context, double done, const char *text);
    void *context;
} nsk_paring;

/* Where nobody says. */
enum { NSK_PARE_RUNGS = 6, NSK_PARE_EPOCHS = 12 };
#define NSK_PARE_RATE  0.3
#define NSK_PARE_TRUST 0.7

/* Makes a ladder that goes down to the limits, the tighter of `limits` and the board's, and one
 * rung past them (fewer rungs where a step goes further): by equal ratios of what each limit is
 * about, flash, RAM or latency, where it does not hold; where all hold, to a third of the latency.
 * Before each step downwards the channels are weighed: how much the loss would change without them,
 * over what they cost on the board by its cost table; those worth least go. After each, what is
 * left learns to answer like the original, the integer network in the loop. NULL and an error where
 * it cannot be done. The same inputs give the same ladder on any number of threads.
 * nsk_ladder_free. */
nsk_ladder *nsk_pare(const nsk_network *network, const nsk_images *calibration,
                     const nsk_recipe *recipe, const nsk_board *board, const nsk_product *product,
                     const nsk_limits *limits, const nsk_paring *how, nsk_error *error);
void nsk_ladder_free(nsk_ladder *ladder);

#ifdef __cplusplus
}
#endif
#endif
