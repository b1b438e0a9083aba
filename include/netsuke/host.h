/* netsuke/host.h: everything done before the device, from a brief to a verdict.
 *
 * Functions that can fail return NULL or false and put one line into an nsk_error: what is wrong,
 * where, and what to do. What a function returns as a pointer without const belongs to the caller,
 * who frees it with the function of that name. Objects may be read by many threads at once.
 */
#ifndef NETSUKE_HOST_H
#define NETSUKE_HOST_H

#include "netsuke/device.h"

#ifdef __cplusplus
extern "C" {
#endif

typedef struct nsk_error {
    char text[1200];
    bool unsupported; /* the file is sound, but asks for what netsuke does not do */
} nsk_error;

/* "0.1.0": of the library that is linked. */
const char *nsk_version(void);

/* Called now and then by what takes long; never by two threads at once. */
typedef void (*nsk_progress)(void *context, int done, int total);

/* ---- The brief: one file that describes a job --------------------------------------------- */

/* How a picture becomes the network's input, as it was in training: brought to width x height by
 * `fit`, channels in `colour` order, each byte b to ((b / 255) x top - mean) / deviation. */
typedef struct nsk_input {
    int width, height; /* pixels; 0 where the model file fixes them */
    nsk_colour colour;
    nsk_fit fit;
    nsk_resample resample;
    double mean[3], deviation[3]; /* in channel order; grey uses the first */
    double top;                   /* what byte 255 becomes: 1 or 255 */
} nsk_input;

typedef struct nsk_labels {
    int count;
    char **names; /* in the order of the network's outputs */
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
extern const nsk_limits nsk_no_limits;

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
} nsk_decision;

/* What a product has around the model, and what it runs on. */
typedef struct nsk_product {
    int camera_width, camera_height; /* pixels of the camera's picture; 0: the model's */
    int check_every;                 /* frames, as in nsk_firmware */
    bool looks, twice;               /* as there */
    double battery;                  /* joules; 0: none */
    double awake;                    /* share of the time in which frames are taken, 0..1 */
} nsk_product;

/* Whether the first layers run while the frame's rows come in, and hold only the rows that are
 * still wanted: docs/streaming.md. */
typedef enum nsk_streaming_wish {
    NSK_STREAM_WHEN_NEEDED, /* where workspace and frame need more than the recipe's RAM otherwise
                             */
    NSK_STREAM_NEVER,
    NSK_STREAM_ALWAYS /* as it takes the least RAM */
} nsk_streaming_wish;

/* How a tensor's range is made from the numbers that it takes on calibration images. */
typedef enum nsk_range_method {
    NSK_RANGES_AUTO, /* of the others, tried one tensor at a time, the one that moves the network's
                      * scores least; takes a minute where a network has many tensors */
    NSK_RANGES_EXTREMES,      /* the lowest and the highest */
    NSK_RANGES_PERCENTILE,    /* all but the outermost 0.005 % at either end */
    NSK_RANGES_SQUARED_ERROR, /* the least squared error of rounding and cutting */
    NSK_RANGES_DIVERGENCE     /* the least divergence of what is left of their distribution */
} nsk_range_method;

/* A layer whose output's range is to be made in a way of its own. */
typedef struct nsk_range_exception {
    char *layer;
    nsk_range_method method;
} nsk_range_exception;

/* What refining came to: before and after, on the images that were set aside. */
typedef struct nsk_refined {
    int learned_from, aside; /* images */
    int epochs, best_epoch;  /* 0: none was better than before */
    double loss[2];          /* the mean of what nsk_refinement speaks of */
    int right[2];            /* of those set aside */
} nsk_refined;

/* Fine-tuning with the integer network in the loop: its weights' levels and biases are moved by
 * gradients that go straight through the roundings, so that the cross-entropy of its probabilities
 * with what is aimed at, half the label and half the float network's probabilities, falls. Every
 * fifth image of a class is set aside; the epoch that does best on those is taken, or none. The
 * same images, rate and seed give the same model on any number of threads. */
typedef struct nsk_refinement {
    const struct nsk_images *training; /* labelled */
    int epochs;
    double rate; /* levels by which a weight moves in a step, at first */
    unsigned seed;
    nsk_refined *told;     /* filled, where it is not NULL */
    nsk_progress progress; /* of epochs; may be NULL */
    void *context;
} nsk_refinement;

/* Where nobody says. */
enum { NSK_REFINE_EPOCHS = 12 };
#define NSK_REFINE_RATE 0.03

/* How to quantise. */
typedef struct nsk_recipe {
    nsk_range_method ranges;
    nsk_range_exception *exceptions; /* NULL, or as many as `excepted` */
    int excepted;
    bool equalise; /* even out channels between layers first; the function stays the same */
    bool rounding; /* round weights up or down as moves their layer's output least */
    bool biases;   /* let biases take what rounding adds on the average */
    const nsk_refinement *refinement; /* last of all; NULL: none */
    nsk_streaming_wish streaming;
    double ram;            /* bytes that the workspace and what is held of the frame may take */
    nsk_progress progress; /* of images whose windows rounding looks at; may be NULL */
    void *context;
} nsk_recipe;

typedef struct nsk_brief {
    char *path, *name;
    int variants;        /* combinations of the lists under [vary]; 1 where there are none */
    char *variant;       /* the values of this one's, or the file's name without its ending */
    char *model, *board; /* files, as paths from here; board may be NULL */
    char *output;        /* of the model, where it has several; or NULL */
    /* image sets, and the labels of those that are arrays; all may be NULL */
    char *calibration, *held_out, *training, *calibration_labels, *held_out_labels,
        *training_labels;
    int calibration_limit;  /* pictures; 0: all */
    char *facts[NSK_FACTS]; /* of the model, that override the file's own; may be NULL */
    nsk_labels labels;
    nsk_input input;
    nsk_recipe recipe; /* its RAM is the brief's limit; its refinement the caller's to set */
    bool refine;       /* the brief asks for refining, on `training` */
    int refine_epochs;
    nsk_limits limits;
    nsk_decision decision;
    nsk_product product;
    char *variants_brief;          /* whose variants a report shows, or NULL */
    char **scenes;                 /* files for rehearsals, NULL behind the last; or NULL */
    struct nsk_settings *settings; /* the file's lines, for messages */
} nsk_brief;

/* Reads a brief and the labels file that it names. An unknown key is an error that names its line.
 */
nsk_brief *nsk_brief_read(const char *path, nsk_error *error);
/* The same with the values that the lists under [vary] give variant `index`, from 0. */
nsk_brief *nsk_brief_read_variant(const char *path, int index, nsk_error *error);
void nsk_brief_free(nsk_brief *brief);
/* Whether a file that the brief names is there; an error that names the brief's line where not.
 * `path` may be NULL: not named, which is no error here. */
bool nsk_brief_has(const nsk_brief *brief, const char *path, const char *group, const char *key,
                   nsk_error *error);
/* Whether the camera gives pictures no smaller than the input, once that is known. */
bool nsk_brief_camera_suits(const nsk_brief *brief, nsk_error *error);

/* ---- Images ---------------------------------------------------------------------------------- */

typedef struct nsk_images nsk_images;

/* Opens a set: a folder with one folder a class (PNG, JPEG, BMP, PNM; folders in those count as
 * part of the class), a CSV of path,label with paths as seen from the file, or an IDX or NPY array
 * of bytes, gzipped or not, whose labels stand in the file of that name with "labels" for "images"
 * or "-labels" before ".npy". `limit` > 0 keeps that many pictures, spread evenly over the classes.
 * A folder or line that no label names, a label without pictures and an unreadable picture are
 * errors; if `tolerant`, they are left out instead, and each is kept as a note.
 * Pictures are decoded when they are asked for, not before; arrays stay on disk. */
nsk_images *nsk_images_open(const char *folder, const nsk_labels *labels, const nsk_input *input,
                            int limit, bool tolerant, nsk_error *error);
/* The same for an array whose labels stand in a file of any name. */
nsk_images *nsk_images_open_array(const char *path, const char *labels_path,
                                  const nsk_labels *labels, const nsk_input *input, int limit,
                                  bool tolerant, nsk_error *error);
/* Keeps of each class's pictures every `of`-th, or all but those: two sets opened alike become two
 * that have nothing in common. */
void nsk_images_keep(nsk_images *images, int of, bool every);
void nsk_images_free(nsk_images *images);
int nsk_images_count(const nsk_images *images);
int nsk_images_label(const nsk_images *images, int index);
/* The file, or "ARRAY[17]". */
const char *nsk_images_path(const nsk_images *images, int index);
const nsk_labels *nsk_images_labels(const nsk_images *images);
const nsk_input *nsk_images_input(const nsk_images *images);
/* How many things were left out by `tolerant`, and each of them in words. */
int nsk_images_left_out(const nsk_images *images);
const char *nsk_images_left_out_at(const nsk_images *images, int index);
/* Bytes of one prepared frame: width x height x channels. */
size_t nsk_images_frame_bytes(const nsk_images *images);
/* One picture as the camera would give it: resized, channels in the input's order. */
bool nsk_images_frame(const nsk_images *images, int index, uint8_t *frame, nsk_error *error);

/* Reads and prepares any one picture, in the same way. */
bool nsk_picture_frame(const char *path, const nsk_input *input, uint8_t *frame, nsk_error *error);

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

/* ---- The float network ----------------------------------------------------------------------- */

typedef struct nsk_network nsk_network;

/* Reads an ONNX classifier, infers and checks every shape, folds batch normalisation, pads and
 * constants. A size that the file leaves open is taken from `input`; a size, or a count of
 * channels, that contradicts it is an error. Takes what is missing in `input` from the file;
 * `input` may be NULL where the file fixes everything. `output` names the output to take where the
 * file has several, and may be NULL where it has one. */
nsk_network *nsk_network_read(const char *path, nsk_input *input, const char *output,
                              nsk_error *error);
void nsk_network_free(nsk_network *network);
int nsk_network_classes(const nsk_network *network);
/* How many computed tensors the file itself gives the integer levels of (QuantizeLinear): those are
 * taken rather than calibrated. */
int nsk_network_carried_levels(const nsk_network *network);
/* What the file's metadata, or nsk_network_set_fact, says of the model; "" where they say nothing.
 * The name falls back on the file's. */
const char *nsk_network_fact(const nsk_network *network, nsk_fact fact);
void nsk_network_set_fact(nsk_network *network, nsk_fact fact, const char *text);
/* Scores a prepared frame with training's own float preparation: `classes` probabilities. */
bool nsk_network_score(const nsk_network *network, const nsk_input *input, const uint8_t *frame,
                       float *probabilities, nsk_error *error);

typedef struct nsk_outline_layer {
    const char *name;            /* of the node in the file */
    const char *kind;            /* ONNX operator name */
    const char *folded;          /* what was folded into it, or "" */
    int height, width, channels; /* of the output; 1 x 1 x channels behind a flatten */
    int kernel[2], stride[2];    /* down, across; 0 where there is no window */
    int groups;                  /* of a convolution; as many as input channels: depthwise */
    bool depthwise;
    uint64_t parameters, macs;
} nsk_outline_layer;

typedef struct nsk_outline {
    int height, width, channels; /* of the input */
    int count;
    nsk_outline_layer *layers; /* names point into the network */
    uint64_t parameters, macs;
} nsk_outline;

nsk_outline *nsk_network_outline(const nsk_network *network);
void nsk_outline_free(nsk_outline *outline);
/* "Conv 3x3/2, depthwise": operator, kernel, stride, groups. */
void nsk_outline_kind(const nsk_outline_layer *layer, char *text, size_t size);
/* Draws the layers as boxes with the shapes between them; `path` ends in .svg or .png. */
bool nsk_network_draw(const nsk_network *network, const char *path, nsk_error *error);

/* ---- Quantising ------------------------------------------------------------------------------ */

/* The bytes of a model file, aligned for nsk_open. */
typedef struct nsk_model_file {
    uint8_t *bytes;
    size_t size;
    size_t weight_bytes;          /* weights and biases among them */
    size_t workspace_lower_bound; /* most bytes alive at one step: no plan can need less */
} nsk_model_file;

/* What is done where no recipe is given: least squared errors; no limit, so that nothing is
 * streamed. */
extern const nsk_recipe nsk_usual_recipe;

/* Observes the range of every tensor on the calibration images, quantises, proves that no
 * accumulator can overflow, places the tensors in RAM and writes the model into memory. The same
 * inputs give the same bytes on any number of threads. `recipe` may be NULL: the usual one. */
nsk_model_file *nsk_quantise(const nsk_network *network, const nsk_images *calibration,
                             const nsk_recipe *recipe, nsk_error *error);
/* The same integer model as standard ONNX, with QuantizeLinear and DequantizeLinear, for other
 * tools. Its input is what the network's file takes. Read back, it quantises to the same levels. */
/* The network as nsk_quantise sees it after evening out its channels: the same function. */
nsk_network *nsk_network_equalised(const nsk_network *network, const nsk_images *calibration,
                                   nsk_error *error);
bool nsk_quantise_onnx(const nsk_network *network, const nsk_images *calibration,
                       const nsk_recipe *recipe, const char *path, nsk_error *error);
nsk_model_file *nsk_model_file_read(const char *path, nsk_error *error);
bool nsk_model_file_write(const nsk_model_file *file, const char *path, nsk_error *error);
/* Writes a C source that holds the model as `const uint8_t NAME[]` and `const size_t NAME_bytes`.
 */
bool nsk_model_file_write_c(const nsk_model_file *file, const char *path, const char *name,
                            nsk_error *error);
void nsk_model_file_free(nsk_model_file *file);
/* A network to be handed over. */
typedef struct nsk_handed_network {
    const char *name; /* a C name in small letters: nsk_handed_name */
    const nsk_model_file *model;
    const nsk_images
        *tried; /* its frames and the scores that they get become the self-test; or NULL */
    /* What stands around it and how it decides, or NULL: nothing, and the likeliest class. */
    const nsk_product *product;
    const nsk_decision *decision;
} nsk_handed_network;
/* A C name of any text. g_free. */
char *nsk_handed_name(const char *text);
/* Writes C that needs nothing but a compiler into the folder: the networks, the runtime that they
 * need and no more, a self-test, build files, a README. The folder is made; it may hold an earlier
 * hand-over, and nothing else. Returns the files' names, NULL behind the last; g_strfreev. */
char **nsk_emit(const nsk_handed_network *networks, int count, const char *folder,
                nsk_error *error);
/* Runs the hand-over's proof/prove.sh, which needs Frama-C and minutes: on any frame there can be,
 * the plain runtime stays in its memory and its numbers in their range. Returns what it says, a
 * line a network; `alarms`: whether some are left. NULL where nothing was shown. g_free. */
char *nsk_handed_prove(const char *folder, bool *alarms, nsk_error *error);
/* Does an open model take such pictures and carry these labels in this order? */
bool nsk_model_is_for(const nsk_model *model, const nsk_labels *labels, const nsk_input *input,
                      nsk_error *error);

/* ---- Comparing ------------------------------------------------------------------------------- */

typedef struct nsk_answer {
    int label; /* the truth */
    int float_class, integer_class;
    float float_probability, integer_probability; /* of those classes */
    /* of the truth: how many classes are likelier, and how many are just as likely, itself among
     * them; first the float network's, then the integer model's */
    int before[2], equals[2];
    float apart; /* half the sum of the distances of the two models' probabilities */
    bool tied;   /* several classes share the integer model's highest score; the first is taken */
} nsk_answer;

typedef struct nsk_comparison {
    int images, classes;
    nsk_answer *answers; /* one an image, in the set's order */
    int float_correct, integer_correct, agree;
    int lost, won;              /* right in float only; right in integer only */
    double apart;               /* the mean of the answers' */
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

/* One class, as one side answers. */
typedef struct nsk_class_score {
    int images, answers, right;   /* that are of it; that are said to be; both */
    double precision, recall, f1; /* fractions of 1 */
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
} nsk_scoring;

nsk_scoring *nsk_scoring_of(const nsk_comparison *comparison, bool integer);
/* How many images have the truth among the `first` classes that are thought likeliest; where some
 * are equally likely, the mean over all their orders. */
double nsk_right_among(const nsk_comparison *comparison, int first, bool integer);
void nsk_scoring_free(nsk_scoring *scoring);

/* How many images the float network gets right, step by step on the way to the integer model: as it
 * is; fed with what the device makes of a frame; with the integer model's weights besides. What is
 * left to the integer model's own count comes from rounding what is computed. */
typedef struct nsk_loss_split {
    int exact, prepared, weights;
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
void nsk_probabilities(const nsk_model *model, const int8_t *scores, float *probabilities);

/* ---- Drift: where accuracy goes -------------------------------------------------------------- */

/* The output of one layer of the integer model beside the same numbers of the float network. */
typedef struct nsk_drift_layer {
    char *name;
    bool measured;   /* false where it holds its numbers in an order of its own */
    double sqnr_db;  /* signal over error: what all layers up to this one have done */
    double alone_db; /* the same where its inputs are the float network's; NAN where unknown */
    double at_low, at_high; /* shares of outputs at the ends of their levels */
    int levels;             /* the fewest of the 256 that hold nine tenths of its outputs */
    int worst_channel;
    double worst_channel_db;
    int channels;
    double *channel_db; /* the same so far, channel by channel; NAN where there is no signal */
} nsk_drift_layer;

typedef struct nsk_drift {
    int images, layers;
    nsk_drift_layer *layer;
} nsk_drift;

/* Runs both over a set and looks at every layer. The model must have been made from this network,
 * as nsk_network_equalised gives it where its recipe says so, and not be streamed. `progress` may
 * be NULL. */
nsk_drift *nsk_drift_measure(const nsk_network *network, const nsk_model_file *model,
                             const nsk_images *images, nsk_progress progress, void *context,
                             nsk_error *error);
void nsk_drift_free(nsk_drift *drift);

/* Answers of the integer model imitated in float, and how far its probabilities are apart from the
 * float network's: half the sum of their distances, added up over all images. */
typedef struct nsk_regained {
    char *name; /* of the layer that alone is float; NULL for all or none */
    int right, agree;
    long long apart; /* in parts of NSK_REGAIN_APART */
} nsk_regained;
#define NSK_REGAIN_APART 1e6

typedef struct nsk_regain {
    int images, layers;
    nsk_regained exact, rounded; /* the float network; everything rounded */
    nsk_regained *layer;         /* the one that would bring back most comes first */
} nsk_regain;

/* What would come back if one layer alone were float, its weights and its output: measured layer by
 * layer. Quantises as nsk_quantise does, first. `progress` may be NULL. */
nsk_regain *nsk_regain_measure(const nsk_network *network, const nsk_images *calibration,
                               const nsk_recipe *recipe, const nsk_images *images,
                               nsk_progress progress, void *context, nsk_error *error);
void nsk_regain_free(nsk_regain *regain);

/* A change of the brief that was tried, and helped. */
typedef struct nsk_advice {
    char *change;    /* "conv9 = extremes, under [ranges]" */
    char *reason;    /* why it was tried */
    int agree[2];    /* images answered as by the float network, before and with it */
    double apart[2]; /* nsk_comparison's, before and with it */
} nsk_advice;

typedef struct nsk_advices {
    int images, tried, count;
    int agree;          /* as the brief has it */
    nsk_advice *advice; /* what helps most comes first */
} nsk_advices;

/* Tries what the drift of the layers suggests, each by itself, and keeps what measurably helps: no
 * fewer images answered as by the float network, and more of them, or probabilities that are nearer
 * to its by a twentieth. `file` is what network, calibration and recipe give. */
nsk_advices *nsk_advise(const nsk_network *network, const nsk_images *calibration,
                        const nsk_recipe *recipe, const nsk_model_file *file,
                        const nsk_drift *drift, const nsk_images *images, nsk_progress progress,
                        void *context, nsk_error *error);
void nsk_advices_free(nsk_advices *advices);

/* Draws error by layer, so far and alone, and what each layer would bring back where `regain` is
 * not NULL, as a .png or .svg file. */
bool nsk_drift_draw(const nsk_drift *drift, const nsk_regain *regain, const char *name,
                    const char *path, nsk_error *error);

/* ---- Stress: both models on changed pictures ------------------------------------------------ */

enum { NSK_STRENGTHS = 5 };

/* One change at one strength, on all images. */
typedef struct nsk_stress_count {
    int float_correct, integer_correct;
    int lost, won; /* right in float alone, in integers alone */
    double chance; /* McNemar's: that equally good models differ so unevenly */
} nsk_stress_count;

typedef struct nsk_stress_change {
    const char *name, *unit;
    double amount[NSK_STRENGTHS]; /* in that unit */
    nsk_stress_count count[NSK_STRENGTHS];
} nsk_stress_change;

typedef struct nsk_stress {
    int images, changes;
    nsk_stress_count unchanged;
    nsk_stress_change *change;
} nsk_stress;

/* Changes the pictures of a set, as the network gets them, in light, colour, sharpness, place, by
 * noise, JPEG and a patch, each at five strengths; and, where the set has five images or more of
 * class `resting` (NSK_NO_CLASS: none), for 'nothing there', puts those behind the others. What is
 * random about a change comes from the seed, the image and the change. `progress` may be NULL. */
enum { NSK_NO_CLASS = -1 };
nsk_stress *nsk_stress_measure(const nsk_network *network, const nsk_model_file *file,
                               const nsk_images *images, int resting, uint64_t seed,
                               nsk_progress progress, void *context, nsk_error *error);
void nsk_stress_free(nsk_stress *stress);

/* Whether the integer model is worse there than chance explains, though one looks at all of them:
 * Bonferroni's correction of 5 % over all changes and strengths. */
bool nsk_stress_breaks(const nsk_stress *stress, const nsk_stress_count *count);

/* Whether both models lose more than ten points there: a matter of training, not of quantising. */
bool nsk_stress_both_fail(const nsk_stress *stress, const nsk_stress_count *count);

/* Draws accuracy over strength, a panel a change, as a .png or .svg file. */
bool nsk_stress_draw(const nsk_stress *stress, const char *name, const char *path,
                     nsk_error *error);

/* ---- Atlas: the images on a plane, by what the layer before the last says of them ------------ */

enum { NSK_NEIGHBOURS = 10 };

typedef struct nsk_atlas_side {
    double x, y;         /* on the plane */
    int answer;          /* class */
    int of_its_own;      /* of its nearest neighbours, how many have its label */
    int other, of_other; /* the label that most of the rest have, and how many */
} nsk_atlas_side;

typedef struct nsk_atlas_image {
    int label;
    nsk_atlas_side in_float, in_integer;
} nsk_atlas_image;

typedef struct nsk_atlas {
    int images, numbers; /* numbers: that the layer gives for an image */
    bool by_neighbours;
    double spread[2]; /* shares of the whole spread that the two directions carry; by neighbours: 0
                       */
    double kept;      /* of an image's nearest neighbours, the share that is nearest on the plane */
    nsk_atlas_image *image; /* in the set's order */
} nsk_atlas;

/* The network must be the one that the model was made from, as for nsk_drift_measure. The two
 * directions are the first principal components of the float network's numbers (K. Pearson,
 * Philosophical Magazine 2, 1901); the integer model's are put along the same two. `by_neighbours`:
 * from there, both models' points are moved together so that near ones stay near (L. van der
 * Maaten, G. Hinton, Journal of Machine Learning Research 9, 2008). Neighbours are counted among
 * all numbers, not on the plane. At most NSK_ATLAS_MOST images, half of them by neighbours. */
enum { NSK_ATLAS_MOST = 2000 };
nsk_atlas *nsk_atlas_make(const nsk_network *network, const nsk_model_file *file,
                          const nsk_images *images, bool by_neighbours, nsk_progress progress,
                          void *context, nsk_error *error);
void nsk_atlas_free(nsk_atlas *atlas);

/* Whether most of an image's neighbours, in both models, have one other label: it may be labelled
 * wrongly, or look like that class. */
bool nsk_atlas_is_astray(const nsk_atlas_image *image);

/* The images of one class. */
typedef struct nsk_atlas_class {
    int images, astray;
    double float_own, integer_own; /* neighbours of its own that an image has, on the average */
} nsk_atlas_class;
nsk_atlas_class nsk_atlas_class_of(const nsk_atlas *atlas, int label);

/* Draws both planes beside each other, as a .png or .svg file. */
bool nsk_atlas_draw(const nsk_atlas *atlas, const nsk_labels *labels, const char *name,
                    const char *path, nsk_error *error);

/* ---- Vetting: is the float network fed as it was in training? ------------------------------- */

/* Another preparation than the brief's. */
typedef struct nsk_alternative {
    char *change; /* what to write in the brief, as in "colour = bgr" */
    nsk_input input;
    bool mirrored; /* rows for columns: pictures turned over their diagonal */
    int correct;
    int lost, won; /* right as the brief has it only; right in this way only */
    double gain;   /* how much likelier the true label is than as the brief has it: mean difference
                    * of the logarithms of its probability, none counted below e^-10 */
    double certainty; /* that mean over its standard error */
} nsk_alternative;

typedef struct nsk_vetting {
    int images, classes;
    int correct; /* as the brief has it */
    int count;
    nsk_alternative *alternatives; /* the best first */
    int better;     /* 0 where the first is clearly better: right on one point more or more, and the
                     * true label likelier with a certainty of 4 standard errors, which chance gives
                     * less than once in a thousand times for all that are tried; or -1 */
    int *confusion; /* [label][answer], in that way or else as the brief has it */
    /* The one-to-one renaming of the outputs under which some way is right most often, where it is
     * clearly better: 3 points or more, and each label that moves is then right on more than half
     * of its images. Output k should be called labels[order[k]]. The alternatives are judged with
     * it. */
    bool renamed;
    int *order;
    int order_correct; /* as the brief has it but for the labels */
} nsk_vetting;

/* Runs the float network on all images of the set in the ways that it may have been trained in:
 * either colour order, the usual ranges, with and without mean and deviation, each fit, rows for
 * columns. */
nsk_vetting *nsk_vet(const nsk_network *network, const nsk_images *images, nsk_progress progress,
                     void *context, nsk_error *error);
void nsk_vetting_free(nsk_vetting *vetting);

/* ---- Budget ---------------------------------------------------------------------------------- */

typedef struct nsk_board {
    char *path, *name, *core;
    double clock;                                 /* Hz */
    double flash, ram;                            /* bytes */
    double wait_states;                           /* cycles that a taken branch waits for flash */
    double frame_rate;                            /* of the camera, frames a second */
    double active_power, idle_power, sleep_power; /* watts; negative: not given */
    char *costs;                                  /* the cost table's file */
} nsk_board;

/* A board's file: `name` as a path, seen from the file `beside` where that is not NULL; or, where
 * there is no such file, the board of that name that came along. g_free. */
char *nsk_board_find(const char *name, const char *beside);
/* A cost table that the file does not name is the core's own that came along. */
nsk_board *nsk_board_read(const char *path, nsk_error *error);
void nsk_board_free(nsk_board *board);

typedef struct nsk_layer_cost {
    double instructions, cycles;
} nsk_layer_cost;

/* In the order in which limits stand; that of the loss only where accuracy was measured. */
enum { NSK_LIMIT_FLASH, NSK_LIMIT_RAM, NSK_LIMIT_LATENCY, NSK_BUDGET_LIMITS };
enum { NSK_LIMIT_LOSS = NSK_BUDGET_LIMITS, NSK_VARIANT_LIMITS };

typedef struct nsk_budget_limit {
    /* "flash" "bytes", "ram" "bytes", "latency" "seconds", "loss" "points" */
    const char *name, *unit;
    double limit, value;
    bool holds; /* and is not known to be broken, where chance leaves it open */
    bool open;
} nsk_budget_limit;

typedef struct nsk_budget {
    double flash, flash_model, flash_code;
    double flash_loop; /* of the code: the product's loop, firmware.h */
    double ram, ram_workspace, ram_stack;
    double ram_frame;         /* what is held of the frame: a row of it where layers are streamed */
    double ram_rest_of_frame; /* what its other rows would take */
    int streamed, band;       /* layers; rows of the frame */
    double ram_lower_bound;   /* of the workspace */
    double ram_camera;        /* what scaling and looking at the camera's pictures hold, and the
                               * loop around the workspace */
    double cycles, seconds, joules; /* a frame; joules negative where the board gives no power */
    /* Where counts on the emulator lie in 19 of 20 cases, as far as the misfits of the cost table
     * tell. */
    double seconds_low, seconds_high;
    /* Whether the core's timings are published: where not, a cycle is counted for each instruction,
     * and only the board can tell how long it takes. */
    bool timed;
    double watts, days; /* on the average, and on the battery; negative: not known */
    int layers;
    nsk_layer_cost *layer; /* one a layer */
    nsk_layer_cost preparation;
    nsk_layer_cost scaling, sight, check; /* what the product does around the model; 0: does not */
    nsk_layer_cost again;                 /* the frame a second time, where an action follows */
    double watchdog; /* seconds at most from one call of layer_done or prepared to the next */
    nsk_layer_cost
        streaming; /* what it takes to keep the rows that are wanted; 0 if not streamed */
    char *code_source, *cycle_source, *stack_source; /* how each figure was obtained */
    nsk_budget_limit limits[NSK_BUDGET_LIMITS];
} nsk_budget;

/* Draws where and when each tensor stands in the workspace; `path` ends in .svg or .png. */
bool nsk_plan_draw(const nsk_model_file *model, const char *path, nsk_error *error);

/* What board and limits leave of RAM to a model's workspace and frame: the stack, and what the
 * product's pictures of the camera take, taken off. `product` may be NULL. */
bool nsk_ram_for_model(const nsk_board *board, const nsk_product *product, const nsk_input *input,
                       const nsk_limits *limits, double *bytes, nsk_error *error);

/* Estimates a model on a board. Each limit is the tighter of the brief's and the board's. */
/* `product` may be NULL: nothing around the model. */
nsk_budget *nsk_budget_make(const nsk_model_file *model, const nsk_board *board,
                            const nsk_product *product, const nsk_limits *limits, nsk_error *error);
/* Compiles a hand-over of the model for a core that the bare-metal boards have, with that core's
 * cross compiler, and reads the linker's map: bytes of code of the runtime. */
bool nsk_budget_compile(const nsk_model_file *model, const char *core, double *code,
                        nsk_error *error);
/* Puts another figure in place of the table's. */
void nsk_budget_set_code(nsk_budget *budget, double code, const char *source);
void nsk_budget_free(nsk_budget *budget);

/* ---- Headroom: which limit binds, and what would give it back ------------------------------- */

/* Something that could be changed, and what the budget would be then. */
typedef struct nsk_way_out {
    char *what;                 /* "input of 32 x 32" */
    double flash, ram, seconds; /* the whole budget's */
    bool trains; /* the network has to be trained again, so that its accuracy is open */
    bool fits;   /* flash, RAM and latency hold */
} nsk_way_out;

typedef struct nsk_headroom {
    int tightest; /* NSK_LIMIT_FLASH, ...: the limit of which most is used */
    double clock; /* Hz at which the limit of latency is just met */
    int count;    /* of ways: the one that gives most of the tightest limit back comes first */
    nsk_way_out *way;
    const char *silent; /* why smaller inputs and narrower networks are not among them; or NULL */
} nsk_headroom;

/* `streamed`: the same network's model with its first layers streamed, or NULL. Smaller and
 * narrower networks are reckoned from the layers' shapes; their workspace, as the bound for it
 * grows. */
nsk_headroom *nsk_headroom_make(const nsk_model_file *model, const nsk_model_file *streamed,
                                const nsk_board *board, const nsk_product *product,
                                const nsk_limits *limits, nsk_error *error);
void nsk_headroom_free(nsk_headroom *headroom);

/* ---- Clocking: a cost table that learns from a real board --------------------------------------
 */

/* What a board printed of a model: the log of the hand-over's self-test. */
typedef struct nsk_clock_log {
    const nsk_model_file *model;
    const char *path;
    double cycles_a_tick; /* of the timer that the log counts by */
} nsk_clock_log;

/* A layer of a log, or preparation: cycles that the board took, that its table had said, and that
 * the learned one says. */
typedef struct nsk_clocked_layer {
    const char *kind; /* in the table; "prepare" for preparation */
    double measured, guessed, learned;
} nsk_clocked_layer;

enum { NSK_LEARNED_TERMS = 15 };
typedef struct nsk_learned_kind {
    const char *kind;
    int layers;                     /* it was learned from; 0: only the board's pace */
    double term[NSK_LEARNED_TERMS]; /* cycles by each number of nsk_work */
    double spread, worst;           /* relative: root of the mean square, the worst */
} nsk_learned_kind;

typedef struct nsk_clocking {
    int layers, kinds;
    nsk_clocked_layer *layer; /* of all logs, each with preparation first */
    nsk_learned_kind *kind;
    double pace; /* the board's cycles to the table's: the middle of all layers */
} nsk_clocking;

/* Fits the terms of each kind of layer to what the logs say, with non-negative least squares on
 * relative errors, and with the board's table, times the pace, as what to believe of terms of which
 * the logs say little. */
nsk_clocking *nsk_clock(const nsk_board *board, const nsk_clock_log *logs, int count,
                        nsk_error *error);
void nsk_clocking_free(nsk_clocking *clocking);
/* Writes a cost table that says where it came from: `source`. Code and stack stay those of the
 * board's table. */
bool nsk_clock_write(const nsk_clocking *clocking, const nsk_board *board, const char *source,
                     const char *path, nsk_error *error);

/* ---- Weighing: variants side by side -------------------------------------------------------- */

enum { NSK_NO_VARIANT = -1 };

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
 * picture with its label, preparation and recipe. g_free; NULL on an error. */
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

/* The 95 % interval of a share (E. B. Wilson, Journal of the American Statistical Association 22,
 * 1927), as fractions of 1. */
void nsk_share_interval(int part, int whole, double *low, double *high);

/* ---- Verdict: what was found, held against limits ------------------------------------------- */

/* Open: chance leaves it so; or something is worth a look that does not make figures worthless. */
typedef enum nsk_standing { NSK_HOLDS, NSK_OPEN, NSK_BROKEN } nsk_standing;
const char *nsk_standing_text(nsk_standing standing);

typedef struct nsk_finding {
    const char *step; /* the command that tells more */
    nsk_standing standing;
    char *text;
} nsk_finding;

typedef struct nsk_verdict {
    int count;
    nsk_finding *finding;
} nsk_verdict;

nsk_verdict *nsk_verdict_new(void);
void nsk_verdict_free(nsk_verdict *verdict);
void nsk_verdict_add(nsk_verdict *verdict, const char *step, nsk_standing standing,
                     const char *format, ...);
/* The worst of its findings. */
nsk_standing nsk_verdict_standing(const nsk_verdict *verdict);
/* Of a figure that is known to lie between two others. */
nsk_standing nsk_interval_standing(double low, double high, double limit);

/* Each adds one finding or more. The sets: overlap, classes that are empty, pictures under two
 * labels or that cannot be read. From one held-out picture in a hundred on, it is broken. */
void nsk_judge_survey(nsk_verdict *verdict, const nsk_survey *survey, const nsk_labels *labels);
void nsk_judge_overlap(nsk_verdict *verdict, const char *step, int overlap, int images);
void nsk_judge_vetting(nsk_verdict *verdict, const nsk_vetting *vetting);
/* The loss by its interval; and whether the float network is better than guessing. */
void nsk_judge_comparison(nsk_verdict *verdict, const nsk_comparison *comparison,
                          const nsk_labels *labels, double limit);
void nsk_judge_budget(nsk_verdict *verdict, const nsk_budget *budget);

/* What rehearsals came to, all together. */
typedef struct nsk_rehearsed_counts {
    int frames, dropped, troubled;
    int events, missed, actions, false_actions;
} nsk_rehearsed_counts;
void nsk_judge_rehearsal(nsk_verdict *verdict, const nsk_rehearsed_counts *counts,
                         const nsk_limits *limits);

/* Draws time across and accuracy up, RAM as size, limits of time as lines; a .png or .svg file. */
bool nsk_weigh_draw(const nsk_variant *variants, int count, const char *path, nsk_error *error);

#ifdef __cplusplus
}
#endif
#endif
