/* formulas: what operators compute, straight from the standard's text, in double precision. */
#ifndef NSK_TESTS_FORMULAS_H
#define NSK_TESTS_FORMULAS_H

#include <stdbool.h>
#include <stddef.h>

enum { MOST_AXES = 6 };

/* `type`: f (float), l (int64), c (int8), b (bool). */
typedef struct tensor {
    char name[16];
    char type;
    int rank, dims[MOST_AXES];
    double *at;
} tensor;

/* The node as text, and its inputs in their order; those left out have no numbers. */
typedef struct call {
    const char *node;
    int opset, inputs;
    tensor input[6];
} call;

size_t count_of(const tensor *t);

/* Fills shape and numbers of the output number `which`. */
typedef void formula(const call *c, int which, tensor *out);

formula formula_function, formula_group_norm, formula_rms_norm, formula_attention, formula_rotary,
    formula_average_pool, formula_pad, formula_resize, formula_dequantize, formula_quantize,
    formula_reduce, formula_split;

#endif
