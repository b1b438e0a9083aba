/* The handle of netsuke/network.h: a graph that has been read, checked and folded. */
#include <math.h>
#include <string.h>

#include "device/fine.h"
#include "float/forward.h"
#include "network/network.h"
#include "onnx/read.h"
#include "rewrite/rewrite.h"

static const size_t MOST_BYTES = (size_t)512 << 20;

/* ---- how a classifier ends: in one line of probabilities ---- */

static bool only_reshapes(nsk_op op) {
    return op == NSK_OP_FLATTEN || op == NSK_OP_RESHAPE || op == NSK_OP_SQUEEZE ||
           op == NSK_OP_UNSQUEEZE;
}

/* The node that makes the scores, reshaping behind it set aside. */
static const nsk_node *last_node(const nsk_graph *graph) {
    const nsk_node *node = nsk_graph_producer(graph, graph->output);
    while (node != NULL && only_reshapes(node->op)) {
        node = nsk_graph_producer(graph, node->input[0]);
    }
    return node;
}

static int append_shaped(nsk_graph *graph, nsk_op op, const char *name, int count,
                         const int *inputs, int64_t classes) {
    int output = nsk_graph_append(graph, op, name, count, inputs);
    nsk_value *out = nsk_graph_value(graph, output);
    out->rank = 2;
    out->dims[0] = 1;
    out->dims[1] = classes;
    out->shaped = true;
    return output;
}

/* As 1 x classes. */
static void end_in_a_line(nsk_graph *graph) {
    static const int64_t two = 2;
    const nsk_value *out = nsk_graph_value(graph, graph->output);
    int64_t classes = (int64_t)nsk_value_count(out);
    if (out->rank == 2 && out->dims[1] == classes) {
        return;
    }
    int64_t *shape = g_new(int64_t, 2);
    shape[0] = 1;
    shape[1] = classes;
    const int inputs[2] = {graph->output,
                           nsk_graph_add_integers(graph, "netsuke:classes", 1, &two, shape)};
    graph->output = append_shaped(graph, NSK_OP_RESHAPE, "reshape (added)", 2, inputs, classes);
}

/* The last step of a function; NULL of another node. */
static const nsk_function_step *last_step(const nsk_node *node) {
    const nsk_program *p = node->op == NSK_OP_FUNCTION ? node->program : NULL;
    return p != NULL && p->count > 0 ? &p->steps[p->count - 1] : NULL;
}

/* One whose levels the file gives may have other levels than probabilities do. */
static bool is_sigmoid(const nsk_graph *graph, const nsk_node *node) {
    const nsk_function_step *last = last_step(node);
    return last != NULL && last->fn == NSK_FN_SIGMOID &&
           !nsk_graph_value(graph, node->output)->pinned;
}

/* Adds a softmax where the network ends in plain scores, so that both halves give probabilities. A
 * logarithm of them is one too: softmax takes it back. Sigmoids are probabilities already, one a
 * class by itself. */
static void end_in_softmax(nsk_graph *graph) {
    const nsk_node *last = last_node(graph);
    if (last != NULL && (last->op == NSK_OP_SOFTMAX || is_sigmoid(graph, last))) {
        return;
    }
    int64_t classes = nsk_graph_value(graph, graph->output)->dims[1];
    int scores = graph->output;
    graph->output = append_shaped(graph, NSK_OP_SOFTMAX, "softmax (added)", 1, &scores, classes);
    nsk_graph_producer(graph, graph->output)->attributes.axis = 1;
    if (last != NULL && last->op == NSK_OP_LOG_SOFTMAX) {
        nsk_graph_bypass(graph, nsk_graph_producer(graph, last->output), last->input[0]);
        nsk_graph_sort(graph);
    }
}

/* ---- two classes by one number ---- */

/* The logit of a network that ends in one sigmoid: what goes into that; NSK_NONE where it ends
 * otherwise. */
