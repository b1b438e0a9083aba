/* float/forward: the reference pass, in 32-bit floating point on BLAS, one picture at a time. */
#ifndef NSK_FLOAT_FORWARD_H
#define NSK_FLOAT_FORWARD_H

#include "graph/graph.h"
#include "netsuke/brief.h"

/* The working memory of one pass; each thread has its own. */
typedef struct nsk_pass nsk_pass;

/* `error` names the operator if one has no float form. */
nsk_pass *nsk_pass_new(const nsk_graph *graph, nsk_error *error);
void nsk_pass_free(nsk_pass *pass);

/* The input's memory, to be filled before nsk_pass_run. */
float *nsk_pass_input(nsk_pass *pass);
void nsk_pass_run(nsk_pass *pass);
/* The same; `change` may change what each node has made before others read it. */
typedef void nsk_pass_change(const void *context, int value, float *numbers, size_t count);
void nsk_pass_run_changed(nsk_pass *pass, nsk_pass_change *change, const void *context);
/* Once more from a node on, by its place in the graph: what is before it stays. */
void nsk_pass_run_from(nsk_pass *pass, int node, nsk_pass_change *change, const void *context);
/* In the place of a constant these numbers are read, as many as it has; NULL: it again. */
void nsk_pass_lend(nsk_pass *pass, int value, const float *numbers);
/* The memory of a computed value, to be changed between runs; NULL for a constant. */
float *nsk_pass_memory(nsk_pass *pass, int value);
/* Runs again what depends on the value. */
void nsk_pass_run_behind(nsk_pass *pass, int value);
/* What a value holds after the run. */
const float *nsk_pass_value(const nsk_pass *pass, int value);

/* What a camera byte of that channel becomes: training's own preparation, then what the graph's own
 * first nodes do to their input. */
double nsk_prepared(const nsk_graph *graph, const nsk_input *input, size_t channel, double byte);

/* The same for a frame: channel-interleaved bytes to planes of values. */
void nsk_float_prepare(const nsk_graph *graph, const nsk_input *input, const uint8_t *frame,
                       float *planes);

/* Computes a node whose inputs are all constants; its output becomes one, and the node dies. */
nsk_evaluator nsk_evaluate;

/* The integer that a number without fraction is, saturated. */
int64_t nsk_whole_of(double x);

#endif
