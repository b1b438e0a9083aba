/* onnx/read: an ONNX file to a graph. */
#ifndef NSK_ONNX_READ_H
#define NSK_ONNX_READ_H

#include "graph/graph.h"

/* Reads the graph as it stands: no shapes inferred beyond inputs and constants, nothing folded. A
 * size that the file leaves open becomes that of `input`, which may be NULL. */
nsk_graph *nsk_onnx_read(const uint8_t *bytes, size_t size, const nsk_input *input,
                         nsk_error *error);

#endif
