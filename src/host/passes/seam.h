/* passes/seam: two layers with weights that nothing parts but what passes channels on, so that
 * numbers can be moved from one to the other without changing the function. */
#ifndef NSK_PASSES_SEAM_H
#define NSK_PASSES_SEAM_H

#include "graph/graph.h"

typedef struct nsk_seam {
    nsk_node *first, *second;
    int channels;
    bool padded;  /* something behind the first meets zeroes around the picture */
    double clip;  /* where the first's output is cut off above; INFINITY: nowhere */
    double floor; /* and below: 0 or -INFINITY */
} nsk_seam;

/* Finds the seam behind a node; false where there is none. */
bool nsk_seam_find(const nsk_graph *graph, nsk_node *first, nsk_seam *seam);

/* Weights of a Conv as [out][in of the group][taps]; of a Gemm as [out][in], or turned over. */
typedef struct nsk_seam_weights {
    nsk_value *value;
    int outputs, inputs, taps, groups; /* inputs of a group */
    bool turned;
} nsk_seam_weights;

bool nsk_seam_weights_of(const nsk_graph *graph, const nsk_node *node, nsk_seam_weights *weights);
float *nsk_seam_weight(const nsk_seam_weights *weights, int output, int input, int tap);
/* The channel of the layer's input that an output's input stands for. */
int nsk_seam_channel(const nsk_seam_weights *weights, int output, int input);
/* The layer's own biases, made of zeroes where it has none. */
float *nsk_seam_biases(nsk_graph *graph, nsk_node *node, int channels);

#endif
