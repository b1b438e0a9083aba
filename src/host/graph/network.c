/* The handle of netsuke/host.h: a graph that has been read, checked and folded. */
#include <math.h>
#include <string.h>

#include "float/forward.h"
#include "graph/graph.h"
#include "onnx/read.h"

static const size_t MOST_BYTES = (size_t)512 << 20;

/* Adds a softmax where the network ends in plain scores, so that both halves give probabilities. */
static void end_in_softmax(nsk_graph *graph) {
    const nsk_node *last = nsk_graph_node(graph, nsk_graph_value(graph, graph->output)->producer);
    if (last->op == NSK_OP_SOFTMAX) {
        return;
    }
    int scores = graph->output;
    nsk_value shape = *nsk_graph_value(graph, scores);
    graph->output = nsk_graph_add_value(graph, "netsuke:probabilities");
    int index = nsk_graph_add_node(graph, NSK_OP_SOFTMAX, "softmax (added)", graph->output);
    nsk_node *node = nsk_graph_node(graph, index);
    node->input[0] = scores;
    node->inputs = 1;
    node->attributes.axis = 1;
    nsk_value *out = nsk_graph_value(graph, graph->output);
    out->rank = shape.rank;
    memcpy(out->dims, shape.dims, sizeof out->dims);
    out->shaped = true;
}

static bool check_output(const nsk_graph *graph, nsk_error *error) {
    const nsk_value *out = nsk_graph_value(graph, graph->output);
    size_t count = nsk_value_count(out);
    char shape[160];
    if (nsk_graph_value(graph, graph->output)->producer == NSK_NONE) {
        return nsk_fail(error, "the graph does nothing with its input");
    }
    if (out->rank < 2 || count != (size_t)out->dims[1] || count < 2) {
        return nsk_fail(error, "output '%s' is %s; a classifier gives 1 x classes, two or more",
                        out->name, nsk_value_text(out, shape, sizeof shape));
    }
    return true;
}

static bool prepare_graph(nsk_graph *graph, nsk_error *error) {
    if (!nsk_graph_infer(graph, error) || !nsk_graph_fold(graph, error) ||
        !check_output(graph, error)) {
        return false;
    }
    end_in_softmax(graph);
    return true;
}

nsk_network *nsk_network_read(const char *path, nsk_input *input, nsk_error *error) {
    size_t size;
    uint8_t *bytes = nsk_file_read(path, MOST_BYTES, &size, error);
    if (bytes == NULL) {
        return NULL;
    }
    nsk_graph *graph = nsk_onnx_read(bytes, size, input, error);
    g_free(bytes);
    if (graph == NULL || !prepare_graph(graph, error)) {
        nsk_graph_free(graph);
        nsk_fail_in(error, "%s", path);
        return NULL;
    }
    const nsk_value *in = nsk_graph_value(graph, graph->input);
    if (input != NULL) {
        input->height = (int)in->dims[2];
        input->width = (int)in->dims[3];
    }
    nsk_network *network = g_new0(nsk_network, 1);
    network->graph = graph;
    network->path = g_strdup(path);
    return network;
}

void nsk_network_free(nsk_network *network) {
    if (network != NULL) {
        nsk_graph_free(network->graph);
        g_free(network->path);
        g_free(network);
    }
}

int nsk_network_classes(const nsk_network *network) {
    return (int)nsk_graph_value(network->graph, network->graph->output)->dims[1];
}

bool nsk_network_score(const nsk_network *network, const nsk_input *input, const uint8_t *frame,
                       float *probabilities, nsk_error *error) {
    nsk_pass *pass = nsk_pass_new(network->graph, error);
    if (pass == NULL) {
        return false;
    }
    nsk_float_prepare(input, frame, nsk_pass_input(pass));
    nsk_pass_run(pass);
    memcpy(probabilities, nsk_pass_value(pass, network->graph->output),
           (size_t)nsk_network_classes(network) * sizeof *probabilities);
    nsk_pass_free(pass);
    return true;
}

static void outline_node(const nsk_graph *graph, const nsk_node *node, nsk_outline_layer *layer) {
    const nsk_value *out = nsk_graph_value(graph, node->output);
    bool picture = out->rank == 4;
    layer->name = node->name;
    layer->kind = nsk_op_name(node->op);
    layer->folded = node->folded->str;
    layer->height = picture ? (int)out->dims[2] : 1;
    layer->width = picture ? (int)out->dims[3] : 1;
    layer->channels = picture ? (int)out->dims[1] : (int)nsk_value_count(out);
    const nsk_window_attributes *w = &node->attributes.window;
    for (int axis = 0; axis < 2; axis++) {
        layer->kernel[axis] = (int)w->kernel[axis];
        layer->stride[axis] = (int)w->stride[axis];
    }
    layer->groups = node->op == NSK_OP_CONV ? (int)w->groups : 0;
    layer->depthwise =
        layer->groups > 1 && layer->groups == nsk_node_input(graph, node, 0)->dims[1];
    layer->parameters = nsk_node_parameters(graph, node);
    layer->macs = nsk_node_macs(graph, node);
}

nsk_outline *nsk_network_outline(const nsk_network *network) {
    const nsk_graph *graph = network->graph;
    nsk_outline *outline = g_new0(nsk_outline, 1);
    const nsk_value *in = nsk_graph_value(graph, graph->input);
    outline->channels = (int)in->dims[1];
    outline->height = (int)in->dims[2];
    outline->width = (int)in->dims[3];
    outline->layers = g_new0(nsk_outline_layer, graph->nodes->len);
    for (int i = 0; i < (int)graph->nodes->len; i++) {
        const nsk_node *node = nsk_graph_node(graph, i);
        if (!node->dead) {
            nsk_outline_layer *layer = &outline->layers[outline->count++];
            outline_node(graph, node, layer);
            outline->parameters += layer->parameters;
            outline->macs += layer->macs;
        }
    }
    return outline;
}

void nsk_outline_free(nsk_outline *outline) {
    if (outline != NULL) {
        g_free(outline->layers);
        g_free(outline);
    }
}
