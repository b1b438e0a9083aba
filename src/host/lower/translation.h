/* lower/translation: what the files that lower operators share, and what they give: one function an
 * operator, in the table of lower.c. */
#ifndef NSK_LOWER_TRANSLATION_H
#define NSK_LOWER_TRANSLATION_H

#include "lower/views.h"

/* An input of the node, or NULL. */
const nsk_value *nsk_translation_input(const nsk_translation *l, const nsk_node *node, int input);
/* A layer from tensor `in` to a new one of the node's output, with the node's clamp; NULL and an
 * error where there can be none, or `in` is NSK_NONE. */
nsk_lowered_layer *nsk_translation_add(nsk_translation *l, const nsk_node *node, nsk_kind kind,
                                       int in);
/* The same, the new tensor being one pixel: its bytes stand as in the plain layout all the same. */
nsk_lowered_layer *nsk_translation_add_pixel(nsk_translation *l, const nsk_node *node,
                                             nsk_kind kind, int in);
/* The output takes the input's scale; false where the layer is NULL. */
bool nsk_translation_share_scale(const nsk_translation *l, const nsk_lowered_layer *layer);

/* Do kernel, stride, dilation and pads fit the model file's bytes? An error else. */
bool nsk_translation_window_fits(const nsk_translation *l, const nsk_node *node);
/* True, and an error, where the node runs on several pictures at once. */
bool nsk_translation_is_batch(const nsk_translation *l, const nsk_node *node);

/* Gives tensors whose values are to be fine their elements, and layers around them their kinds;
 * false and an error where one cannot. Before scratches are added. */
bool nsk_translation_make_fine(nsk_translation *l);

typedef bool nsk_lower_operator(nsk_translation *l, const nsk_node *node);

/* One a family of operators: lower.c has those that cannot be lowered. */
#define NSK_OP_ROW(NAME, onnx, least, most, computed, reader, shape, kernel, lower)                \
    nsk_lower_operator nsk_lower_##lower;
#include "graph/ops.def"

#endif
