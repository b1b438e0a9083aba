/* netsuke/network.h: the float network. */
#ifndef NETSUKE_NETWORK_H
#define NETSUKE_NETWORK_H

#include "netsuke/brief.h"

#ifdef __cplusplus
extern "C" {
#endif

typedef struct nsk_network nsk_network;

/* Reads an ONNX classifier, infers and checks every shape, folds batch normalisation, pads and
 * constants. A size that the file leaves open is taken from `input`; a size, or a count of
 * channels, that contradicts it is an error. Takes what is missing in `input` from the file;
 * `input` may be NULL where the file fixes everything. `output` names the output to take where the
 * file has several, and may be NULL where it has one. */
nsk_network *nsk_network_read(const char *path, nsk_input *input, const char *output,
                              nsk_error *error);
/* Takes the network's outputs for several labels at once, each a sigmoid of its own, where it ends
 * in those or in plain scores. False and an error where it ends in a softmax, or in one number. */
bool nsk_network_answer_each(nsk_network *network, nsk_error *error);
/* Asks for the output of a layer, by its name in the outline, with 16 bits instead of 8: each of
 * its levels then has 256 parts. What writes and reads it must be a convolution, a dense layer but
 * the last, a function of one number or a sum: whoever lowers the network says so where it is not.
 * Finer numbers take twice the RAM and more time, and are not streamed. */
bool nsk_network_make_fine(nsk_network *network, const char *layer, nsk_error *error);
void nsk_network_free(nsk_network *network);
/* Writes it as standard ONNX, in float, as it is after reading: folded, and ending in
 * probabilities. Its input is what the network's file takes. */
bool nsk_network_write(const nsk_network *network, const char *path, nsk_error *error);
int nsk_network_classes(const nsk_network *network);
/* How many computed tensors the file itself gives the integer levels of (QuantizeLinear): those are
 * taken rather than calibrated. */
int nsk_network_carried_levels(const nsk_network *network);
/* What of the file was read in another way than it stands there, a sentence each: a newer operator
 * set than is known here, a last node set aside. `note`: from 0 to one below the count. */
int nsk_network_notes(const nsk_network *network);
const char *nsk_network_note(const nsk_network *network, int note);
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

#ifdef __cplusplus
}
#endif
#endif
