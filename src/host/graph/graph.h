/* graph: the float network, as ONNX means it: values (tensors) and nodes in an order in which they
 * can be run. Tensors keep ONNX's own order of axes (batch, channels, rows, columns).
 *
 * To add an operator: a line in nsk_op here, a reader in onnx/operators.c, a shape in
 * graph/shapes.c, a forward pass in float/forward.c and a lowering in lower/lower.c; each is a
 * line in a table and one function (the latter in weights.c, windows.c or
 * elements.c). Channels that go through it can be taken out of a network where channels/pass.c has
 * a rule for it.
 */
#ifndef NSK_GRAPH_GRAPH_H
#define NSK_GRAPH_GRAPH_H

#include "base/base.h"
#include "graph/function.h"
#include "netsuke/network.h"

typedef enum nsk_op {
#define NSK_OP_ROW(NAME, onnx, least, most, computed, reader, shape, kernel, lower) NSK_OP_##NAME,
#include "graph/ops.def"
    NSK_OPS
} nsk_op;

/* The ONNX name. */
const char *nsk_op_name(nsk_op op);

enum { NSK_MOST_RANK = 8, NSK_MOST_INPUTS = 64, NSK_MOST_EQUATION = 48 };
enum { NSK_NONE = -1 }; /* no value, no node */

typedef struct nsk_value {
    char *name;
    int rank;
    int64_t dims[NSK_MOST_RANK];
    bool shaped;       /* rank and dims are known */
    bool whole;        /* elements are integers: shapes, indices */
    bool truth;        /* elements are 0 or 1: what a comparison gives */
    float *data;       /* a constant's elements, else NULL */
    int64_t *integers; /* a constant of integers, else NULL */
    int bits;          /* of an integer constant as the file has it; 0: computed here */
    bool is_unsigned;  /* a constant of unsigned integers */
    int producer;      /* node, or NSK_NONE */
    /* What the file says of integers: the int8 levels at which a computed value was rounded; the
     * scales of a constant that was stored as int8, one, or one for each place along an axis. */
    bool pinned;
    bool pinned_wide; /* to int16 instead */
    bool fine;        /* each of those levels is to have 256 parts */
    float pinned_scale;
    int pinned_zero;
    float *steps;
    int step_count, step_axis;
} nsk_value;

typedef enum nsk_auto_pad {
    NSK_AUTO_PAD_GIVEN,
    NSK_AUTO_PAD_SAME_UPPER,
    NSK_AUTO_PAD_SAME_LOWER,
    NSK_AUTO_PAD_VALID
} nsk_auto_pad;

/* Windows of convolutions and pools: [0] down, [1] across. */
typedef struct nsk_window_attributes {
    int64_t kernel[2], stride[2], dilation[2];
    int64_t pad_before[2], pad_after[2];
    int axes; /* 1 for windows along a line, 2 for those over rows and columns; 0: not said */
    int64_t groups;
    nsk_auto_pad auto_pad;
    bool ceil_mode, count_include_pad;
} nsk_window_attributes;

/* How Pad fills, how Resize interpolates, in which order DepthToSpace reads. */
typedef enum nsk_mode {
    NSK_MODE_CONSTANT,
    NSK_MODE_REFLECT,
    NSK_MODE_EDGE,
    NSK_MODE_WRAP,
    NSK_MODE_NEAREST,
    NSK_MODE_LINEAR,
    NSK_MODE_CUBIC,
    NSK_MODE_DEPTH_FIRST, /* DCR */
    NSK_MODE_COLUMN_FIRST /* CRD */
} nsk_mode;

/* Resize: from an output's coordinate to an input's. */
typedef enum nsk_coordinates {
    NSK_COORDINATES_HALF_PIXEL,
    NSK_COORDINATES_PYTORCH_HALF_PIXEL,
    NSK_COORDINATES_ALIGN_CORNERS,
    NSK_COORDINATES_ASYMMETRIC,
    NSK_COORDINATES_HALF_PIXEL_FOR_NEAREST,
    NSK_COORDINATES_HALF_PIXEL_SYMMETRIC
} nsk_coordinates;

