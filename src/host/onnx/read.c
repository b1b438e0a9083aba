#include "onnx/read.h"

#include <math.h>
#include <string.h>

#include "onnx/facts.h"
#include "onnx/operators.h"
#include "onnx/reader.h"
#include "onnx/tensor.h"
#include "onnx/unknown.h"
#include "onnx/wire.h"

static const int64_t OLDEST_OPSET = 6;
static const int64_t NEWEST_OPSET = 25;
static const size_t MOST_NODES = 20000;
enum { MOST_DEPTH = 32 };

/* ---- constants ---- */

static bool read_initializers(nsk_reader *r) {
    for (size_t i = 0; i < r->source->n_initializer; i++) {
        const Onnx__TensorProto *t = r->source->initializer[i];
        int value = nsk_reader_define(r, t->name, "a constant");
        if (value == NSK_NONE || !nsk_reader_load(r, t, value)) {
            return false;
        }
    }
    return r->source->n_sparse_initializer == 0 ||
           nsk_fail(r->error, "sparse constants are not read; export them dense");
}

/* ---- nodes ---- */

/* A Constant node's value may stand in one of five attributes. */
static bool read_constant_node(nsk_reader *r, const Onnx__NodeProto *node) {
    int index = nsk_reader_define(r, node->output[0], "a Constant node's output");
    if (index == NSK_NONE) {
        return false;
    }
    for (size_t i = 0; i < node->n_attribute; i++) {
        const Onnx__AttributeProto *a = node->attribute[i];
        const char *name = a->name != NULL ? a->name : "";
        Onnx__TensorProto made = ONNX__TENSOR_PROTO__INIT;
        int64_t count = 0;
        made.dims = &count;
        made.n_dims = strcmp(name, "value_floats") == 0 || strcmp(name, "value_ints") == 0;
        made.data_type = ONNX__TENSOR_PROTO__DATA_TYPE__INT64;
        if (strcmp(name, "value") == 0 && a->t != NULL) {
            return nsk_reader_load(r, a->t, index);
        }
        if (strcmp(name, "value_float") == 0 || strcmp(name, "value_floats") == 0) {
            made.data_type = ONNX__TENSOR_PROTO__DATA_TYPE__FLOAT;
            made.float_data = made.n_dims > 0 ? a->floats : (float *)&a->f;
            made.n_float_data = made.n_dims > 0 ? a->n_floats : 1;
            count = (int64_t)made.n_float_data;
            return nsk_reader_load(r, &made, index);
        }
        if (strcmp(name, "value_int") == 0 || strcmp(name, "value_ints") == 0) {
            made.int64_data = made.n_dims > 0 ? a->ints : (int64_t *)&a->i;
            made.n_int64_data = made.n_dims > 0 ? a->n_ints : 1;
            count = (int64_t)made.n_int64_data;
            return nsk_reader_load(r, &made, index);
        }
    }
    return nsk_unsupported(r->error, "node '%s' (Constant): holds neither numbers nor integers",
                           node->name);
}

static bool read_input_name(const nsk_reader *r, const Onnx__NodeProto *source,
                            const nsk_onnx_operator *rule, int index, int *to) {
    const char *name = source->input[index];
    *to = *name == '\0' ? NSK_NONE : nsk_reader_find(r, name);
    if (*to != NSK_NONE || (*name == '\0' && index >= rule->least)) {
        return true;
    }
    if (g_hash_table_contains(r->chosen, name)) {
        return nsk_unsupported(r->error,
                               "node '%s' (%s): reads '%s', numbers of classes and not scores; "
                               "name the scores as [model] output in the brief",
                               source->name, source->op_type, name);
    }
    if (g_hash_table_contains(r->left_out, name)) {
        return nsk_unsupported(r->error,
                               "node '%s' (%s): reads '%s', a second output (a mask, indices, "
                               "statistics), which is not computed",
                               source->name, source->op_type, name);
    }
    return nsk_fail(r->error, "node '%s' (%s): input '%s' comes from nowhere before it",
                    source->name, source->op_type, name);
}

