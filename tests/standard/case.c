#include "case.h"

#include <limits.h>
#include <math.h>
#include <string.h>

#include "bound.h"
#include "float/forward.h"
#include "lower/lower.h"
#include "modelfile/build.h"
#include "onnx/functions.h"
#include "onnx/operators.h"
#include "onnx/read.h"
#include "onnx/tensor.h"
#include "pipeline/pipeline.h"
#include "rewrite/rewrite.h"

/* The tolerances of the standard's own runner. */
static const double RELATIVE = 1e-3;
static const double ABSOLUTE = 1e-7;

typedef struct test_case {
    uint8_t *bytes;
    size_t size;
    Onnx__ModelProto *model;
    GPtrArray *tensors; /* of Onnx__TensorProto, one an input */
    nsk_onnx_binding *bindings;
    const char *output;
    nsk_value expected;
} test_case;

static Onnx__TensorProto *read_tensor(const char *folder, const char *kind, int index) {
    char *name = g_strdup_printf("%s_%d.pb", kind, index);
    char *path = g_build_filename(folder, name, NULL);
    nsk_error error;
    size_t size;
    uint8_t *bytes = nsk_file_read(path, (size_t)1 << 30, &size, &error);
    Onnx__TensorProto *t = bytes != NULL ? onnx__tensor_proto__unpack(NULL, size, bytes) : NULL;
    g_free(bytes);
    g_free(path);
    g_free(name);
    return t;
}

static void free_tensor(gpointer tensor) {
    if (tensor != NULL) {
        onnx__tensor_proto__free_unpacked(tensor, NULL);
    }
}

static bool is_initializer(const Onnx__GraphProto *graph, const char *name) {
    for (size_t i = 0; i < graph->n_initializer; i++) {
        if (strcmp(graph->initializer[i]->name, name) == 0) {
            return true;
        }
    }
    return false;
}

/* Whether the operator is one of the standard's functions. */
static bool is_function(const Onnx__NodeProto *node) {
    static const Onnx__ModelProto empty = ONNX__MODEL_PROTO__INIT;
    nsk_error error;
    nsk_onnx_functions *functions = nsk_onnx_functions_new(&empty, NULL, NULL, &error);
    bool function = nsk_onnx_function_of(functions, node, INT64_MAX) != NULL;
    nsk_onnx_functions_free(functions);
    return function;
}

static bool is_known(const Onnx__NodeProto *node) {
    return nsk_onnx_operator_find(node->op_type) != NULL || is_function(node);
}

/* Which of the node's inputs may be computed, from the first on. */
static int computed_inputs(const Onnx__NodeProto *node) {
    const nsk_onnx_operator *rule = nsk_onnx_operator_find(node->op_type);
    return rule != NULL ? rule->computed : is_function(node) ? 1 : INT_MAX;
}

/* Numbers that some node takes as one of its computed inputs; weights, settings and integers are
 * constants. */
static bool is_computed(const Onnx__GraphProto *graph, const char *name,
                        const Onnx__TensorProto *tensor) {
    bool whole;
    bool computed = true;
    for (size_t n = 0; n < graph->n_node; n++) {
        int first = computed_inputs(graph->node[n]);
        for (size_t i = 0; i < graph->node[n]->n_input; i++) {
            bool here = strcmp(graph->node[n]->input[i], name) == 0;
            computed = computed && !(here && (int)i >= first);
        }
    }
    return computed && nsk_onnx_type_is_read(tensor->data_type, &whole) && !whole;
}

static gint by_name(gconstpointer a, gconstpointer b) {
    return strcmp(*(char *const *)a, *(char *const *)b);
}

