/* lowered/lowered: a network as the layers that the device has, still in float. Tensors are
 * height x width x channels here; weights stand in the device's order. */
#ifndef NSK_LOWERED_LOWERED_H
#define NSK_LOWERED_LOWERED_H

#include "graph/graph.h"

/* An element's size: 2 to the power of this, bytes. */
typedef enum nsk_element { NSK_ELEMENT_8, NSK_ELEMENT_16, NSK_ELEMENT_32 } nsk_element;

/* In which order a value's elements stand in a tensor: a picture's channels last, all else as in
 * ONNX (lower/views.h); as in ONNX, pictures too; or in another. */
typedef enum nsk_order { NSK_ORDER_PLAIN, NSK_ORDER_OF_ONNX, NSK_ORDER_OTHER } nsk_order;

typedef struct nsk_lowered_tensor {
    int value; /* of the graph: whose range it has */
    nsk_order order;
    nsk_element element;
    bool fine; /* int16, each level of 256 parts; its scale is that of a level */
    int height, width, channels;
    int shares;   /* tensor whose scale this one must have, or NSK_NONE */
    int alias_of; /* tensor in whose bytes this one stands, as another shape or a slice of it, or
                   * NSK_NONE */
    bool slice;
    int first_channel; /* of a slice, in what it stands in */
} nsk_lowered_tensor;

/* A multiplier of sums of products: factor / 2^shift, see src/device/arithmetic.h. */
typedef struct nsk_requantise_multiplier {
    int factor, shift;
} nsk_requantise_multiplier;

typedef struct nsk_lowered_layer {
    nsk_kind kind;
    const char *name;    /* the node's */
    int in, second, out; /* tensors; second may be NSK_NONE, and is a convolution's scratch */
    nsk_window_attributes window;
    double low, high; /* the output's clamp */

    /* conv, depthwise, dense, transposed convolution */
    int taps;       /* weights of one output channel */
    int bits;       /* of each, in flash: 4 to 6, packed; 0: 8 */
    float *weights; /* conv: [out][taps]; depthwise: [taps][out]; dense: [out][taps]; or NULL */
    float *bias;    /* [out], or NULL */
    int8_t *levels; /* the weights as integers, where they are not just rounded; or NULL */
    nsk_requantise_multiplier *multipliers; /* [out]: those that the levels are for; or NULL */
    float *steps; /* [out]: the scales that the file stored its weights at, or NULL */

    const nsk_program *program; /* lut: the function, or NULL for the clamp alone */
    int sign[2];                /* add: of each input */
    bool total;                 /* average_pool: the sum instead */
    bool least;                 /* max_pool: the minimum instead */
    bool shares, each;          /* scores: a softmax of all; a sigmoid of each */
    float *values;              /* constant: of the output, in its order; or NULL */
    int value_count;
    uint16_t *blends; /* resize: first, second, part of each row and column; or NULL */

    double factor; /* matmul: of the product; 0: none */

    /* normalise: groups are the window's */
    int block;              /* numbers in a block */
    bool centred;           /* less the mean */
    double variance;        /* what is added to theirs */
    float *gains, *offsets; /* [out]; or NULL */

    /* copy */
    bool fills; /* the output with `filler` first */
    double filler;
    int32_t *moves; /* the numbers of src/device/format.h, the filler left open; or NULL */
    int loops;
    int joins_at; /* the first of the output's channels that the whole input, pixel by pixel,
                   * becomes; else NSK_NONE */
} nsk_lowered_layer;

typedef struct nsk_lowered {
    GArray *tensors; /* of nsk_lowered_tensor; the first is the input */
    GArray *layers;  /* of nsk_lowered_layer */
    int output;      /* tensor */
} nsk_lowered;

void nsk_lowered_free(nsk_lowered *lowered);

nsk_lowered_tensor *nsk_lowered_tensor_at(const nsk_lowered *lowered, int tensor);
/* Bytes of one of its rows. */
int nsk_lowered_row_bytes(const nsk_lowered_tensor *tensor);
/* The tensor whose bytes it stands in: itself, or the one that it is a shape or a slice of. */
int nsk_lowered_tensor_root(const nsk_lowered *lowered, int tensor);
nsk_lowered_layer *nsk_lowered_layer_at(const nsk_lowered *lowered, int layer);
/* What the device calls it: its kind, or that with packed weights. */
nsk_kind nsk_lowered_device_kind(const nsk_lowered_layer *layer);
/* Whether its second tensor is a scratch, which the device does not know as a tensor. */
bool nsk_lowered_has_scratch(const nsk_lowered_layer *layer);
/* The largest level that its weights can have. */
int nsk_lowered_most_level(const nsk_lowered_layer *layer);
/* Whether it has weights in the order of a depthwise convolution, [taps][out]. */
bool nsk_lowered_is_depthwise(const nsk_lowered_layer *layer);
/* The layer with a function of one number that is all that reads the tensor. NULL where there is
 * none, where others read it, too, and where its bytes or its scale are another tensor's as well.
 */
const nsk_lowered_layer *nsk_lowered_reader(const nsk_lowered *lowered, int tensor);

#endif
