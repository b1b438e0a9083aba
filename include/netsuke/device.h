/* netsuke/device.h: the half that ships. Opens a model file in place (in flash, say), checks every
 * byte of it, prepares camera frames and runs the integer network in a workspace of the caller's.
 *
 * No heap, no floating point, no file, no global state: every function is re-entrant, and a model
 * may be shared by any number of workspaces. Needs memcpy and memset of the C library, no more. The
 * arithmetic is specified in docs/arithmetic.md, the file in docs/model-file.md.
 *
 *     nsk_model model;
 *     if (nsk_open(&model, kiln_model, sizeof kiln_model) != NSK_STATUS_OK) ...
 *     nsk_prepare(&model, frame, 48 * 3, workspace);
 *     nsk_run(&model, workspace, NULL);
 *     unsigned best = nsk_best(&model, nsk_scores(&model, workspace));
 */
#ifndef NETSUKE_DEVICE_H
#define NETSUKE_DEVICE_H

#include <stdbool.h>
#include <stddef.h>
#include <stdint.h>

#ifdef __cplusplus
extern "C" {
#endif

typedef enum nsk_status {
    NSK_STATUS_OK = 0,
    NSK_STATUS_MISALIGNED,  /* model or workspace are not at a multiple of NSK_ALIGNMENT */
    NSK_STATUS_TRUNCATED,   /* fewer bytes than the header says */
    NSK_STATUS_NOT_A_MODEL, /* the first bytes are not those of a model file */
    NSK_STATUS_OTHER_VERSION,
    NSK_STATUS_DAMAGED,         /* the checksum does not match */
    NSK_STATUS_INCONSISTENT,    /* it does, but a length, offset, shape or number is impossible */
    NSK_STATUS_KIND_MISSING,    /* good, but this build leaves out a kind of layer that it has */
    NSK_STATUS_WORKSPACE_SMALL, /* the workspace is smaller than the model needs */
    NSK_STATUS_PICTURE_SMALL,   /* the camera's pictures are smaller than the model's frames */
    NSK_STATUS_NO_MEMORY,       /* the port has no memory left */
    NSK_STATUSES                /* one past the last */
} nsk_status;

/* A short sentence for a person; never NULL. */
const char *nsk_status_text(nsk_status status);

/* Where a model and a workspace must start, in bytes. */
#define NSK_ALIGNMENT 4u

/* The order of a frame's colour channels, interleaved, one byte each. */
typedef enum nsk_colour { NSK_COLOUR_RGB, NSK_COLOUR_BGR, NSK_COLOUR_GREY } nsk_colour;

/* How a picture of another size is brought to the network's: distorted, the middle cut out, or
 * shrunk whole with black bars. Done before the device; the model carries it as a fact. */
typedef enum nsk_fit { NSK_FIT_STRETCH, NSK_FIT_CROP, NSK_FIT_PAD } nsk_fit;

/* How the pixels of another size are found, along each axis. Done before the device, too. With
 * `step` source pixels to one result pixel, the i-th result pixel's centre being (i + 1/2) step:
 * area: the mean of what it covers, pixels partly covered counting in part; enlarging, bilinear.
 * bilinear: the two pixels whose centres are nearest, by distance, edges repeated.
 * smooth bilinear: shrinking, a triangle `step` wide to both sides, cut at the edges.
 * nearest: the pixel that the centre falls in. */
typedef enum nsk_resample {
    NSK_RESAMPLE_AREA,
    NSK_RESAMPLE_BILINEAR,
    NSK_RESAMPLE_BILINEAR_SMOOTH,
    NSK_RESAMPLE_NEAREST,
    NSK_RESAMPLES
} nsk_resample;

/* An open model. Filled by nsk_open; read it, never write it. Points into the caller's bytes, which
 * must stay where they are while it is used. */
typedef struct nsk_model {
    const uint8_t *bytes;
    uint32_t size;            /* of the file, bytes */
    uint32_t checksum;        /* of those bytes, when they were opened */
    uint32_t workspace_bytes; /* what nsk_run needs */
    uint16_t layers, tensors, classes;
    uint16_t input, output; /* indices of tensors */
    uint16_t width, height; /* of a frame, pixels */
    uint8_t channels;       /* of a frame: 3, or 1 for grey */
    uint8_t streamed;       /* so many layers, from the first, run while the frame comes in ... */
    uint16_t band;          /* ... each time that so many rows have come */
    nsk_colour colour;
    nsk_fit fit;
    nsk_resample resample;
} nsk_model;

/* A tensor: height x width x channels of int8, or of int16 or int32 where `element` is 2 or 4
 * bytes; channels fastest, standing at `offset` bytes into the workspace; `rows` of its rows at a
 * time, which is all of them but between streamed layers. From a pixel to the next there are
 * `pixel_stride` bytes: those of its channels, or more where it is some channels of another tensor,
 * a concatenation that nobody has to copy together. A value stands for scale x (q / 2^fraction -
 * zero): `fraction` is 8 of a fine tensor of int16 between layers, 0 of all others; the
 * scale is the bit pattern of an IEEE 754 binary32, which the device never computes with. */
typedef struct nsk_tensor {
    uint32_t offset;
    int32_t pixel_stride;
    uint16_t height, width, channels, rows;
    uint8_t element, fraction;
    bool slice; /* some channels of another */
    int8_t zero;
    uint32_t scale_bits;
} nsk_tensor;

/* What a layer computes. The numbers stand in model files: never renumber. */
typedef enum nsk_kind {
    NSK_KIND_CONV = 1,
    NSK_KIND_DEPTHWISE = 2,
    NSK_KIND_DENSE = 3,
    NSK_KIND_MAX_POOL = 4,
    NSK_KIND_AVERAGE_POOL = 5,
    NSK_KIND_ADD = 6,
    NSK_KIND_MULTIPLY = 7,
    NSK_KIND_LUT = 8,
    NSK_KIND_SOFTMAX = 9,
    NSK_KIND_MAX = 10,  /* of two tensors, element by element */
    NSK_KIND_MIN = 11,  /* the same */
    NSK_KIND_COPY = 12, /* elements to other places: transposition, slice, concatenation, margin */
    NSK_KIND_CONSTANT = 13, /* out of the model file */
    NSK_KIND_RESIZE = 14,
    NSK_KIND_CONV_TRANSPOSE = 15,  /* transposed convolution */
    NSK_KIND_MATMUL = 16,          /* product of two tensors as matrices */
    NSK_KIND_SCORES = 17,          /* what the network ends in: the classes' scores */
    NSK_KIND_NORMALISE = 18,       /* groups of each pixel's channels, by mean and deviation */
    NSK_KIND_NORMALISE_WHOLE = 19, /* the same of groups of channels of the whole picture */
    NSK_KIND_CONV_FINE = 20,       /* as the kind of that name, where tensors may be fine */
    NSK_KIND_DEPTHWISE_FINE = 21,  /* the same, and the next ones */
    NSK_KIND_LUT_FINE = 22,
    NSK_KIND_ADD_FINE = 23,
    NSK_KIND_NORMALISE_FINE = 24, /* of a fine tensor, which it gives levels of */
    NSK_KIND_CONV_PACKED = 25,    /* whose weights have fewer than 8 bits */
    NSK_KIND_DENSE_PACKED = 26,   /* the same */
    NSK_KINDS                     /* one past the last */
} nsk_kind;

/* Called around each layer, in order: to time it, to look at its output, to feed a watchdog. Either
 * may be NULL. */
typedef struct nsk_observer {
    void (*before)(void *context, const nsk_model *model, unsigned layer);
    void (*after)(void *context, const nsk_model *model, unsigned layer);
    void *context;
} nsk_observer;

/* Checks `size` bytes at `bytes` (aligned to NSK_ALIGNMENT) and fills `model`: magic, version,
 * checksum (CRC-32 of IEEE 802.3), then every offset, length, shape, shift and accumulator bound,
 * and that no tensor or scratch is in another's way. Nothing that it accepts can make the functions
 * below read or write out of bounds or overflow, and every core computes the same bits of it. */
nsk_status nsk_open(nsk_model *model, const void *bytes, size_t size);

/* Turns a frame (model->height rows of model->width pixels in model->colour order, rows `stride`
 * bytes apart) into the network's input: a multiplication or a look-up a byte; runs the streamed
 * layers, if the model has any. The workspace has model->workspace_bytes and is aligned to
 * NSK_ALIGNMENT. */
void nsk_prepare(const nsk_model *model, const uint8_t *frame, size_t stride, void *workspace);

/* The same for a frame that comes a few rows at a time, so that nobody has to hold it whole: a feed
 * is started for each frame and then given its rows, top to bottom. */
enum nsk_streamed_limit {
    NSK_MOST_STREAMED = 32
};                        /* only the first so many tensors can be between streamed layers */
typedef struct nsk_held { /* rows of a tensor: `made` so far, those before `first` dropped */
    uint16_t made, first;
} nsk_held;
typedef struct nsk_feed { /* the caller's to keep, nobody's to look into */
    const nsk_model *model;
    int8_t *workspace;
    const nsk_observer *observer;
    uint16_t rows;
    nsk_held held[NSK_MOST_STREAMED];
} nsk_feed;

/* `observer`, which may be NULL, is called around each piece of a streamed layer. */
void nsk_start(nsk_feed *feed, const nsk_model *model, void *workspace,
               const nsk_observer *observer);
/* Takes `count` rows, `stride` bytes apart; what is past the frame's end is left. Returns how many
 * rows are still to come; at 0 it is time for nsk_run. */
unsigned nsk_feed_rows(nsk_feed *feed, const uint8_t *rows, size_t stride, unsigned count);

/* Runs all layers that are left, on what nsk_prepare or a feed left in the workspace. `observer`
 * may be NULL. */
void nsk_run(const nsk_model *model, void *workspace, const nsk_observer *observer);

/* The scores, model->classes of them, in the workspace: valid until the next nsk_prepare. Each is
 * the probability of its class, in units of 2^-30: from 0 to NSK_CERTAIN. */
#define NSK_CERTAIN (INT32_C(1) << 30)
const int32_t *nsk_scores(const nsk_model *model, const void *workspace);

/* The index of the highest score; the first of equals. */
unsigned nsk_best(const nsk_model *model, const int32_t *scores);

/* The name of a class or of a layer, zero-terminated, in the model's bytes. */
const char *nsk_label(const nsk_model *model, unsigned class_index);
const char *nsk_layer_name(const nsk_model *model, unsigned layer);

/* What a person should know of the model: "" where it is not known. */
typedef enum nsk_fact {
    NSK_FACT_NAME,
    NSK_FACT_VERSION,
    NSK_FACT_AUTHOR,
    NSK_FACT_LICENCE,
    NSK_FACT_DESCRIPTION,
    NSK_FACTS
} nsk_fact;
const char *nsk_model_fact(const nsk_model *model, nsk_fact fact);

nsk_kind nsk_layer_kind(const nsk_model *model, unsigned layer);
nsk_tensor nsk_tensor_at(const nsk_model *model, unsigned tensor);
/* The tensor that a layer writes. */
unsigned nsk_layer_output(const nsk_model *model, unsigned layer);

#ifdef __cplusplus
}
#endif
#endif