/* Operators of the model, and why it is out of scope if one of them is. */
static char *operators_of(const Onnx__GraphProto *graph, char **reason) {
    GPtrArray *names = g_ptr_array_new();
    for (size_t n = 0; n < graph->n_node; n++) {
        const char *op = graph->node[n]->op_type;
        bool own = graph->node[n]->domain == NULL || *graph->node[n]->domain == '\0';
        if (!g_ptr_array_find_with_equal_func(names, op, g_str_equal, NULL)) {
            g_ptr_array_add(names, (gpointer)op);
        }
        if (*reason == NULL && strcmp(op, "Constant") != 0 && (!own || !is_known(graph->node[n]))) {
            *reason = g_strdup_printf("operator %s", op);
        }
    }
    g_ptr_array_sort(names, by_name);
    g_ptr_array_add(names, NULL);
    char *list = g_strjoinv(", ", (char **)names->pdata);
    g_ptr_array_free(names, TRUE);
    return list;
}

/* ---- running ---- */

static nsk_graph *read_graph(const test_case *c, bool fold, nsk_error *error) {
    const nsk_onnx_options options = {
        .output = c->output, .bindings = c->bindings, .bound = (int)c->tensors->len};
    nsk_graph *graph = nsk_onnx_read(c->bytes, c->size, &options, error);
    if (graph != NULL &&
        !(nsk_graph_infer(graph, nsk_evaluate, error) && (!fold || nsk_graph_fold(graph, error)))) {
        nsk_graph_free(graph);
        return NULL;
    }
    return graph;
}

/* The computed inputs' numbers, one behind the other, as the packed input has them. */
static void fill(const test_case *c, float *to) {
    for (guint i = 0; i < c->tensors->len; i++) {
        nsk_value value = {.name = (char *)"input"};
        nsk_error error;
        if (c->bindings[i].computed &&
            nsk_onnx_tensor_load(c->tensors->pdata[i], NULL, &value, &error)) {
            memcpy(to, value.data, nsk_value_count(&value) * sizeof *to);
            to += nsk_value_count(&value);
        }
        g_free(value.data);
        g_free(value.integers);
    }
}

static char *compare(const test_case *c, const nsk_graph *graph, const float *got, double bound) {
    const nsk_value *out = nsk_graph_value(graph, graph->output);
    size_t count = nsk_value_count(&c->expected);
    bool whole = out->integers != NULL && c->expected.integers != NULL;
    if (nsk_value_count(out) != count) {
        return g_strdup("another shape than expected");
    }
    for (size_t i = 0; i < count; i++) {
        double want = (double)c->expected.data[i];
        double have = (double)got[i];
        double allowed = bound > 0.0 ? bound : ABSOLUTE + RELATIVE * fabs(want);
        bool both_nan = isnan(want) && (isnan(have) || bound > 0.0); /* integers have none */
        bool same = whole ? out->integers[i] == c->expected.integers[i]
                          : (both_nan || have == want || fabs(have - want) <= allowed);
        if (!same) {
            return g_strdup_printf("element %zu is %g, expected %g, allowed %g", i, have, want,
                                   allowed);
        }
    }
    return NULL;
}

static char *run_float(const test_case *c, const nsk_graph *graph) {
    nsk_error error;
    const nsk_value *out = nsk_graph_value(graph, graph->output);
    bool shaped = out->rank == c->expected.rank &&
                  memcmp(out->dims, c->expected.dims, (size_t)out->rank * sizeof *out->dims) == 0;
    if (!shaped) {
        return g_strdup("another shape than expected");
    }
    nsk_pass *pass = nsk_pass_new(graph, &error);
    if (pass == NULL) {
        return g_strdup(error.text);
    }
    fill(c, nsk_pass_input(pass));
    nsk_pass_run(pass);
    char *reason = compare(c, graph, nsk_pass_value(pass, graph->output), 0.0);
    nsk_pass_free(pass);
    return reason;
}

/* ---- the integer form ---- */

/* As 1 x count, which the device can give. */
static void end_in_a_line(nsk_graph *graph) {
    static const int64_t two = 2;
    int64_t *shape = g_new(int64_t, 2);
    shape[0] = 1;
    shape[1] = (int64_t)nsk_value_count(nsk_graph_value(graph, graph->output));
    const int inputs[2] = {graph->output, nsk_graph_add_integers(graph, "line", 1, &two, shape)};
    graph->output = nsk_graph_append(graph, NSK_OP_RESHAPE, "line", 2, inputs);
}