static int logit_before_sigmoid(nsk_graph *graph) {
    const nsk_node *last = last_node(graph);
    const nsk_function_step *step = last != NULL ? last_step(last) : NULL;
    if (step == NULL || step->fn != NSK_FN_SIGMOID) {
        return NSK_NONE;
    }
    nsk_program *p = last->program;
    int before = p->steps[p->count - 1].a;
    if (p->count == 1) {
        return last->input[0];
    }
    if (before != p->count - 2) {
        return NSK_NONE;
    }
    p->count--; /* the function without its last step, and without the levels of that */
    nsk_graph_value(graph, last->output)->pinned = false;
    return last->output;
}

/* A constant of twice as many numbers, nothing standing before each. */
static int behind_nothing(nsk_graph *graph, const char *name, int rank, const int64_t *dims,
                          const nsk_value *numbers, bool by_turns) {
    size_t count = numbers != NULL ? nsk_value_count(numbers) : 1;
    float *data = g_new0(float, 2 * count);
    for (size_t i = 0; i < count; i++) {
        data[by_turns ? 2 * i + 1 : count + i] = numbers != NULL ? numbers->data[i] : 0.0F;
    }
    return nsk_graph_add_constant(graph, name, rank, dims, data);
}

/* The product that makes the logit makes nothing beside it: no layer of its own is needed. */
static bool widen_product(nsk_graph *graph) {
    nsk_node *node = nsk_graph_producer(graph, graph->output);
    bool product = node != NULL && node->op == NSK_OP_GEMM && isinf(node->low) &&
                   isinf(node->high) && nsk_graph_readers(graph, graph->output) == 1;
    const nsk_value *weight = product ? nsk_node_input(graph, node, 1) : NULL;
    const nsk_value *bias = product ? nsk_node_input(graph, node, 2) : NULL;
    if (weight == NULL || weight->data == NULL || weight->steps != NULL ||
        (bias != NULL && (bias->data == NULL || nsk_value_count(bias) != 1))) {
        return false;
    }
    static const int64_t both = 2;
    bool rows = node->attributes.transpose_b;
    const int64_t inputs = (int64_t)nsk_value_count(weight);
    const int64_t dims[2] = {rows ? 2 : inputs, rows ? inputs : 2};
    node->input[1] = behind_nothing(graph, "netsuke:two", 2, dims, weight, !rows);
    node->input[2] = behind_nothing(graph, "netsuke:none", 1, &both, bias, false);
    node->inputs = 3;
    nsk_graph_value(graph, node->output)->dims[1] = 2;
    return true;
}

static void append_product(nsk_graph *graph) {
    static const int64_t dims[2] = {1, 2};
    static const int64_t both = 2;
    float *one = g_new0(float, 2);
    one[1] = 1.0F;
    const int inputs[3] = {graph->output,
                           nsk_graph_add_constant(graph, "netsuke:two", 2, dims, one),
                           behind_nothing(graph, "netsuke:none", 1, &both, NULL, false)};
    graph->output = append_shaped(graph, NSK_OP_GEMM, "two classes (added)", 3, inputs, 2);
    nsk_attributes *a = &nsk_graph_producer(graph, graph->output)->attributes;
    a->alpha = a->beta = 1.0;
}

static bool is_never_below_zero(const nsk_graph *graph, const nsk_node *node) {
    const nsk_function_step *step = last_step(node);
    double low;
    double high;
    nsk_clamp_of(graph, node, &low, &high);
    bool by_function =
        step != NULL && (step->fn == NSK_FN_HARD_SIGMOID || step->fn == NSK_FN_SIGMOID ||
                         (step->fn == NSK_FN_CLIP && step->alpha >= 0.0));
    return low >= 0.0 || by_function || node->op == NSK_OP_SOFTMAX;
}

/* A number that is never below nothing is no logit: what it means cannot be seen. */
static bool could_be_logit(const nsk_graph *graph, nsk_error *error) {
    const nsk_node *last = last_node(graph);
    return last == NULL || !is_never_below_zero(graph, last) ||
           nsk_unsupported(error,
                           "its one output comes out of '%s' (%s) and is never below 0: end in a "
                           "sigmoid, in the number before it, or in one score a class",
                           last->name, nsk_node_kind(last));
}