static bool read_inputs(const nsk_reader *r, const Onnx__NodeProto *source,
                        const nsk_onnx_operator *rule, int *to) {
    if (source->n_input < (size_t)rule->least || source->n_input > (size_t)rule->most) {
        return nsk_fail(r->error, "node '%s' (%s): %zu inputs; it takes %d to %d", source->name,
                        source->op_type, source->n_input, rule->least, rule->most);
    }
    for (int i = 0; i < (int)source->n_input; i++) {
        if (!read_input_name(r, source, rule, i, &to[i])) {
            return false;
        }
    }
    return true;
}

/* A node that writes `output` from the inputs `from`. */
static nsk_node *add_node(const nsk_reader *r, nsk_op op, const char *name, int output, int inputs,
                          const int *from) {
    int at = nsk_graph_add_node(r->graph, op, name, output);
    nsk_node *node = nsk_graph_node(r->graph, at);
    memcpy(node->input, from, (size_t)inputs * sizeof *from);
    node->inputs = inputs;
    return node;
}

/* Max, Min, Sum and Mean of any number of inputs become nodes of two, Mean a product behind them.
 */
static bool read_chain(nsk_reader *r, const Onnx__NodeProto *source, const nsk_onnx_operator *rule,
                       const int *inputs) {
    bool mean = strcmp(rule->name, "Mean") == 0;
    int count = (int)source->n_input;
    int output = nsk_reader_define(r, source->output[0], "a node's output");
    int so_far = inputs[0];
    if (output == NSK_NONE) {
        return false;
    }
    for (int i = 1; i < count; i++) {
        char *name = g_strdup_printf("%s:%d", source->name, i);
        const int both[2] = {so_far, inputs[i]};
        if (i == count - 1 && !mean) {
            add_node(r, rule->op, source->name, output, 2, both);
        } else {
            so_far = nsk_graph_append(r->graph, rule->op, name, 2, both);
        }
        g_free(name);
    }
    if (mean) {
        char *name = g_strdup_printf("%s:share", source->name);
        float *share = g_new(float, 1);
        *share = 1.0F / (float)count;
        const int both[2] = {so_far, nsk_graph_add_constant(r->graph, name, 0, NULL, share)};
        add_node(r, NSK_OP_MUL, source->name, output, 2, both);
        g_free(name);
    } else if (count == 1) {
        add_node(r, NSK_OP_IDENTITY, source->name, output, 1, inputs);
    }
    return true;
}

/* Split becomes one node an output; the second outputs of others are left out. */
static bool read_computing_node(nsk_reader *r, const Onnx__NodeProto *source,
                                const nsk_onnx_operator *rule) {
    int inputs[NSK_MOST_INPUTS];
    if (!read_inputs(r, source, rule, inputs)) {
        return false;
    }
    if (rule->most == NSK_MOST_INPUTS && rule->op != NSK_OP_CONCAT) {
        return read_chain(r, source, rule, inputs);
    }
    int parts = rule->op == NSK_OP_SPLIT ? (int)source->n_output : 1;
    for (size_t i = (size_t)parts; i < source->n_output; i++) {
        g_hash_table_add(r->left_out, source->output[i]);
    }
    nsk_onnx_source from = {source, r->graph, r->opset, r->error};
    if (!nsk_onnx_attributes_are_typed(&from)) {
        return false;
    }
    for (int part = 0; part < parts; part++) {
        int output = nsk_reader_define(r, source->output[part], "a node's output");
        if (output == NSK_NONE) {
            return false;
        }
        nsk_node *node = add_node(r, rule->op, source->name, output, (int)source->n_input, inputs);
        node->attributes.part = part;
        node->attributes.parts = parts;
        if (rule->read != NULL && !rule->read(&from, node)) {
            return false;
        }
    }
    return true;
}

/* Dropout in training form drops. */
static bool is_for_training(const nsk_reader *r, const Onnx__NodeProto *source) {
    int mode = source->n_input > 2 && *source->input[2] != '\0'
                   ? nsk_reader_find(r, source->input[2])
                   : -1;
    const nsk_value *v = mode >= 0 ? nsk_graph_value(r->graph, mode) : NULL;
    return strcmp(source->op_type, "Dropout") == 0 && v != NULL && v->integers != NULL &&
           nsk_value_count(v) == 1 && v->integers[0] != 0;
}

