/* float/kernel: one node's work in 32-bit floating point; one file a family of operators. */
#ifndef NSK_FLOAT_KERNEL_H
#define NSK_FLOAT_KERNEL_H

#include "graph/graph.h"

typedef struct nsk_step {
    const nsk_graph *graph;
    const nsk_node *node;
    const nsk_value *in, *out;            /* first input, output */
    const float *inputs[NSK_MOST_INPUTS]; /* NULL where there is none */
    const float *x;                       /* the first of them */
    float *y;
    float *scratch; /* nsk_scratch_needed floats */
} nsk_step;

typedef void nsk_float_kernel(const nsk_step *step);

/* step.c: the kernel of an operator, or NULL. */
nsk_float_kernel *nsk_kernel_of(nsk_op op);
/* Runs the step's node; graph, node, y and scratch are set before. `memory`: where each computed
 * value stands, or what is lent for a constant; NULL where all inputs are constants. */
void nsk_step_run(nsk_step *step, float *const *memory);

/* One a family of operators. */
#define NSK_OP_ROW(NAME, onnx, least, most, computed, reader, shape, kernel, lower)                \
    nsk_float_kernel nsk_float_##kernel;
#include "graph/ops.def"

/* Images are the parallel part, a thread each, so that each product of matrices runs on one:
 * OpenBLAS is told once in a process's life. */
void nsk_blas_on_one_thread(void);

/* The function of two numbers that the operator applies to each pair of elements. */
nsk_function nsk_pair_function(nsk_op op);

size_t nsk_scratch_needed(const nsk_graph *graph, const nsk_node *node);

/* Where the output's element `index` stands in an input that may be smaller along some axes. */
size_t nsk_broadcast_at(const nsk_value *out, const nsk_value *in, size_t index);

/* The matrix of `value` that the output's matrix `index` is made of: leading axes are broadcast. */
size_t nsk_matrix_at(const nsk_value *out, const nsk_value *value, size_t index);

/* For each element of the node's output the element of its first input that it is, or -1 for one
 * that Pad fills: Transpose, Slice, Split, Pad, Expand, Tile and the two shuffles. */
void nsk_sources_of(const nsk_graph *graph, const nsk_node *node, int32_t *sources);
bool nsk_only_moves(nsk_op op);
/* Concat, on elements of `width` bytes. */
void nsk_join(const nsk_step *s, const void *const *inputs, void *joined, size_t width);

#endif
