/* Any bytes as an ONNX file: read, inferred, folded, lowered; never a crash. */
#include "float/forward.h"
#include "graph/graph.h"
#include "lower/lower.h"
#include "onnx/read.h"
#include "pipeline/pipeline.h"
#include "rewrite/rewrite.h"

int LLVMFuzzerTestOneInput(const uint8_t *data, size_t size);

int LLVMFuzzerTestOneInput(const uint8_t *data, size_t size) {
    nsk_error error;
    const nsk_onnx_options options = {0};
    nsk_graph *graph = nsk_onnx_read(data, size, &options, &error);
    if (graph != NULL && nsk_graph_infer(graph, nsk_evaluate, &error) &&
        nsk_graph_fold(graph, &error)) {
        nsk_lowered_free(nsk_lower_and_join(graph, &error));
    }
    nsk_graph_free(graph);
    return 0;
}
