/* netsuke/survey.h: two sets of pictures beside each other, and each for itself. */
#ifndef NETSUKE_SURVEY_H
#define NETSUKE_SURVEY_H

#include "netsuke/images.h"

#ifdef __cplusplus
extern "C" {
#endif

/* What an image set holds. */
typedef struct nsk_survey_set {
    const char *name;            /* "calibration", "held-out" */
    int images;                  /* that could be read */
    int *in_class;               /* one a label */
    int least_width, most_width; /* pixels, before any resizing */
    int least_height, most_height;
    int grey, alpha; /* pictures stored without colours; with transparency */
    /* Of the frames as the network sees them, by channel, before the brief's mean and deviation
     * (0 to 1, or 0 to 255, as its range says); grey has one. */
    double mean[3], deviation[3];
    int unreadable;
    char **reasons; /* one a picture that cannot be read */
} nsk_survey_set;

/* Two pictures that show the same. */
typedef enum nsk_twin_place {
    NSK_TWINS_IN_BOTH_SETS,
    NSK_TWINS_IN_TWO_CLASSES, /* of one set */
    NSK_TWINS_IN_A_CLASS,
    NSK_TWIN_PLACES
} nsk_twin_place;

typedef struct nsk_twins {
    nsk_twin_place place;
    bool exact;           /* every pixel; otherwise brighter, smaller, compressed again */
    int set[2], image[2]; /* the earlier one first; images as counted in their sets */
} nsk_twins;

typedef struct nsk_survey {
    nsk_survey_set sets[2];
    nsk_twins *twins; /* each picture that repeats an earlier one, once: the gravest case */
    int twin_count;
    int exact[NSK_TWIN_PLACES], near[NSK_TWIN_PLACES]; /* of the twins */
    /* Of the first set's pictures, brightness, contrast and warmth as all but one of a hundred at
     * either end have them; how many of the second's are outside of each, and of any. */
    double low[NSK_LIGHTS], high[NSK_LIGHTS];
    int outside[NSK_LIGHTS], outside_any;
    int overlap; /* pictures of the second set whose every pixel stands in the first too */
} nsk_survey;

/* Decodes both sets (calibration, held-out), images in parallel. A picture that cannot be read is
 * counted, not an error. Likeness: see src/host/images/likeness.h. */
nsk_survey *nsk_survey_make(const nsk_images *calibration, const nsk_images *held_out,
                            nsk_progress progress, void *context, nsk_error *error);
void nsk_survey_free(nsk_survey *survey);

/* How many pictures of the second set stand in the first, too, pixel by pixel. Pictures that cannot
 * be read count as others. */
int nsk_images_shared(const nsk_images *first, const nsk_images *second);

/* Draws up to `per_class` pictures of each class, as the network sees them, into a PNG. */
bool nsk_survey_sheet(const nsk_images *const *sets, int per_class, const char *path,
                      nsk_error *error);

#ifdef __cplusplus
}
#endif
#endif