/* One number z for two classes: softmax of 0 and z is what the sigmoid of z says of the second. */
static bool end_in_two(nsk_graph *graph, nsk_error *error) {
    if (nsk_value_count(nsk_graph_value(graph, graph->output)) != 1) {
        return true;
    }
    int logit = logit_before_sigmoid(graph);
    bool sigmoid = logit != NSK_NONE;
    if (!sigmoid && !could_be_logit(graph, error)) {
        return false;
    }
    graph->output = sigmoid ? logit : graph->output;
    nsk_graph_sort(graph);
    end_in_a_line(graph);
    if (!widen_product(graph)) {
        append_product(graph);
    }
    nsk_graph_note(graph,
                   "its one output is taken for two classes: the first label where %s is below "
                   "%s, the second above",
                   sigmoid ? "its sigmoid" : "it, a logit,", sigmoid ? "0.5" : "0");
    return true;
}

static bool check_output(const nsk_graph *graph, nsk_error *error) {
    const nsk_value *out = nsk_graph_value(graph, graph->output);
    char shape[160];
    if (out->producer == NSK_NONE || nsk_graph_is_constant(graph, graph->output)) {
        return nsk_fail(error, "the graph does nothing with its input");
    }
    bool line = false; /* one axis holds all elements */
    for (int i = 0; i < out->rank; i++) {
        line = line || out->dims[i] == (int64_t)nsk_value_count(out);
    }
    return (out->rank == 0 || line) ||
           nsk_fail(error, "output '%s' is %s; a classifier gives one number a class", out->name,
                    nsk_value_text(out, shape, sizeof shape));
}

/* What may write and read such levels between layers: lower/fine.c is the judge. */
static bool takes_fine(const nsk_node *node) {
    static const nsk_op ops[] = {NSK_OP_CONV, NSK_OP_GEMM, NSK_OP_FUNCTION, NSK_OP_ADD};
    bool takes = false;
    for (size_t i = 0; i < G_N_ELEMENTS(ops); i++) {
        takes = takes || node->op == ops[i];
    }
    return takes;
}

/* `last`: what the end reads. */
static bool can_be_fine(const nsk_graph *graph, int value, int last) {
    const nsk_value *v = nsk_graph_value(graph, value);
    bool can = v->pinned_zero % NSK_PARTS == 0 && v->producer != NSK_NONE;
    for (int i = 0; i < (int)graph->nodes->len && can; i++) {
        const nsk_node *node = nsk_graph_node(graph, i);
        bool touches = node->output == value;
        for (int k = 0; k < node->inputs; k++) {
            touches = touches || node->input[k] == value;
        }
        can = node->dead || !touches || (takes_fine(node) && node->output != last);
    }
    return can;
}

/* Levels of 16 bits stay where the device has them, around 0: in front of the end's softmax or
 * sigmoids. */
static void keep_wide_levels(nsk_graph *graph) {
    const int kept = last_node(graph)->input[0];
    int others = 0;
    for (int i = 0; i < (int)graph->values->len; i++) {
        nsk_value *v = nsk_graph_value(graph, i);
        if (v->pinned_wide && (i != kept || v->pinned_zero != 0)) {
            v->pinned_wide = false;
            if (can_be_fine(graph, i, kept)) { /* levels of 8 bits with 256 parts each */
                v->pinned = v->fine = true;
                v->pinned_scale *= NSK_PARTS;
                v->pinned_zero /= NSK_PARTS;
            }
            others += nsk_graph_readers(graph, i) > 0 && !v->fine;
        }
    }
    if (others > 0) {
        nsk_graph_note(
            graph,
            "%d of its tensors have levels of 16 bits; here they get 8, whose ranges the "
            "calibration images give",
            others);
    }
}

