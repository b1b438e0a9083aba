/* graph: the float network, as ONNX means it: values (tensors) and nodes in an order in which they
 * can be run. Tensors keep ONNX's own order of axes (batch, channels, rows, columns).
 *
 * To add an operator: a line in nsk_op here, a reader in onnx/operators.c, a shape in
 * graph/shapes.c, a forward pass in float/forward.c and a lowering in quantise/lower.c; each is a
 * line in a table and one function.
 */
#ifndef NSK_GRAPH_H
#define NSK_GRAPH_H

#include "base/base.h"

typedef enum nsk_op {
    NSK_OP_ADD,
    NSK_OP_AVERAGE_POOL,
    NSK_OP_BATCH_NORM,
    NSK_OP_CLIP,
    NSK_OP_CONSTANT,
    NSK_OP_CONV,
    NSK_OP_DROPOUT,
    NSK_OP_FLATTEN,
    NSK_OP_GEMM,
    NSK_OP_GLOBAL_AVERAGE_POOL,
    NSK_OP_GLOBAL_MAX_POOL,
    NSK_OP_IDENTITY,
    NSK_OP_MATMUL,
    NSK_OP_MAX_POOL,
    NSK_OP_MUL,
    NSK_OP_PAD,
    NSK_OP_RELU,
    NSK_OP_RESHAPE,
    NSK_OP_SOFTMAX,
    NSK_OPS
} nsk_op;

/* The ONNX name. */
const char *nsk_op_name(nsk_op op);

enum { NSK_MOST_RANK = 8, NSK_MOST_INPUTS = 8 };
enum { NSK_NONE = -1 }; /* no value, no node */

typedef struct nsk_value {
    char *name;
    int rank;
    int64_t dims[NSK_MOST_RANK];
    bool shaped;       /* rank and dims are known */
    float *data;       /* a constant's elements, else NULL */
    int64_t *integers; /* a constant of integers, else NULL */
    int producer;      /* node, or NSK_NONE */
} nsk_value;

typedef enum nsk_auto_pad {
    NSK_PAD_GIVEN,
    NSK_PAD_SAME_UPPER,
    NSK_PAD_SAME_LOWER,
    NSK_PAD_VALID
} nsk_auto_pad;

/* Windows of convolutions and pools: [0] down, [1] across. */
typedef struct nsk_window_attributes {
    int64_t kernel[2], stride[2], dilation[2];
    int64_t pad_before[2], pad_after[2];
    int64_t groups;
    nsk_auto_pad auto_pad;
    bool ceil_mode, count_include_pad;
} nsk_window_attributes;

typedef struct nsk_attributes {
    nsk_window_attributes window;  /* Conv, pools, Pad (before and after) */
    double epsilon;                /* BatchNormalization */
    double alpha, beta;            /* Gemm */
    bool transpose_a, transpose_b; /* Gemm */
    int64_t axis;                  /* Flatten, Softmax */
    bool flatten_from_axis;        /* Softmax before opset 13: over all axes from `axis` on */
    bool allow_zero;               /* Reshape */
    double low, high;              /* Clip, when given as attributes */
    int constant;                  /* Constant: the value that holds it */
} nsk_attributes;

typedef struct nsk_node {
    nsk_op op;
    char *name;
    int input[NSK_MOST_INPUTS]; /* values, or NSK_NONE */
    int inputs;
    int output;
    nsk_attributes attributes;
    double low, high; /* the result is clamped to this: activations folded into the node */
    GString *folded;  /* what was folded into it, for people */
    bool dead;
} nsk_node;

typedef struct nsk_graph {
    GArray *values; /* of nsk_value */
    GArray *nodes;  /* of nsk_node */
    int input, output;
} nsk_graph;

nsk_graph *nsk_graph_new(void);
void nsk_graph_free(nsk_graph *graph);

/* Pointers into the arrays hold until the next addition. */
nsk_value *nsk_graph_value(const nsk_graph *graph, int value);
nsk_node *nsk_graph_node(const nsk_graph *graph, int node);
int nsk_graph_add_value(nsk_graph *graph, const char *name);
int nsk_graph_find_value(const nsk_graph *graph, const char *name); /* or NSK_NONE */
/* Appends a node that writes `output`; inputs are added by the caller. */
int nsk_graph_add_node(nsk_graph *graph, nsk_op op, const char *name, int output);
bool nsk_graph_is_constant(const nsk_graph *graph, int value);
/* How many living nodes read the value, the graph's output counting as one. */
int nsk_graph_readers(const nsk_graph *graph, int value);
/* The input's value, or NULL where the node has none there. */
const nsk_value *nsk_node_input(const nsk_graph *graph, const nsk_node *node, int index);

/* Elements of a shaped value. */
size_t nsk_value_count(const nsk_value *value);
/* "1 x 16 x 24 x 24", in a buffer of the caller's. */
const char *nsk_value_text(const nsk_value *value, char *buffer, size_t size);

/* Infers and checks every shape, in order, and finishes attributes that depend on shapes (auto_pad,
 * kernels left out). An inconsistency is an error that names the node. */
bool nsk_graph_infer(nsk_graph *graph, nsk_error *error);

/* Rewrites that leave the function the same: constants evaluated, pass-through nodes removed, pads,
 * batch normalisation, per-channel constants and clamping activations folded into what stands
 * before or behind them. Needs nsk_graph_infer first. */
bool nsk_graph_fold(nsk_graph *graph, nsk_error *error);

/* Multiply-accumulates of one node, taps in the padding left out, and its trained numbers. */
uint64_t nsk_node_macs(const nsk_graph *graph, const nsk_node *node);
uint64_t nsk_node_parameters(const nsk_graph *graph, const nsk_node *node);

/* The network behind netsuke/host.h's handle. */
struct nsk_network {
    nsk_graph *graph;
    char *path;
};

#endif
