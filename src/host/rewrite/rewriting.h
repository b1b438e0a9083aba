/* rewrite/rewriting: what the files that write operators out in others share. New nodes are
 * appended; nsk_graph_sort puts them in their places. */
#ifndef NSK_REWRITE_REWRITING_H
#define NSK_REWRITE_REWRITING_H

#include "rewrite/rewrite.h"

typedef struct nsk_rewriting {
    nsk_graph *graph;
    nsk_node *node; /* being written out */
    int made;       /* names of new nodes are numbered */
    nsk_error *error;
    bool good;
} nsk_rewriting;

typedef void nsk_rewriter(nsk_rewriting *r);

/* Runs a table's rewrites, one an operator or NULL, on every node, in order, those appended
 * meanwhile too. */
bool nsk_rewriting_apply(nsk_graph *graph, nsk_rewriter *const *rewrites, nsk_error *error);

/* A name for a new node or constant. g_free. */
char *nsk_rewriting_name(nsk_rewriting *r);
/* A new node, its shape inferred; returns its output. `attributes` may be NULL. */
int nsk_rewriting_append(nsk_rewriting *r, nsk_op op, int count, const int *inputs,
                         const nsk_attributes *attributes);
int nsk_rewriting_function(nsk_rewriting *r, int input, nsk_function_step step);
int nsk_rewriting_pair(nsk_rewriting *r, nsk_op op, int left, int right);
int nsk_rewriting_reshape(nsk_rewriting *r, int value, int rank, const int64_t *dims);
/* A new constant; takes over `data`. Of whole numbers: a copy. */
int nsk_rewriting_constant(nsk_rewriting *r, int rank, const int64_t *dims, float *data);
int nsk_rewriting_list(nsk_rewriting *r, int count, const int64_t *numbers);
/* The constant, each element run through a function. */
int nsk_rewriting_mapped(nsk_rewriting *r, int value, nsk_function_step step);
/* The node that computes the value, where it is of that operator and clamps nothing; or NULL. */
const nsk_node *nsk_maker_of(const nsk_graph *graph, int value, nsk_op op);
/* Whether the value, which may be NSK_NONE, is a constant of one number; which. */
bool nsk_single_number(const nsk_graph *graph, int value, double *number);
/* The last node of those that replace r->node: it takes over its output, name and clamp. */
void nsk_rewriting_finish(nsk_rewriting *r, int value);

/* Rewrites in files of their own. */
nsk_rewriter nsk_write_out_einsum;  /* einsum.c */
nsk_rewriter nsk_write_out_resize;  /* resize.c */
nsk_rewriter nsk_write_out_line;    /* line.c: windows along a line */
nsk_rewriter nsk_write_out_decided; /* choice.c: a Where of one constant */
nsk_rewriter nsk_take_in;           /* take_in.c: what stands around a Normalise */
/* normalise.c: those that are written out become one node each. */
bool nsk_graph_find_normalisations(nsk_graph *graph, nsk_error *error);

#endif
