/* run/said: what numbers say of an image, and whether that is right: one class of all, or, where
 * images may have several labels, each label by its threshold. */
#ifndef NSK_RUN_SAID_H
#define NSK_RUN_SAID_H

#include "brief/labels.h"
#include "netsuke/images.h"

/* Which labels are there. */
typedef struct nsk_said {
    bool has[NSK_MOST_LABELS];
} nsk_said;

/* The labels that reach their thresholds: by probabilities; by the device's scores, as its rule
 * decides, to the bit. */
void nsk_said_by(const nsk_labels *labels, const float *probabilities, nsk_said *said);
void nsk_said_by_scores(const nsk_labels *labels, const int32_t *scores, nsk_said *said);
/* Those that an image has. */
void nsk_said_of(const nsk_images *images, int image, nsk_said *truth);
bool nsk_said_is(const nsk_labels *labels, const nsk_said *a, const nsk_said *b);
/* The probability of the least sure label: p where it is said to be there, 1 - p where not. */
float nsk_said_likely(const nsk_labels *labels, const nsk_said *said, const float *probabilities);

/* Whether what they say is what the image is; whether two say the same. Of one class of all, too.
 */
bool nsk_is_right(const nsk_images *images, int image, const float *probabilities);
bool nsk_scores_are_right(const nsk_images *images, int image, const nsk_model *model,
                          const int32_t *scores);
bool nsk_say_the_same(const nsk_labels *labels, const float *a, const float *b);
/* How far `said` is from `wanted` in the log-odds of the class that the latter is least sure of: a
 * figure that tells how much numbers were disturbed where the probability is near 0 or 1, too. */
double nsk_odds_apart(const float *wanted, const float *said, int classes);
#endif