static bool is_standard_domain(const char *domain) {
    return domain == NULL || *domain == '\0' || strcmp(domain, "ai.onnx") == 0;
}

/* What a network that ends in the number of its class chooses from: the scores, NSK_NONE where the
 * node does not choose, nor look at a choice in another shape. */
static int scores_chosen_from(const nsk_reader *r, const Onnx__NodeProto *source) {
    static const char *const choosers[] = {"ArgMax", "TopK", NULL};
    static const char *const shapers[] = {"Cast",    "Flatten",   "Identity", "Reshape",
                                          "Squeeze", "Unsqueeze", NULL};
    const char *in = source->n_input > 0 ? source->input[0] : "";
    if (!is_standard_domain(source->domain)) {
        return NSK_NONE;
    }
    if (g_strv_contains(choosers, source->op_type)) {
        return nsk_reader_find(r, in);
    }
    return g_strv_contains(shapers, source->op_type)
               ? GPOINTER_TO_INT(g_hash_table_lookup(r->chosen, in)) - 1
               : NSK_NONE;
}

static bool read_node(nsk_reader *r, Onnx__NodeProto *source, size_t index);

static int64_t opset_of(Onnx__OperatorSetIdProto *const *sets, size_t count, int64_t otherwise) {
    for (size_t i = 0; i < count; i++) {
        otherwise = is_standard_domain(sets[i]->domain) ? sets[i]->version : otherwise;
    }
    return otherwise;
}

/* A call of a function becomes its body. A body that calls itself would have no end. */
/* Constants say what they are; of what is computed it shows from what computes it. Elements that
 * are only moved are the same ones. */
static bool is_truth(const void *context, const char *name) {
    const nsk_reader *r = context;
    int value = nsk_reader_find(r, name);
    const nsk_node *node = value != NSK_NONE ? nsk_graph_producer(r->graph, value) : NULL;
    while (node != NULL && nsk_op_keeps_elements(node->op) && node->op != NSK_OP_CAST) {
        value = node->input[0];
        node = nsk_graph_producer(r->graph, value);
    }
    return value != NSK_NONE &&
           (node != NULL ? nsk_node_answers(node) : nsk_graph_value(r->graph, value)->whole);
}

/* NOLINTNEXTLINE(misc-no-recursion): no deeper than MOST_DEPTH */
static bool read_call(nsk_reader *r, const Onnx__NodeProto *source,
                      const Onnx__FunctionProto *function) {
    if (r->depth == MOST_DEPTH) {
        return nsk_fail(r->error,
                        "node '%s' (%s): functions that call each other more than %d deep",
                        source->name, source->op_type, MOST_DEPTH);
    }
    if (source->n_input > function->n_input || source->n_output > function->n_output) {
        return nsk_fail(r->error, "node '%s' (%s): more inputs or outputs than its function has",
                        source->name, source->op_type);
    }
    int64_t opset = r->opset;
    r->depth++;
    r->opset = opset_of(function->opset_import, function->n_opset_import, opset);
    bool good = true;
    for (size_t i = 0; i < function->n_node && good; i++) {
        good = read_node(r, nsk_onnx_function_node(r->functions, function, source, i), i);
    }
    r->opset = opset;
    r->depth--;
    return good;
}

/* NOLINTNEXTLINE(misc-no-recursion): no deeper than MOST_DEPTH */
static bool read_named_node(nsk_reader *r, const Onnx__NodeProto *source) {
    int scores = scores_chosen_from(r, source);
    if (scores != NSK_NONE) {
        for (size_t i = 0; i < source->n_output; i++) {
            g_hash_table_insert(r->chosen, source->output[i], GINT_TO_POINTER(scores + 1));
        }
        return true;
    }
    if (is_standard_domain(source->domain) && strcmp(source->op_type, "Constant") == 0) {
        return read_constant_node(r, source);
    }
    const Onnx__FunctionProto *function = nsk_onnx_function_of(r->functions, source, r->opset);
    if (function != NULL) {
        return read_call(r, source, function);
    }
    const nsk_onnx_operator *rule =
        is_standard_domain(source->domain) ? nsk_onnx_operator_find(source->op_type) : NULL;
    if (rule == NULL) {
        return nsk_onnx_unknown(source, r->error);
    }
    if (is_for_training(r, source)) {
        return nsk_unsupported(r->error,
                               "node '%s' (%s): in training form; export the network "
                               "for inference",
                               source->name, source->op_type);
    }
    return read_computing_node(r, source, rule);
}