/* A preparation that brings bytes to the range of the numbers. */
static nsk_input preparation(const float *numbers, size_t count) {
    double low = 0.0;
    double high = 0.0;
    for (size_t i = 0; i < count; i++) {
        low = fmin(low, (double)numbers[i]);
        high = fmax(high, (double)numbers[i]);
    }
    double step = fmax(high - low, 1e-6) / 254.0; /* room for zero to fall onto a level */
    double zero = floor(-low / step + 0.5);
    return (nsk_input){.width = (int)count,
                       .height = 1,
                       .colour = NSK_COLOUR_GREY,
                       .mean = {zero},
                       .deviation = {1.0 / step},
                       .top = 255.0};
}

static char *run_model(const test_case *c, const nsk_graph *graph, const nsk_model_file *file,
                       const nsk_input *input, const float *numbers, double bound) {
    nsk_model model;
    nsk_open(&model, file->bytes, file->size);
    void *workspace = g_malloc(model.workspace_bytes);
    uint8_t *frame = g_malloc((gsize)input->width);
    for (int i = 0; i < input->width; i++) {
        double byte = (double)numbers[i] * input->deviation[0] + input->mean[0];
        frame[i] = (uint8_t)CLAMP(floor(byte + 0.5), 0.0, 255.0);
    }
    nsk_prepare(&model, frame, (size_t)input->width, workspace);
    nsk_run(&model, workspace, NULL);
    nsk_tensor out = nsk_tensor_at(&model, model.output);
    float scale;
    memcpy(&scale, &out.scale_bits, sizeof scale);
    float *got = g_new(float, model.classes);
    for (int i = 0; i < model.classes; i++) {
        got[i] = scale * (float)(nsk_scores(&model, workspace)[i] - out.zero);
    }
    char *reason = compare(c, graph, got, bound);
    g_free(got);
    g_free(frame);
    g_free(workspace);
    return reason;
}

static char *build_and_run(const test_case *c, const nsk_graph *graph, const nsk_lowered *lowered,
                           nsk_pass *pass) {
    nsk_error error;
    size_t count = nsk_value_count(nsk_graph_value(graph, graph->input));
    size_t classes = nsk_value_count(nsk_graph_value(graph, graph->output));
    const nsk_input input = preparation(nsk_pass_input(pass), count);
    nsk_range *ranges = g_new0(nsk_range, lowered->tensors->len);
    for (guint i = 0; i < lowered->tensors->len; i++) {
        int value = nsk_lowered_tensor_at(lowered, (int)i)->value;
        const float *numbers = nsk_pass_value(pass, value);
        for (size_t k = 0; k < nsk_value_count(nsk_graph_value(graph, value)); k++) {
            ranges[i].low = fminf(ranges[i].low, numbers[k]);
            ranges[i].high = fmaxf(ranges[i].high, numbers[k]);
        }
    }
    nsk_labels labels = {.count = (int)classes, .names = g_new0(char *, classes + 1)};
    for (size_t i = 0; i < classes; i++) {
        labels.names[i] = g_strdup_printf("%zu", i);
    }
    static const char *const facts[NSK_FACTS] = {"case", "", "", "", ""};
    nsk_scale *scales = nsk_scales_of(graph, lowered, ranges, &input);
    nsk_model_file *file =
        nsk_model_build(graph, lowered, scales, facts, &labels, &input, NULL, &error);
    char *reason = file == NULL ? g_strdup(error.text)
                                : run_model(c, graph, file, &input, nsk_pass_input(pass),
                                            bound_of(lowered, scales, pass, graph));
    nsk_model_file_free(file);
    g_strfreev(labels.names);
    g_free(scales);
    g_free(ranges);
    return reason;
}

