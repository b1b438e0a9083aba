/* lower/views: how the device sees the graph's values. A value stands in a tensor of the device
 * as height x width x channels; one that only moves elements of another (a reshape, a slice, a
 * transposition) is a view of that other's tensor, and nothing is copied until a layer needs it as
 * a tensor of its own. Then as few copying layers are made as the pattern allows, often none. */
#ifndef NSK_LOWER_VIEWS_H
#define NSK_LOWER_VIEWS_H

#include "lowered/lowered.h"

typedef struct nsk_view {
    int tensor;      /* NSK_NONE: the value has no tensor */
    int32_t *source; /* for each element, in ONNX's order, the tensor's; NULL: the plain layout */
} nsk_view;

/* What lowering works on. */
typedef struct nsk_translation {
    const nsk_graph *graph;
    nsk_lowered *result;
    nsk_view *views; /* one a value */
    nsk_error *error;
} nsk_translation;

/* The plain layout: a picture (1 x C x H x W) has its channels last, everything else keeps ONNX's
 * order, its last axis being the channels. False where an axis is too long for the device. */
bool nsk_plain_layout(const nsk_value *value, nsk_lowered_tensor *layout);
/* Where an element of the value stands in it. */
int32_t nsk_plain_place(const nsk_value *value, size_t element);
/* The same without a division: element plane * each + at stands at place at * planes + plane. */
typedef struct nsk_planes {
    size_t planes, each;
} nsk_planes;
nsk_planes nsk_plain_planes(const nsk_value *value);

/* 0, 1, 2, ...: ONNX's own order. g_free. */
int32_t *nsk_own_order(size_t count);

/* A new tensor of the value's plain layout, and the value's view of it; NSK_NONE and an error that
 * names the node where there can be none. */
int nsk_view_new(nsk_translation *l, const nsk_node *node, int value);
/* A new tensor of another layout. */
int nsk_translation_add_tensor(nsk_translation *l, const nsk_node *node, int value, int64_t height,
                               int64_t width, int64_t channels);

/* The tensor that holds the value in its plain layout, made by a copy where it must be. A constant
 * comes out of the model file. NSK_NONE and an error where it cannot be had. */
int nsk_view_plain(nsk_translation *l, const nsk_node *node, int value);

/* The value is seen in the tensor from here on, which was made for it: element i stands at
 * source[i] of it (NULL: the plain layout). Takes over `source` (g_free). */
void nsk_view_set(nsk_translation *l, int value, int tensor, int32_t *source);

/* The tensor that holds the value in whatever order; a constant comes out of the model file. */
int nsk_view_any(nsk_translation *l, const nsk_node *node, int value);

/* A tensor that holds the value's elements and nothing else, in whatever order, and where each
 * stands in it (g_free; NULL, as the result is NSK_NONE, where there is an error). */
int nsk_view_whole(nsk_translation *l, const nsk_node *node, int value, int32_t **places);

/* For each element of the value, in ONNX's order, where it stands in its tensor. g_free. */
int32_t *nsk_view_places(const nsk_translation *l, int value);

/* Makes a new tensor of elements of `tensor`: element i of the new one is `places[i]` of the old.
 * The old tensor itself, seen in another shape, where nothing moves. */
int nsk_view_gather(nsk_translation *l, const nsk_node *node, int value, int tensor,
                    const int32_t *places, const nsk_lowered_tensor *layout);

/* A layer that copies `count` elements from in[i] of one tensor to out[i] of another. */
nsk_lowered_layer *nsk_view_copy(nsk_translation *l, const nsk_node *node, int from, int to,
                                 size_t count, const int32_t *in, const int32_t *out);

/* A layer of that kind from tensor to tensor. */
nsk_lowered_layer *nsk_translation_add_layer(nsk_translation *l, const nsk_node *node,
                                             nsk_kind kind, int in, int out);

/* "layer 'X' (Conv) has no integer form: text"; returns false. */
bool nsk_no_integer_form(const nsk_translation *l, const nsk_node *node, const char *text);

#endif