static nsk_network_end end_of(const nsk_graph *graph) {
    const nsk_node *last = last_node(graph);
    if (nsk_value_count(nsk_graph_value(graph, graph->output)) == 1) {
        return NSK_END_ONE;
    }
    return last == NULL                                                   ? NSK_END_SCORES
           : is_sigmoid(graph, last)                                      ? NSK_END_SIGMOIDS
           : last->op == NSK_OP_SOFTMAX || last->op == NSK_OP_LOG_SOFTMAX ? NSK_END_SOFTMAX
                                                                          : NSK_END_SCORES;
}

static bool prepare_graph(nsk_graph *graph, nsk_network_end *end, nsk_error *error) {
    if (!nsk_graph_infer(graph, nsk_evaluate, error) || !nsk_graph_end_in_numbers(graph, error) ||
        !nsk_graph_fold(graph, error) || !check_output(graph, error)) {
        return false;
    }
    *end = end_of(graph);
    if (!end_in_two(graph, error)) {
        return false;
    }
    end_in_a_line(graph);
    end_in_softmax(graph);
    keep_wide_levels(graph);
    return true;
}

/* A file that takes the camera's bytes has its preparation inside. */
static bool check_raw_input(const nsk_graph *graph, const nsk_input *input, nsk_error *error) {
    for (int c = 0; graph->raw_input && input != NULL && c < 3; c++) {
        if (input->mean[c] != 0.0 || input->deviation[c] != 1.0 || input->top != 255.0) {
            return nsk_fail(error, "it takes bytes and prepares them itself; set 'range = 0..255' "
                                   "under [input] in the brief and leave mean and deviation out");
        }
    }
    return true;
}