static verdict run_integer(const test_case *c, nsk_graph *graph, char **reason) {
    nsk_error error;
    const nsk_value *out = nsk_graph_value(graph, graph->output);
    if (nsk_graph_is_constant(graph, graph->output) || out->producer == NSK_NONE) {
        *reason = g_strdup("nothing is left to compute");
        return OUT_OF_SCOPE;
    }
    if (nsk_value_count(out) > 65535 ||
        nsk_value_count(nsk_graph_value(graph, graph->input)) > 65535) {
        *reason = g_strdup("too large to be one line of 65535");
        return OUT_OF_SCOPE;
    }
    end_in_a_line(graph);
    nsk_lowered *lowered =
        nsk_graph_infer(graph, nsk_evaluate, &error) ? nsk_lower_and_join(graph, &error) : NULL;
    nsk_pass *pass = lowered != NULL ? nsk_pass_new(graph, &error) : NULL;
    if (pass == NULL) {
        *reason = g_strdup(error.text);
        return error.code == NSK_ERROR_CODE_UNSUPPORTED ? OUT_OF_SCOPE : FAILED;
    }
    fill(c, nsk_pass_input(pass));
    nsk_pass_run(pass);
    bool finite = true;
    for (size_t i = 0; i < nsk_value_count(nsk_graph_value(graph, graph->input)); i++) {
        finite = finite && isfinite(nsk_pass_input(pass)[i]);
    }
    *reason = finite ? build_and_run(c, graph, lowered, pass)
                     : g_strdup("the case's numbers are beyond 32-bit floating point");
    nsk_pass_free(pass);
    nsk_lowered_free(lowered);
    return *reason == NULL ? PASSED : finite ? FAILED : OUT_OF_SCOPE;
}

/* ---- one output, one data set ---- */

static void keep_worst(verdict *to, char **to_reason, verdict v, char *reason) {
    if (v > PASSED && (*to == PASSED || v == FAILED)) {
        g_free(*to_reason);
        *to = v;
        *to_reason = reason;
    } else {
        g_free(reason);
    }
}

static void run_output(const test_case *c, case_result *result) {
    nsk_error error;
    for (int fold = 0; fold < 2; fold++) {
        nsk_graph *graph = read_graph(c, fold == 1, &error);
        if (graph == NULL) {
            keep_worst(&result->by_float, &result->float_reason,
                       error.code == NSK_ERROR_CODE_UNSUPPORTED ? OUT_OF_SCOPE : FAILED,
                       g_strdup(error.text));
            return;
        }
        char *reason = run_float(c, graph);
        bool good = reason == NULL;
        keep_worst(&result->by_float, &result->float_reason, good ? PASSED : FAILED, reason);
        if (good && fold == 1) {
            reason = NULL;
            verdict v = run_integer(c, graph, &reason);
            keep_worst(&result->by_integer, &result->integer_reason, v, reason);
        }
        nsk_graph_free(graph);
    }
}

static bool is_bfloat(const Onnx__ValueInfoProto *declared) {
    const Onnx__TypeProto *type = declared->type;
    return type != NULL && type->value_case == ONNX__TYPE_PROTO__VALUE_TENSOR_TYPE &&
           type->tensor_type->elem_type == ONNX__TENSOR_PROTO__DATA_TYPE__BFLOAT16;
}

/* The package keeps bfloat16 as the 16 bits that it is. */
static void name_bfloat(Onnx__TensorProto *t, const Onnx__ValueInfoProto *declared) {
    if (t != NULL && is_bfloat(declared)) {
        t->data_type = ONNX__TENSOR_PROTO__DATA_TYPE__BFLOAT16;
    }
}