/* A node without a name is called by its operator and place. */
/* NOLINTNEXTLINE(misc-no-recursion): no deeper than MOST_DEPTH */
static bool read_node(nsk_reader *r, Onnx__NodeProto *source, size_t index) {
    if (++r->nodes > MOST_NODES) {
        return nsk_fail(r->error,
                        "more than %zu nodes, those of functions counted where they are "
                        "called",
                        MOST_NODES);
    }
    if (source->op_type == NULL || source->n_output < 1) {
        return nsk_fail(r->error, "node %zu has no operator or no output; the file is damaged",
                        index + 1);
    }
    bool named = source->name != NULL && *source->name != '\0';
    if (named && !g_utf8_validate(source->name, -1, NULL)) {
        return nsk_fail(r->error, "node %zu has a name that is not UTF-8", index + 1);
    }
    if (named) {
        return read_named_node(r, source);
    }
    char *kept = source->name;
    source->name = g_strdup_printf("%s-%zu", source->op_type, index + 1);
    bool good = read_named_node(r, source);
    g_free(source->name);
    source->name = kept;
    return good;
}

static bool read_nodes(nsk_reader *r) {
    if (r->source->n_node == 0 || r->source->n_node > MOST_NODES) {
        return nsk_fail(r->error, "%zu nodes; between 1 and %zu are read", r->source->n_node,
                        MOST_NODES);
    }
    for (size_t i = 0; i < r->source->n_node; i++) {
        if (!read_node(r, r->source->node[i], i)) {
            return false;
        }
    }
    return true;
}

static char *output_list(const nsk_reader *r) {
    GString *list = g_string_new(NULL);
    for (size_t i = 0; i < r->source->n_output; i++) {
        const char *name = r->source->output[i]->name;
        g_string_append_printf(list, "%s'%s'", i > 0 ? ", " : "",
                               name != NULL && g_utf8_validate(name, -1, NULL) ? name : "?");
    }
    return g_string_free(list, FALSE);
}

/* The value behind an output's name: itself, or the scores that it is the choice from. */
static int scores_of(const nsk_reader *r, const char *name) {
    int scores =
        name != NULL ? GPOINTER_TO_INT(g_hash_table_lookup(r->chosen, name)) - 1 : NSK_NONE;
    return scores != NSK_NONE ? scores : name != NULL ? nsk_reader_find(r, name) : NSK_NONE;
}

/* Whether all outputs are scores and choices from them, or different choices. */
static bool outputs_are_one(const nsk_reader *r) {
    int scores = scores_of(r, r->source->output[0]->name);
    for (size_t i = 1; i < r->source->n_output && scores != NSK_NONE; i++) {
        scores = scores_of(r, r->source->output[i]->name) == scores ? scores : NSK_NONE;
    }
    return scores != NSK_NONE;
}

/* The name of the output to keep. */
static const char *choose_output(const nsk_reader *r) {
    const char *wanted = r->options->output;
    for (size_t i = 0; wanted != NULL && i < r->source->n_output; i++) {
        const char *name = r->source->output[i]->name;
        if (name != NULL && strcmp(name, wanted) == 0) {
            return name;
        }
    }
    if (wanted == NULL && (r->source->n_output == 1 || outputs_are_one(r))) {
        return r->source->output[0]->name;
    }
    char *list = output_list(r);
    if (wanted != NULL) {
        nsk_fail(r->error, "no output is called '%s'; there are: %s", wanted, list);
    } else {
        nsk_fail(r->error, "%zu outputs, %s; choose one with 'output' under [model] in the brief",
                 r->source->n_output, list);
    }
    g_free(list);
    return NULL;
}

