/* netsuke/classify.h: what both models say of single pictures. */
#ifndef NETSUKE_CLASSIFY_H
#define NETSUKE_CLASSIFY_H

#include "netsuke/quantise.h"

#ifdef __cplusplus
extern "C" {
#endif

/* One picture and both models' probabilities, one a class. */
typedef struct nsk_opinion {
    char *path; /* "-": standard input */
    float *by_float, *by_integer;
    /* What that says: float, integer: a label, or all that reach their thresholds, as "crack+chip",
     * or "none"; and how likely that is, of several labels the least sure one */
    char *says[2];
    float likely[2];
    char *truth;    /* what the folder that it stands in says, in the same way, or NULL */
    uint8_t *frame; /* as the network gets it */
} nsk_opinion;

typedef struct nsk_opinions {
    int count, classes;
    nsk_opinion *opinion;
} nsk_opinions;

/* `paths` ends with NULL; each is a picture, "ARRAY[17]", "-" for one on standard input, or a
 * folder of any depth, which stands for every picture in it. */
nsk_opinions *nsk_classify(const nsk_network *network, const nsk_model_file *file,
                           const nsk_labels *labels, const nsk_input *input,
                           const char *const *paths, nsk_progress progress, void *context,
                           nsk_error *error);
void nsk_opinions_free(nsk_opinions *opinions);

/* The class with the `place`-th highest probability, from 0; the first of equals. */
int nsk_ranked(const float *probabilities, int classes, int place);

/* The pictures as one PNG, float's answer above the integer model's under each; `most` at most. */
bool nsk_opinions_sheet(const nsk_opinions *opinions, const nsk_input *input, int most,
                        const char *path, nsk_error *error);

#ifdef __cplusplus
}
#endif
#endif
