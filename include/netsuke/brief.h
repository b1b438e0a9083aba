/* netsuke/brief.h: one file that describes a job. */
#ifndef NETSUKE_BRIEF_H
#define NETSUKE_BRIEF_H

#include "netsuke/device.h"
#include "netsuke/error.h"
#include "netsuke/sensor.h"

#ifdef __cplusplus
extern "C" {
#endif

/* How a picture becomes the network's input, as it was in training: brought to width x height by
 * `fit`, channels in `colour` order, each byte b to ((b / 255) x top - mean) / deviation. */
typedef struct nsk_input {
    int width, height; /* pixels; 0 where the model file fixes them */
    nsk_colour colour;
    nsk_fit fit;
    nsk_resample resample;
    double mean[3], deviation[3];    /* in channel order; grey uses the first */
    double top;                      /* what byte 255 becomes: 1 or 255 */
    nsk_sensor sensor;               /* what pictures have gone through before that */
    int sensor_width, sensor_height; /* pixels; 0: the model's size */
} nsk_input;

/* Red, green, blue from 0 to 1, stretched by areas; the size is the model file's. */
void nsk_input_init(nsk_input *input);

typedef struct nsk_labels {
    int count;
    char **names; /* in the order of the network's outputs; NULL behind the last */
    /* NULL: a picture has one of them. Else it may have several at once, or none, and this is the
     * probability from which on it has each. */
    double *thresholds;
} nsk_labels;

/* Upper limits; one that is not set is INFINITY of <math.h>. */
typedef struct nsk_limits {
    double flash, ram; /* bytes */
    double latency;    /* seconds a frame */
    double loss;       /* percentage points of accuracy */
    /* of a rehearsal, as fractions of 1: of the camera's frames, those that came while the device
     * was busy (none, where the brief does not say); of events, those without an action; of
     * actions, those that nothing called for */
    double dropped, missed, false_actions;
} nsk_limits;

/* None is set. */
void nsk_limits_init(nsk_limits *limits);

/* The decision rule of the brief; nsk_rule of firmware.h is its integer form. */
typedef struct nsk_decision {
    double threshold, margin; /* probabilities, 0..1 */
    int frames, window;       /* so many of the last so many; window 0: in a row */
    int hold_off;             /* frames */
    char *resting;            /* name of the class for 'nothing there', or NULL */
    int lines;                /* that groups of classes move; 0: each class but the resting one, its
                               * own */
    char **line_names;
    int *line_of; /* of each class: its line, or -1; NULL where lines is 0 */
    const double
        *thresholds; /* of nsk_labels; threshold and margin mean nothing where it has any */
} nsk_decision;

/* What a product has around the model, and what it runs on. */
typedef struct nsk_product {
    int camera_width, camera_height; /* pixels of the camera's picture; 0: the model's */
    nsk_sensor sensor;               /* what its rows are, and which part is looked at */
    int check_every;                 /* frames, as in nsk_firmware */
    bool check_frames, twice;        /* as there */
    double battery;                  /* joules; 0: none */
    double awake;                    /* share of the time in which frames are taken, 0..1 */
} nsk_product;

/* Nothing around the model, and frames taken all the time. */
void nsk_product_init(nsk_product *product);

/* Whether the first layers run while the frame's rows come in, and hold only the rows that are
 * still wanted: docs/streaming.md. */
typedef enum nsk_streaming_wish {
    NSK_STREAMING_WHEN_NEEDED, /* where workspace and frame need more than the recipe's RAM else */
    NSK_STREAMING_NEVER,
    NSK_STREAMING_ALWAYS /* as it takes the least RAM */
} nsk_streaming_wish;

/* How a tensor's range is made from the numbers that it takes on calibration images. */
typedef enum nsk_range_method {
    /* of the others, tried one tensor at a time, the one that moves the network's scores least;
     * takes a minute where a network has many tensors */
    NSK_RANGE_METHOD_AUTO,
    NSK_RANGE_METHOD_EXTREMES,      /* the lowest and the highest */
    NSK_RANGE_METHOD_PERCENTILE,    /* all but the outermost 0.005 % at either end */
    NSK_RANGE_METHOD_SQUARED_ERROR, /* the least squared error of rounding and cutting */
    NSK_RANGE_METHOD_DIVERGENCE     /* the least divergence of what is left of their distribution */
} nsk_range_method;

/* A layer whose output's range is to be made in a way of its own. */
typedef struct nsk_range_exception {
    char *layer;
    nsk_range_method method;
} nsk_range_exception;

/* A layer whose weights have a number of bits of their own in flash. */
typedef struct nsk_bits_exception {
    char *layer;
    int bits;
} nsk_bits_exception;

/* What refining came to: before and after, on the images that were set aside. */
typedef struct nsk_refine_result {
    int learned_from, aside; /* images */
    int epochs, best_epoch;  /* 0: none was better than before */
    double loss[2];          /* the mean of what nsk_refine_settings speaks of */
    int right[2];            /* of those set aside */
} nsk_refine_result;

/* Fine-tuning with the integer network in the loop: its weights' levels and biases are moved by
 * gradients that go straight through the roundings, so that the cross-entropy of its probabilities
 * with what is aimed at, half the label and half the teacher's probabilities, falls. Every fifth
 * image of a class is set aside; the epoch that does best on those is taken, or none. The
 * same images, rate and seed give the same model on any number of threads. */
typedef struct nsk_refine_settings {
    const struct nsk_images *training; /* labelled */
    /* That answers the same pictures, with the same classes; NULL: the float network itself. */
    const struct nsk_network *teacher;
    /* Of what `netsuke stress` does to pictures, bit by bit in its order: half of the pictures are
     * changed by one of them, at one of its three weaker strengths; 0: none is. */
    unsigned changes;
    int epochs;
    double rate; /* levels by which a weight moves in a step, at first */
    unsigned seed;
    nsk_refine_result *result; /* filled, where it is not NULL */
    /* The same: NULL, or a network that goes, before; then the float network with the weights that
     * were learned, the caller's: nsk_network_free. */
    struct nsk_network **learned;
    nsk_progress progress; /* of epochs; may be NULL */
    void *context;
} nsk_refine_settings;

#define NSK_EVERY_CHANGE (~0U)
/* Where nobody says. */
enum { NSK_REFINE_EPOCHS = 12 };
#define NSK_REFINE_RATE 0.03
#define NSK_ROBUST_RATE 0.3 /* on changed pictures: there is more to learn */
/* Those, and a seed: the same brief, the same model. */
void nsk_refine_settings_init(nsk_refine_settings *settings, const struct nsk_images *training);

/* How to quantise. */
typedef struct nsk_recipe {
    nsk_range_method ranges;
    nsk_range_exception *exceptions; /* NULL, or as many as `excepted` */
    int excepted;
    /* of each weight of dense layers and convolutions of single pixels, in flash: 4 to 6, or 8 */
    int bits;
    nsk_bits_exception *narrowed; /* NULL, or as many as `narrowed_count`: other layers, or other
                                   * numbers */
    int narrowed_count;
    bool equalise; /* even out channels between layers first; the function stays the same */
    bool rounding; /* round weights up or down as moves their layer's output least */
    bool biases;   /* let biases take what rounding, there and before, adds on the average */
    const nsk_refine_settings *refine; /* last of all; NULL: none */
    nsk_streaming_wish streaming;
    double ram;            /* bytes that the workspace and what is held of the frame may take */
    nsk_progress progress; /* of images whose windows rounding looks at; may be NULL */
    void *context;
} nsk_recipe;

/* What is done where no recipe is given: least squared errors; all stages but refining; no limit,
 * so that nothing is streamed. */
void nsk_recipe_init(nsk_recipe *recipe);

/* More pictures than this change little of a model, and take their time. */
enum { NSK_CALIBRATION_LIMIT = 1000 };

typedef struct nsk_brief {
    char *path, *name;
    int variants;        /* combinations of the lists under [vary]; 1 where there are none */
    char *variant;       /* the values of this one's, or the file's name without its ending */
    char *model, *board; /* files, as paths from here; board may be NULL */
    char *output;        /* of the model, where it has several; or NULL */
    /* image sets, and the labels of those that are arrays; all may be NULL */
    char *calibration, *held_out, *training, *calibration_labels, *held_out_labels,
        *training_labels;
    int calibration_limit;  /* pictures, NSK_CALIBRATION_LIMIT where nothing is said; 0: all */
    char *facts[NSK_FACTS]; /* of the model, that override the file's own; may be NULL */
    nsk_labels labels;
    nsk_input input;
    nsk_recipe recipe; /* its RAM is the brief's limit; its refinement the caller's to set */
    char **fine;       /* layers whose outputs are to have 16 bits, NULL behind the last: see
                        * nsk_network_make_fine */
    bool choose_fine;  /* and those where it pays: see nsk_finer_choose */
    bool choose_bits;  /* of weights in flash, so that the model fits: see nsk_narrower_choose */
    bool refine;       /* the brief asks for refining, on `training` */
    int refine_epochs;
    unsigned refine_changes; /* of nsk_refine_settings */
    char *teacher;           /* file of the network that refining learns from; NULL: its own */
    nsk_limits limits;
    nsk_decision decision;
    nsk_product product;
    char *variants_brief;          /* whose variants a report shows, or NULL */
    char **scenes;                 /* files for rehearsals, NULL behind the last; or NULL */
    char *labels_path;             /* the file that they were read from */
    struct nsk_settings *settings; /* the file's lines, for messages */
} nsk_brief;

/* Reads a brief and the labels file that it names. An unknown key is an error that names its line.
 */
nsk_brief *nsk_brief_read(const char *path, nsk_error *error);
/* The same with the values that the lists under [vary] give variant `index`, from 0. */
enum { NSK_NO_VARIANT = -1 };
nsk_brief *nsk_brief_read_variant(const char *path, int index, nsk_error *error);
void nsk_brief_free(nsk_brief *brief);
/* Whether a file that the brief names is there; an error that names the brief's line where not.
 * `path` may be NULL: not named, which is no error here. */
bool nsk_brief_has(const nsk_brief *brief, const char *path, const char *group, const char *key,
                   nsk_error *error);
/* Whether the camera gives pictures no smaller than the input, once that is known. */
bool nsk_brief_camera_suits(const nsk_brief *brief, nsk_error *error);

/* A brief like another, of another network, or of several. */
typedef struct nsk_derived {
    const char *const *models; /* files beside it, NULL behind the last: the first as [model] file,
                                * more of them as [vary] model */
    double latency;            /* seconds, as the limit; 0: the brief's */
    const char *comment;       /* a line at its top */
} nsk_derived;

/* Writes it; its paths are seen from its own folder, and say what the brief was told by options. */
bool nsk_brief_derive(const nsk_brief *brief, const nsk_derived *derived, const char *path,
                      nsk_error *error);

/* "40 ms" and its like; false where it is none. */
bool nsk_seconds_of(const char *text, double *seconds);

/* A board's file: `name` as a path, seen from the file `beside` where that is not NULL; or, where
 * there is no such file, the board of that name that came along. nsk_string_free. */
char *nsk_board_find(const char *name, const char *beside);
/* The names of those boards, sorted; NULL behind the last. nsk_strings_free. */
char **nsk_board_names(void);

/* The name of a line that a decision may raise; "at rest" for one that is no class of its own. */
const char *nsk_line_name(const nsk_decision *decision, const nsk_labels *labels, int line);

#ifdef __cplusplus
}
#endif
#endif