static bool load_inputs(test_case *c, const char *data, char **reason) {
    const Onnx__GraphProto *graph = c->model->graph;
    int index = 0;
    for (size_t i = 0; i < graph->n_input; i++) {
        if (is_initializer(graph, graph->input[i]->name)) {
            continue;
        }
        Onnx__TensorProto *t = read_tensor(data, "input", index);
        if (t == NULL) {
            *reason = g_strdup("an input is no tensor");
            return false;
        }
        name_bfloat(t, graph->input[i]);
        g_ptr_array_add(c->tensors, t);
        c->bindings[index++] = (nsk_onnx_binding){t, is_computed(graph, graph->input[i]->name, t)};
    }
    return true;
}

static void run_data(test_case *c, const char *data, case_result *result) {
    const Onnx__GraphProto *graph = c->model->graph;
    c->tensors = g_ptr_array_new_with_free_func(free_tensor);
    c->bindings = g_new0(nsk_onnx_binding, graph->n_input + 1);
    char *reason = NULL;
    if (!load_inputs(c, data, &reason)) {
        keep_worst(&result->by_float, &result->float_reason, OUT_OF_SCOPE, reason);
    }
    for (size_t i = 0; i < graph->n_output && result->by_float == PASSED; i++) {
        Onnx__TensorProto *t = read_tensor(data, "output", (int)i);
        nsk_error error = {.text = "an output is no tensor of numbers",
                           .code = NSK_ERROR_CODE_UNSUPPORTED};
        c->output = graph->output[i]->name;
        c->expected = (nsk_value){.name = (char *)"expected"};
        const Onnx__TypeProto *type = graph->output[i]->type;
        if (is_bfloat(graph->output[i])) {
            g_strlcpy(error.text, "computed numbers are not rounded to bfloat16",
                      sizeof error.text);
        }
        bool tensor = type != NULL && !is_bfloat(graph->output[i]) &&
                      type->value_case == ONNX__TYPE_PROTO__VALUE_TENSOR_TYPE;
        if (tensor && t != NULL && nsk_onnx_tensor_load(t, NULL, &c->expected, &error)) {
            run_output(c, result);
        } else {
            keep_worst(&result->by_float, &result->float_reason,
                       error.code == NSK_ERROR_CODE_UNSUPPORTED ? OUT_OF_SCOPE : FAILED,
                       g_strdup(error.text));
        }
        g_free(c->expected.data);
        g_free(c->expected.integers);
        free_tensor(t);
    }
    g_ptr_array_free(c->tensors, TRUE);
    g_free(c->bindings);
}

void case_run(const char *folder, case_result *result) {
    test_case c = {0};
    nsk_error error;
    char *path = g_build_filename(folder, "model.onnx", NULL);
    *result = (case_result){0};
    c.bytes = nsk_file_read(path, (size_t)1 << 30, &c.size, &error);
    c.model = c.bytes != NULL ? onnx__model_proto__unpack(NULL, c.size, c.bytes) : NULL;
    if (c.model == NULL || c.model->graph == NULL) {
        result->operators = g_strdup("");
        result->by_float = OUT_OF_SCOPE;
        result->float_reason = g_strdup("the package holds no model for it");
    } else {
        result->operators = operators_of(c.model->graph, &result->float_reason);
        result->by_float = result->float_reason != NULL ? OUT_OF_SCOPE : PASSED;
    }
    for (int set = 0; result->by_float == PASSED; set++) {
        char *name = g_strdup_printf("test_data_set_%d", set);
        char *data = g_build_filename(folder, name, NULL);
        bool there = g_file_test(data, G_FILE_TEST_IS_DIR);
        if (there) {
            run_data(&c, data, result);
        } else if (set == 0) {
            result->by_float = OUT_OF_SCOPE;
            result->float_reason = g_strdup("the package holds no data for it");
        }
        g_free(data);
        g_free(name);
        if (!there) {
            break;
        }
    }
    if (c.model != NULL) {
        onnx__model_proto__free_unpacked(c.model, NULL);
    }
    g_free(c.bytes);
    g_free(path);
}

void case_result_clear(case_result *result) {
    g_free(result->operators);
    g_free(result->float_reason);
    g_free(result->integer_reason);
}
