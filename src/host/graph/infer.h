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

typedef bool nsk_shape_function(const nsk_scope *s);

/* rearrange.c: operators that move elements without computing. */
nsk_shape_function nsk_cast_shape, nsk_concat_shape, nsk_constant_of_shape_shape,
    nsk_depth_to_space_shape, nsk_expand_shape, nsk_flatten_shape, nsk_gather_shape, nsk_pad_shape,
    nsk_range_shape, nsk_reshape_shape, nsk_resize_shape, nsk_shape_shape, nsk_slice_shape,
    nsk_space_to_depth_shape, nsk_squeeze_shape, nsk_tile_shape, nsk_transpose_shape,
    nsk_unsqueeze_shape;

#endif
