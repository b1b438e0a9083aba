/* graph/infer: what the functions that infer shapes share. */
#ifndef NSK_GRAPH_INFER_H
#define NSK_GRAPH_INFER_H

#include "graph/graph.h"

typedef struct nsk_scope {
    nsk_graph *graph;
    nsk_node *node;
    nsk_error *error;
} nsk_scope;

/* Errors that name the node; all return false. */
bool nsk_complain(const nsk_scope *s, const char *text);
bool nsk_complain_unsupported(const nsk_scope *s, const char *text);
bool nsk_complain_shape(const nsk_scope *s, int input, const char *wanted);

/* Sets the output's shape; each axis needs 1 or more. */
bool nsk_give(const nsk_scope *s, int rank, const int64_t *dims);
bool nsk_give_input(const nsk_scope *s);

/* An axis counted from the front; NSK_NONE where it lies outside of `rank`. */
int nsk_axis(int64_t axis, int rank);

/* Whether all inputs of the node are constants. */
bool nsk_is_of_constants(const nsk_graph *graph, const nsk_node *node);

typedef bool nsk_shape_function(const nsk_scope *s);

/* One a family of operators: shapes.c; rearrange.c has those that move elements without computing.
 */
#define NSK_OP_ROW(NAME, onnx, least, most, computed, reader, shape, kernel, lower)                \
    nsk_shape_function nsk_shape_##shape;
#include "graph/ops.def"

#endif
