/* netsuke/review.h: a set of pictures as somebody goes through it: what the network says of each,
 * where it stands among the others, and which show the same. */
#ifndef NETSUKE_REVIEW_H
#define NETSUKE_REVIEW_H

#include "netsuke/atlas.h"
#include "netsuke/survey.h"

#ifdef __cplusplus
extern "C" {
#endif

typedef struct nsk_reviewed {
    char *name;   /* below the folder, "chip/a.png" */
    int label;    /* by its folder; -1: it stands in no label's folder */
    int answer;   /* of the integer network: the label to suggest, where there is none */
    double sure;  /* the probability of that */
    double own;   /* the probability of its label; without one, of the answer */
    bool is_sure; /* not: another class came near, see nsk_review_make */
    /* where it stands by what the layer before the last says, as netsuke/atlas.h has it */
    bool is_placed, is_astray;
    double x, y;
    int nearest[NSK_NEIGHBOURS], neighbours; /* among these pictures */
    int twin;                                /* another one that shows the same, or -1 */
    char *twin_elsewhere;                    /* one of the other set that does, or NULL */
} nsk_reviewed;

typedef struct nsk_review {
    int count, left_out; /* pictures; those that cannot be read */
    nsk_reviewed *picture;
    char *unplaced; /* why there is no plane, or NULL */
} nsk_review;

/* What is gone through; all of it must outlive the call. */
typedef struct nsk_review_setup {
    const char *folder;
    const nsk_network *network;
    const nsk_model_file *model; /* runs here */
    const nsk_labels *labels;    /* one a picture */
    const nsk_input *input;
    const nsk_images *other; /* a set that should share no picture with this one, or NULL */
    const int *stops;        /* atomic: not 0 ends it, with an error; or NULL */
} nsk_review_setup;

/* Goes through all pictures in the folder, and in those in it. An answer is sure where it leads by
 * half: p1 - p2 >= 0.5. At most NSK_ATLAS_MOST of them, evenly spread, get places. */
nsk_review *nsk_review_make(const nsk_review_setup *setup, nsk_progress progress, void *context,
                            nsk_error *error);
void nsk_review_free(nsk_review *review);

/* A file as the bytes of a JPEG of at most `most` pixels a side: nsk_string_free. NULL where it
 * cannot be read. */
char *nsk_review_still(const char *path, int most, size_t *size, nsk_error *error);

#ifdef __cplusplus
}
#endif
#endif
