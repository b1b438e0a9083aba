/* netsuke/compare.h: both models on held-out images. */
#ifndef NETSUKE_COMPARE_H
#define NETSUKE_COMPARE_H

#include "netsuke/quantise.h"

#ifdef __cplusplus
extern "C" {
#endif

/* Of pictures that may have several labels at once (nsk_labels has thresholds), a class is a set of
 * labels, by its number in comparison->sets, and its probability that of the least sure label: p
 * where it is said to be there, 1 - p where not. */
typedef struct nsk_answer {
    int label; /* the truth */
    int float_class, integer_class;
    float float_probability, integer_probability; /* of those classes */
    /* of the truth: how many classes are likelier, and how many are just as likely, itself among
     * them; first the float network's, then the integer model's */
    int before[2], equals[2];
    float apart; /* half the sum of the distances of the two models' probabilities */
    float odds;  /* what the log-odds of the float model's least sure class changed by */
    bool tied;   /* several classes share the integer model's highest score; the first is taken */
    bool right[2], alike; /* all of it: the float network, the integer model; both say the same */
} nsk_answer;

/* What is known of each label, where pictures may have several at once: [image][label]. */
typedef struct nsk_label_answers {
    bool *truth, *said[2]; /* is it there; does the float network, the integer model say so */
    float *chance[2];      /* their probabilities of it */
} nsk_label_answers;

typedef struct nsk_comparison {
    int images, classes;         /* classes: labels */
    nsk_label_answers *each;     /* NULL: a picture has one label */
    struct nsk_label_sets *sets; /* NULL then, too */
    nsk_answer *answers;         /* one an image, in the set's order */
    int float_correct, integer_correct, agree;
    int lost, won;              /* right in float only; right in integer only */
    double apart;               /* the mean of the answers' */
    double odds;                /* the root of the mean square of the answers' */
    int tied;                   /* images where classes share the integer model's highest score */
    double loss_points;         /* float accuracy minus integer accuracy, percentage points */
    double loss_low, loss_high; /* its 95 % interval, Bonett and Price (2012), for paired results */
} nsk_comparison;

/* Runs both models over a labelled set, images in parallel. `progress` may be NULL. */
nsk_comparison *nsk_compare(const nsk_network *network, const nsk_model_file *model,
                            const nsk_images *held_out, nsk_progress progress, void *context,
                            nsk_error *error);
void nsk_comparison_free(nsk_comparison *comparison);

/* The 95 % interval for the difference of two paired proportions from the discordant counts, as
 * fractions of 1: adjusted Wald (D. G. Bonett, R. M. Price, Statistics in Medicine 31, 2012). */
void nsk_paired_interval(double lost, double won, double images, double *low, double *high);

/* The chance that so uneven a split of images on which two models differ comes from models that
 * are equally good: McNemar's exact test, two-sided (Q. McNemar, Psychometrika 12, 1947). */
double nsk_paired_chance(int lost, int won);

/* The 95 % interval of a share (E. B. Wilson, Journal of the American Statistical Association 22,
 * 1927), as fractions of 1. */
void nsk_share_interval(int part, int whole, double *low, double *high);

/* One class, as one side answers. */
typedef struct nsk_class_score {
    int images, answers, right;   /* that are of it; that are said to be; both */
    double precision, recall, f1; /* fractions of 1 */
    /* Where pictures may have several labels: the precision at each picture that has it, from the
     * likeliest on, on the average (C. D. Manning, P. Raghavan, H. Schuetze, Introduction to
     * Information Retrieval, 2008, 8.4); equally likely ones count as one step. */
    double average_precision;
} nsk_class_score;

/* Answers of about one probability. */
enum { NSK_CALIBRATION_BINS = 15 };
typedef struct nsk_calibration_bin {
    int images;
    double said, right; /* mean probability; share that is right */
} nsk_calibration_bin;

typedef struct nsk_scoring {
    nsk_class_score *classes; /* one a class */
    nsk_calibration_bin bins[NSK_CALIBRATION_BINS];
    double balanced_accuracy; /* mean recall of the classes that there are images of */
    /* How far the probability of an answer is from how often such answers are right: the mean over
     * 15 bins, weighted by their images (M. P. Naeini, G. F. Cooper, M. Hauskrecht, AAAI 2015). */
    double calibration_error;
    /* Where pictures may have several labels: the share of all yes and no that are right, and the
     * means over the labels that there are pictures of. */
    double decisions, f1, average_precision;
} nsk_scoring;

/* A class of the answers in words: a label, or a set of them, as "crack+chip". nsk_string_free. */
char *nsk_comparison_class(const nsk_comparison *comparison, const nsk_labels *labels, int index);

/* How often each class is taken for each: counts[truth * classes + answer]; zeroes where pictures
 * may have several labels. nsk_free. */
int *nsk_confusion_of(const nsk_comparison *comparison, bool integer);

nsk_scoring *nsk_scoring_of(const nsk_comparison *comparison, bool integer);
/* How many images have the truth among the `first` classes that are thought likeliest; where some
 * are equally likely, the mean over all their orders. */
double nsk_right_among(const nsk_comparison *comparison, int first, bool integer);
void nsk_scoring_free(nsk_scoring *scoring);

/* How many images the float network gets right, step by step on the way to the integer model: of
 * pictures as they are stored; as they come through the camera's sensor, which is the same where
 * the input has none; fed with what the device makes of a frame; with the integer model's weights
 * besides. What is left to the integer model's own count comes from rounding what is computed. */
typedef struct nsk_loss_split {
    int stored, exact, prepared, weights;
} nsk_loss_split;

/* The model must be what network, calibration and recipe give. */
bool nsk_split_loss(const nsk_network *network, const nsk_images *calibration,
                    const nsk_recipe *recipe, const nsk_model_file *file, const nsk_images *images,
                    nsk_loss_split *split, nsk_progress progress, void *context, nsk_error *error);

/* Draws how often answers are right over their probability, as a .png or .svg file. */
bool nsk_reliability_draw(const nsk_comparison *comparison, const char *name, const char *path,
                          nsk_error *error);

/* Draws the pictures that both answer differently, up to 48 of them, as a .png file. */
bool nsk_flips_sheet(const nsk_comparison *comparison, const nsk_images *images, const char *path,
                     nsk_error *error);

/* How many images it takes in all to tell a true loss (a fraction of 1) from none with 80 %
 * certainty at the 5 % level, two-sided, where models differ as often as counted (R. J. Connor,
 * Biometrics 43, 1987). */
int nsk_images_to_settle(int lost, int won, int images, double loss);

/* How many images it takes until the 95 % interval of the loss no longer holds a limit (both
 * fractions of 1), where models go on to differ as often as counted; INT_MAX where that never
 * comes. */
int nsk_images_to_decide(int lost, int won, int images, double limit);

/* Probabilities of the integer model's scores, whatever its last layer. */
void nsk_probabilities(const nsk_model *model, const int32_t *scores, float *probabilities);

#ifdef __cplusplus
}
#endif
#endif