typedef enum nsk_nearest_mode {
    NSK_NEAREST_MODE_PREFER_FLOOR,
    NSK_NEAREST_MODE_PREFER_CEIL,
    NSK_NEAREST_MODE_FLOOR,
    NSK_NEAREST_MODE_CEIL
} nsk_nearest_mode;

/* Resize to sizes: exactly those, or all axes by the least or the largest enlargement of them. */
typedef enum nsk_aspect {
    NSK_ASPECT_STRETCH,
    NSK_ASPECT_NOT_LARGER,
    NSK_ASPECT_NOT_SMALLER
} nsk_aspect;

typedef struct nsk_attributes {
    nsk_window_attributes window;  /* Conv, ConvTranspose, pools */
    double epsilon;                /* BatchNormalization; Normalise: blocks.h */
    double alpha, beta, bias;      /* Gemm, LRN; ConstantOfShape: alpha is the number; MatMul:
                                    * alpha times the product, where it is not 0; Resize: the
                                    * cubic's steepness */
    int64_t size;                  /* LRN; DepthToSpace, SpaceToDepth: block; Normalise: groups */
    bool transpose_a, transpose_b; /* Gemm */
    int64_t axis;                  /* Flatten, Softmax, Concat, Gather, Split */
    bool meets_at_axis;            /* Add and its kin before opset 7: input 2 stands at `axis` */
    bool flatten_from_axis;        /* Softmax before opset 13: over all axes from `axis` on */
    bool allow_zero;               /* Reshape */
    bool keep_axes;                /* ReduceMean and its kin */
    bool none_means_all;           /* of axes to reduce */
    bool whole;                    /* Cast: to integers; ConstantOfShape: of integers */
    bool truth;                    /* Cast: to 0 and 1 */
    bool is_signed;                /* QuantizeLinear: to int8 where no zero point says so */
    bool centred, by_channel;      /* Normalise */
    int64_t list[NSK_MOST_RANK];   /* Transpose: order; Shape: start, end; ConvTranspose: output;
                                    * Normalise: first axis, one past the last; Resize: axes */
    int listed;
    int64_t extra[2]; /* ConvTranspose: output_padding */
    int part, parts;  /* Split: which of how many outputs */
    bool uneven;      /* Split: the last of equal parts may be smaller */
    nsk_mode mode;
    nsk_coordinates coordinates;
    nsk_nearest_mode nearest;
    nsk_aspect aspect;                /* Resize */
    bool antialias, exclude_outside;  /* Resize */
    char equation[NSK_MOST_EQUATION]; /* Einsum, without blanks */
} nsk_attributes;

typedef struct nsk_node {
    nsk_op op;
    char *name;
    int input[NSK_MOST_INPUTS]; /* values, or NSK_NONE */
    int inputs;
    int output;
    nsk_attributes attributes;
    nsk_program *program; /* Function */
    double low, high;     /* the result is clamped to this: activations folded into the node */
    GString *folded;      /* what was folded into it, for people */
    bool dead;
} nsk_node;

typedef struct nsk_graph {
    GPtrArray *values; /* of nsk_value */
    GPtrArray *nodes;  /* of nsk_node */
    int input, output;
    /* Arithmetic on the input that preparation does instead, by channel: x gain + offset. */
    double input_gain[3], input_offset[3];
    bool raw_input;         /* the file takes camera bytes (uint8) */
    char *facts[NSK_FACTS]; /* from the file's metadata; may be NULL */
    GPtrArray *notes;       /* of char *: what was read in another way than it stands there */
} nsk_graph;

nsk_graph *nsk_graph_new(void);
void nsk_graph_free(nsk_graph *graph);
nsk_graph *nsk_graph_copy(const nsk_graph *graph);

