/* onnx/read: an ONNX file to a graph. */
#ifndef NSK_ONNX_READ_H
#define NSK_ONNX_READ_H

#include "graph/graph.h"
#include "onnx.pb-c.h"

/* Stands for one of the graph's inputs. A computed one becomes a part of the graph's single input;
 * the others are constants. */
typedef struct nsk_onnx_binding {
    const Onnx__TensorProto *tensor;
    bool computed;
} nsk_onnx_binding;

typedef struct nsk_onnx_options {
    const nsk_input *input; /* sizes that the file leaves open; may be NULL */
    const char *folder;     /* where external data stands; may be NULL */
    const char *output;     /* the output to keep where there are several; may be NULL */
    /* For test cases: what the inputs are, in order; NULL: one batch of pictures. */
    const nsk_onnx_binding *bindings;
    int bound;
} nsk_onnx_options;

/* Reads the graph as it stands: no shapes inferred beyond inputs and constants, nothing folded. */
nsk_graph *nsk_onnx_read(const uint8_t *bytes, size_t size, const nsk_onnx_options *options,
                         nsk_error *error);

#endif