nsk_network *nsk_network_from(const uint8_t *bytes, size_t size, const char *path, nsk_input *input,
                              const char *output, nsk_error *error) {
    char *folder = g_path_get_dirname(path);
    const nsk_onnx_options options = {.input = input, .folder = folder, .output = output};
    nsk_graph *graph = nsk_onnx_read(bytes, size, &options, error);
    g_free(folder);
    nsk_network_end end;
    if (graph == NULL || !prepare_graph(graph, &end, error) ||
        !check_raw_input(graph, input, error)) {
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
    network->end = end;
    for (int i = 0; i < NSK_FACTS; i++) {
        network->facts[i] = g_strdup(graph->facts[i] != NULL ? graph->facts[i] : "");
    }
    if (network->facts[NSK_FACT_NAME][0] == '\0') {
        g_free(network->facts[NSK_FACT_NAME]);
        network->facts[NSK_FACT_NAME] = nsk_stem(path);
    }
    return network;
}

nsk_network *nsk_network_read(const char *path, nsk_input *input, const char *output,
                              nsk_error *error) {
    size_t size;
    uint8_t *bytes = nsk_file_read(path, MOST_BYTES, &size, error);
    nsk_network *network =
        bytes != NULL ? nsk_network_from(bytes, size, path, input, output, error) : NULL;
    g_free(bytes);
    return network;
}

bool nsk_network_answer_each(nsk_network *network, nsk_error *error) {
    nsk_graph *graph = network->graph;
    if (network->end == NSK_END_ONE || network->end == NSK_END_SOFTMAX) {
        return nsk_fail(error,
                        "%s: it ends in %s, which gives one class of all, and [thresholds] in the "
                        "brief are for several labels at once: leave them out, or export it with "
                        "a sigmoid or plain score for each label",
                        network->path, network->end == NSK_END_ONE ? "one number" : "a softmax");
    }
    if (network->end == NSK_END_SCORES) {
        nsk_node *last = nsk_graph_producer(graph, graph->output); /* the softmax that was added */
        last->op = NSK_OP_FUNCTION;
        last->program = g_new0(nsk_program, 1);
        last->program->count = 1;
        last->program->steps[0] =
            (nsk_function_step){NSK_FN_SIGMOID, NSK_ARGUMENT, NSK_ARGUMENT, 0.0, 0.0};
        g_free(last->name);
        last->name = g_strdup("sigmoids (added)");
        network->end = NSK_END_SIGMOIDS;
    }
    return true;
}

bool nsk_network_make_fine(nsk_network *network, const char *layer, nsk_error *error) {
    for (int i = 0; i < (int)network->graph->nodes->len; i++) {
        const nsk_node *node = nsk_graph_node(network->graph, i);
        if (!node->dead && strcmp(node->name, layer) == 0) {
            nsk_graph_value(network->graph, node->output)->fine = true;
            return true;
        }
    }
    return nsk_fail(error, "[ranges] %s: no layer has this name; 'netsuke outline' lists them",
                    layer);
}

nsk_network *nsk_network_copy(const nsk_network *network) {
    nsk_network *copy = g_new0(nsk_network, 1);
    copy->graph = nsk_graph_copy(network->graph);
    copy->end = network->end;
    copy->path = g_strdup(network->path);
    for (int i = 0; i < NSK_FACTS; i++) {
        copy->facts[i] = g_strdup(network->facts[i]);
    }
    return copy;
}

void nsk_network_free(nsk_network *network) {
    if (network != NULL) {
        nsk_graph_free(network->graph);
        for (int i = 0; i < NSK_FACTS; i++) {
            g_free(network->facts[i]);
        }
        g_free(network->path);
        g_free(network);
    }
}

int nsk_network_carried_levels(const nsk_network *network) {
    int count = 0;
    for (int i = 0; i < (int)network->graph->values->len; i++) {
        const nsk_value *v = nsk_graph_value(network->graph, i);
        count += (v->pinned || v->pinned_wide) && nsk_graph_readers(network->graph, i) > 0;
    }
    return count;
}

int nsk_network_notes(const nsk_network *network) {
    return (int)network->graph->notes->len;
}

const char *nsk_network_note(const nsk_network *network, int note) {
    return network->graph->notes->pdata[note];
}

const char *nsk_network_fact(const nsk_network *network, nsk_fact fact) {
    return network->facts[fact];
}

void nsk_network_set_fact(nsk_network *network, nsk_fact fact, const char *text) {
    char *copy = g_strdup(text);
    g_free(network->facts[fact]);
    network->facts[fact] = copy;
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
    nsk_float_prepare(network->graph, input, frame, nsk_pass_input(pass));
    nsk_pass_run(pass);
    memcpy(probabilities, nsk_pass_value(pass, network->graph->output),
           (size_t)nsk_network_classes(network) * sizeof *probabilities);
    nsk_pass_free(pass);
    return true;
}

static void outline_node(const nsk_graph *graph, const nsk_node *node, nsk_outline_layer *layer) {
    const nsk_value *out = nsk_graph_value(graph, node->output);
    const bool picture = out->rank == 4;
    const bool line = out->rank == 3; /* of tokens */
    layer->name = node->name;
    layer->kind = nsk_node_kind(node);
    layer->folded = node->folded->str;
    layer->height = picture ? (int)out->dims[2] : 1;
    layer->width = picture ? (int)out->dims[3] : line ? (int)out->dims[1] : 1;
    layer->channels = picture ? (int)out->dims[1]
                      : line  ? (int)out->dims[2]
                              : (int)nsk_value_count(out);
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

void nsk_outline_kind(const nsk_outline_layer *layer, char *text, size_t size) {
    GString *s = g_string_new(layer->kind);
    if (layer->kernel[0] > 0) {
        g_string_append_printf(s, " %dx%d", layer->kernel[0], layer->kernel[1]);
        if (layer->stride[0] != layer->stride[1]) {
            g_string_append_printf(s, "/%dx%d", layer->stride[0], layer->stride[1]);
        } else if (layer->stride[0] > 1) {
            g_string_append_printf(s, "/%d", layer->stride[0]);
        }
        if (layer->depthwise) {
            g_string_append(s, ", depthwise");
        } else if (layer->groups > 1) {
            g_string_append_printf(s, ", %d groups", layer->groups);
        }
    }
    g_strlcpy(text, s->str, size);
    g_string_free(s, TRUE);
}

void nsk_outline_free(nsk_outline *outline) {
    if (outline != NULL) {
        g_free(outline->layers);
        g_free(outline);
    }
}