nsk_value *nsk_graph_value(const nsk_graph *graph, int value);
nsk_node *nsk_graph_node(const nsk_graph *graph, int node);
int nsk_graph_add_value(nsk_graph *graph, const char *name);
int nsk_graph_find_value(const nsk_graph *graph, const char *name); /* or NSK_NONE */
/* Appends a node that writes `output`; inputs are added by the caller. */
int nsk_graph_add_node(nsk_graph *graph, nsk_op op, const char *name, int output);
/* The same, with `count` inputs and a new value for output; returns that value. */
int nsk_graph_append(nsk_graph *graph, nsk_op op, const char *name, int count, const int *inputs);
/* A constant of numbers or of integers; takes over the elements (g_free). */
int nsk_graph_add_constant(nsk_graph *graph, const char *name, int rank, const int64_t *dims,
                           float *data);
int nsk_graph_add_integers(nsk_graph *graph, const char *name, int rank, const int64_t *dims,
                           int64_t *integers);
/* The same of a list; the numbers are copied. */
int nsk_graph_add_list(nsk_graph *graph, const char *name, int count, const int64_t *numbers);
bool nsk_graph_is_constant(const nsk_graph *graph, int value);
/* How many living nodes read the value, the graph's output counting as one. */
int nsk_graph_readers(const nsk_graph *graph, int value);
/* The input's value, or NULL where the node has none there. */
const nsk_value *nsk_node_input(const nsk_graph *graph, const nsk_node *node, int index);

/* What a MatMul's product is multiplied by; what is added to each column is its third input, which
 * it has from rewriting only. */
static inline double nsk_matmul_factor(const nsk_node *node) {
    return node->attributes.alpha > 0.0 ? node->attributes.alpha : 1.0;
}

/* Rows and columns of a picture (batch, channels, rows, columns); one of three axes is one row. */
static inline int64_t nsk_value_rows(const nsk_value *picture) {
    return picture->rank == 3 ? 1 : picture->dims[2];
}
static inline int64_t nsk_value_columns(const nsk_value *picture) {
    return picture->dims[picture->rank - 1];
}
/* Elements of a shaped value. */
size_t nsk_value_count(const nsk_value *value);
/* "1 x 16 x 24 x 24", in a buffer of the caller's. */
const char *nsk_value_text(const nsk_value *value, char *buffer, size_t size);

/* Computes a node whose inputs are all constants: float/constants.c has the one. */
typedef bool nsk_evaluator(nsk_graph *graph, nsk_node *node, nsk_error *error);
/* Infers and checks every shape, in order, finishes attributes that depend on shapes (auto_pad,
 * kernels left out) and has nodes evaluated whose inputs are all constants. An inconsistency is an
 * error that names the node. */
bool nsk_graph_infer(nsk_graph *graph, nsk_evaluator *evaluate, nsk_error *error);
/* One node of it: shapes.c and rearrange.c hold a function an operator. */
bool nsk_infer_node(nsk_graph *graph, nsk_node *node, nsk_evaluator *evaluate, nsk_error *error);

/* Orders the nodes so that each stands behind those it reads from, and drops those that the output
 * does not need. */
void nsk_graph_sort(nsk_graph *graph);

/* Makes every reader of the node's output read `value` instead, and the node disappear. */
void nsk_graph_bypass(nsk_graph *graph, nsk_node *node, int value);
nsk_node *nsk_graph_producer(const nsk_graph *graph, int value); /* or NULL */
/* Elements of the output are elements of the first input. */
bool nsk_op_keeps_elements(nsk_op op);
/* Its elements are 0 or 1, whatever it is given: comparisons and their like. */
bool nsk_node_answers(const nsk_node *node);
/* Remembers for people that `gone` is now done by `into`. */
void nsk_node_note(nsk_node *into, const nsk_node *gone);
/* The clamp that ends a node: activations folded into it, and a Relu's or Clip's own. */
void nsk_clamp_of(const nsk_graph *graph, const nsk_node *node, double *low, double *high);
/* Adds a note: printf's words. */
void nsk_graph_note(const nsk_graph *graph, const char *format, ...) NSK_PRINTF(2, 3);
/* What to call the node for people: its operator, or its function's. */
const char *nsk_node_kind(const nsk_node *node);

/* Multiply-accumulates of one node, taps in the padding left out, and its trained numbers. */
uint64_t nsk_node_macs(const nsk_graph *graph, const nsk_node *node);
uint64_t nsk_node_parameters(const nsk_graph *graph, const nsk_node *node);

#endif