/* Nodes that the output does not need are dropped. */
static void prune(const nsk_graph *graph) {
    bool *needed = g_new0(bool, graph->values->len);
    needed[graph->output] = true;
    for (int i = (int)graph->nodes->len - 1; i >= 0; i--) {
        nsk_node *node = nsk_graph_node(graph, i);
        node->dead = !needed[node->output];
        for (int k = 0; k < node->inputs && !node->dead; k++) {
            if (node->input[k] != NSK_NONE) {
                needed[node->input[k]] = true;
            }
        }
    }
    g_free(needed);
}

static bool read_output(nsk_reader *r) {
    if (r->source->n_output == 0) {
        return nsk_fail(r->error, "the graph has no output");
    }
    const char *name = choose_output(r);
    if (name == NULL) {
        return false;
    }
    if (g_hash_table_contains(r->left_out, name)) {
        return nsk_unsupported(r->error,
                               "output '%s' is a second output (a mask, indices, statistics), "
                               "which is not computed",
                               name);
    }
    r->graph->output = scores_of(r, name);
    if (g_hash_table_contains(r->chosen, name)) {
        nsk_graph_note(r->graph,
                       "it ends in '%s', which is chosen from '%s': that, the scores, is taken as "
                       "its output",
                       name, nsk_graph_value(r->graph, r->graph->output)->name);
    }
    if (r->graph->output == NSK_NONE ||
        (nsk_graph_value(r->graph, r->graph->output)->producer == NSK_NONE &&
         r->options->bindings == NULL)) {
        return nsk_fail(r->error, "no node makes the output '%s'", name);
    }
    prune(r->graph);
    return true;
}

static bool read_opset(const Onnx__ModelProto *model, nsk_reader *r) {
    r->opset = opset_of(model->opset_import, model->n_opset_import, 0);
    if (r->opset < OLDEST_OPSET) {
        return nsk_unsupported(r->error,
                               "ONNX operator set %" G_GINT64_FORMAT "; %" G_GINT64_FORMAT
                               " and newer ones are read: export with one of them",
                               r->opset, OLDEST_OPSET);
    }
    if (r->opset > NEWEST_OPSET) {
        nsk_graph_note(r->graph,
                       "it was written for ONNX operator set %" G_GINT64_FORMAT
                       ", newer than any that is known here, and is read as if it were for "
                       "%" G_GINT64_FORMAT "; hold its scores against those of training",
                       r->opset, NEWEST_OPSET);
    }
    return true;
}

nsk_graph *nsk_onnx_read(const uint8_t *bytes, size_t size, const nsk_onnx_options *options,
                         nsk_error *error) {
    if (!nsk_onnx_wire_is_good(bytes, size, error)) {
        return NULL;
    }
    Onnx__ModelProto *model = onnx__model_proto__unpack(NULL, size, bytes);
    if (model == NULL || model->graph == NULL) {
        nsk_fail(error, "not an ONNX model, or cut short");
        if (model != NULL) {
            onnx__model_proto__free_unpacked(model, NULL);
        }
        return NULL;
    }
    nsk_reader r = {.source = model->graph, .options = options, .error = error};
    r.graph = nsk_graph_new();
    r.by_name = g_hash_table_new(g_str_hash, g_str_equal);
    r.left_out = g_hash_table_new(g_str_hash, g_str_equal);
    r.chosen = g_hash_table_new(g_str_hash, g_str_equal);
    r.functions = nsk_onnx_functions_new(model, is_truth, &r, error);
    bool good = r.functions != NULL && read_opset(model, &r) && read_initializers(&r) &&
                nsk_reader_inputs(&r) && read_nodes(&r) && read_output(&r);
    nsk_onnx_facts(model, r.graph->facts);
    g_hash_table_destroy(r.by_name);
    g_hash_table_destroy(r.left_out);
    g_hash_table_destroy(r.chosen);
    nsk_onnx_functions_free(r.functions);
    onnx__model_proto__free_unpacked(model, NULL);
    if (!good) {
        nsk_graph_free(r.graph);
        return NULL;
    }
    return r.graph;
}
