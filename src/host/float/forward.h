/* float/forward: the reference pass, in 32-bit floating point on BLAS, one picture at a time. */
#ifndef NSK_FORWARD_H
#define NSK_FORWARD_H

#include "graph/graph.h"

/* The working memory of one pass; each thread has its own. */
typedef struct nsk_pass nsk_pass;

/* `error` names the operator if one has no float form. */
nsk_pass *nsk_pass_new(const nsk_graph *graph, nsk_error *error);
void nsk_pass_free(nsk_pass *pass);

/* The input's memory, to be filled before nsk_pass_run. */
float *nsk_pass_input(nsk_pass *pass);
void nsk_pass_run(nsk_pass *pass);
/* What a value holds after the run. */
const float *nsk_pass_value(const nsk_pass *pass, int value);

/* Training's own float preparation: channel-interleaved bytes to planes of values. */
void nsk_float_prepare(const nsk_input *input, const uint8_t *frame, float *planes);

#endif
