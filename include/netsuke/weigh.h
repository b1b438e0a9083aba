/* netsuke/weigh.h: variants side by side. */
#ifndef NETSUKE_WEIGH_H
#define NETSUKE_WEIGH_H

#include "netsuke/budget.h"

#ifdef __cplusplus
extern "C" {
#endif

/* What one variant gets right and costs; accuracies are fractions of 1. */
typedef struct nsk_variant {
    const char *name; /* the caller's */
    int images, float_correct, integer_correct;
    double accuracy_low, accuracy_high; /* 95 % interval of the integer model's */
    double loss_points, loss_low, loss_high;
    double flash, ram, seconds, joules; /* joules negative where the board gives no power */
    nsk_budget_limit limits[NSK_VARIANT_LIMITS];
    bool fits;     /* all of them hold */
    int beaten_by; /* another that is nowhere worse and somewhere better, or NSK_NO_VARIANT */
} nsk_variant;

/* What it takes long to find out of a variant. */
typedef struct nsk_measured {
    nsk_model_file *model;
    int images, float_correct, integer_correct, agree, lost, won; /* as in nsk_comparison */
} nsk_measured;

/* Quantises and compares. */
bool nsk_measure(const nsk_network *network, const nsk_images *calibration,
                 const nsk_recipe *recipe, const nsk_images *held_out, nsk_measured *measured,
                 nsk_error *error);
void nsk_measured_clear(nsk_measured *measured);

/* A name made of everything that the measurement depends on: this program, the network, every
 * picture with its label, preparation and recipe; with NULL for `held_out`, everything that the
 * model depends on. nsk_string_free; NULL on an error. */
char *nsk_measurement_key(const nsk_network *network, const nsk_images *calibration,
                          const nsk_recipe *recipe, const nsk_images *held_out, nsk_error *error);
/* Measurements in a folder, two files each: KEY.nsk, KEY.ini. Reading is false where it is not
 * there, or not whole. */
bool nsk_measured_write(const nsk_measured *measured, const char *folder, const char *key,
                        nsk_error *error);
bool nsk_measured_read(nsk_measured *measured, const char *folder, const char *key);

nsk_variant nsk_variant_of(const char *name, const nsk_measured *measured, const nsk_budget *budget,
                           const nsk_limits *limits);
/* Finds for each variant one that beats it in flash, RAM, time, energy and the integer model's
 * accuracy taken together. Picks none. */
void nsk_weigh(nsk_variant *variants, int count);

/* Draws time across and accuracy up, RAM as size, limits of time as lines; a .png or .svg file. */
bool nsk_weigh_draw(const nsk_variant *variants, int count, const char *path, nsk_error *error);

#ifdef __cplusplus
}
#endif
#endif
