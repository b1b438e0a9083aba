#include "export/function.h"

#include <string.h>

/* What a step is written to. */
typedef struct writing {
    nsk_onnx_maker *maker;
    int *fresh;
    const char *argument;
    char *results[NSK_MOST_STEPS]; /* names, of the steps before */
} writing;

char *nsk_export_name(int *fresh, const char *what) {
    return g_strdup_printf("netsuke:%s:%d", what, (*fresh)++);
}

void nsk_export_number(nsk_onnx_maker *maker, int *fresh, Onnx__NodeProto *node, double number) {
    char *name = nsk_export_name(fresh, "number");
    const float value = (float)number;
    nsk_onnx_put_floats(maker, name, 0, NULL, &value);
    nsk_onnx_add_input(maker, node, name);
    g_free(name);
}

/* How the parameters of a step are called; NULL: there is none. */
static const char *const parameters[NSK_FN_UNARY][2] = {
    [NSK_FN_CELU] = {"alpha", NULL},
    [NSK_FN_ELU] = {"alpha", NULL},
    [NSK_FN_HARD_SIGMOID] = {"alpha", "beta"},
    [NSK_FN_LEAKY_RELU] = {"alpha", NULL},
    [NSK_FN_SELU] = {"alpha", "gamma"},
    [NSK_FN_SHRINK] = {"lambd", "bias"},
    [NSK_FN_THRESHOLDED_RELU] = {"alpha", NULL},
};

/* Functions that came after the file's operator set, that ONNX does not have, or that it has of
 * true and false only, in older operators of numbers: "x" and "y" are the step's operands, "alpha"
 * its parameter, "NUMBER" a constant, "<" the line before. */
enum { MOST_OPERANDS = 3, MOST_LINES = 9 };
typedef struct line {
    const char *op, *operands[MOST_OPERANDS];
} line;
static const line gelu_by_tanh[MOST_LINES] = {{"Mul", {"x", "x"}},
                                              {"Mul", {"<", "0.044715"}},
                                              {"Add", {"<", "1"}},
                                              {"Mul", {"<", "x"}},
                                              {"Mul", {"<", "0.7978845608028654"}},
                                              {"Tanh", {"<"}},
                                              {"Add", {"<", "1"}},
                                              {"Mul", {"<", "x"}},
                                              {"Mul", {"<", "0.5"}}};
static const line written[NSK_FNS][MOST_LINES] = {
    [NSK_FN_AND] = {{"Mul", {"x", "y"}}},
    [NSK_FN_EQUAL] = {{"Equal", {"x", "y"}}, {"Cast", {"<"}}},
    [NSK_FN_GELU] = {{"Mul", {"x", "0.7071067811865476"}},
                     {"Erf", {"<"}},
                     {"Add", {"<", "1"}},
                     {"Mul", {"<", "x"}},
                     {"Mul", {"<", "0.5"}}},
    [NSK_FN_GREATER] = {{"Greater", {"x", "y"}}, {"Cast", {"<"}}},
    [NSK_FN_GREATER_OR_EQUAL] = {{"GreaterOrEqual", {"x", "y"}}, {"Cast", {"<"}}},
    [NSK_FN_IF] = {{"Equal", {"x", "0"}}, {"Where", {"<", "0", "y"}}},
    [NSK_FN_LESS] = {{"Less", {"x", "y"}}, {"Cast", {"<"}}},
    [NSK_FN_LESS_OR_EQUAL] = {{"LessOrEqual", {"x", "y"}}, {"Cast", {"<"}}},
    [NSK_FN_MISH] = {{"Softplus", {"x"}}, {"Tanh", {"<"}}, {"Mul", {"x", "<"}}},
    [NSK_FN_NOT] = {{"Equal", {"x", "0"}}, {"Cast", {"<"}}},
    [NSK_FN_OR] = {{"Max", {"x", "y"}}},
    [NSK_FN_SWISH] = {{"Mul", {"x", "alpha"}}, {"Sigmoid", {"<"}}, {"Mul", {"x", "<"}}},
    [NSK_FN_UNLESS] = {{"Equal", {"x", "0"}}, {"Where", {"<", "y", "0"}}},
    [NSK_FN_XOR] = {{"Sub", {"x", "y"}}, {"Abs", {"<"}}},
};

static void add_operand(const writing *w, Onnx__NodeProto *n, const nsk_function_step *s,
                        int operand) {
    if (operand == NSK_PARAMETER) {
        nsk_export_number(w->maker, w->fresh, n, s->alpha);
    } else {
        nsk_onnx_add_input(w->maker, n,
                           operand == NSK_ARGUMENT ? w->argument : w->results[operand]);
    }
}

static void add_written(const writing *w, Onnx__NodeProto *n, const nsk_function_step *s,
                        const char *operand, const char *before) {
    switch (operand[0]) {
    case 'x':
        add_operand(w, n, s, s->a);
        break;
    case 'y':
        add_operand(w, n, s, s->b);
        break;
    case 'a':
        nsk_export_number(w->maker, w->fresh, n, s->alpha);
        break;
    case '<':
        nsk_onnx_add_input(w->maker, n, before);
        break;
    default:
        nsk_export_number(w->maker, w->fresh, n, g_ascii_strtod(operand, NULL));
        break;
    }
}

static void put_lines(const writing *w, const line *lines, const nsk_function_step *s,
                      const char *name, const char *output) {
    char *before = NULL;
    for (int i = 0; i < MOST_LINES && lines[i].op != NULL; i++) {
        bool last = i + 1 == MOST_LINES || lines[i + 1].op == NULL;
        char *result = last ? g_strdup(output) : nsk_export_name(w->fresh, "part");
        Onnx__NodeProto *n = nsk_onnx_put_node(w->maker, lines[i].op, last ? name : result, result);
        for (int k = 0; k < MOST_OPERANDS && lines[i].operands[k] != NULL; k++) {
            add_written(w, n, s, lines[i].operands[k], before);
        }
        if (strcmp(lines[i].op, "Cast") == 0) {
            nsk_onnx_add_int(w->maker, n, "to", ONNX__TENSOR_PROTO__DATA_TYPE__FLOAT);
        }
        g_free(before);
        before = result;
    }
    g_free(before);
}

static void put_step(const writing *w, const nsk_function_step *s, const char *name,
                     const char *output) {
    const line *lines = s->fn == NSK_FN_GELU && s->alpha > 0.0 ? gelu_by_tanh : written[s->fn];
    if (lines[0].op != NULL) {
        put_lines(w, lines, s, name, output);
        return;
    }
    Onnx__NodeProto *n = nsk_onnx_put_node(w->maker, nsk_function_name(s->fn), name, output);
    add_operand(w, n, s, s->a);
    if (s->fn >= NSK_FN_UNARY) {
        add_operand(w, n, s, s->b);
    } else if (s->fn == NSK_FN_CLIP) {
        nsk_export_number(w->maker, w->fresh, n, s->alpha);
        nsk_export_number(w->maker, w->fresh, n, s->beta);
    } else {
        const double numbers[2] = {s->alpha, s->beta};
        for (int i = 0; i < 2; i++) {
            if (parameters[s->fn][i] != NULL) {
                nsk_onnx_add_float(w->maker, n, parameters[s->fn][i], numbers[i]);
            }
        }
    }
}

void nsk_export_function(nsk_onnx_maker *maker, int *fresh, const nsk_program *program,
                         const char *argument, const char *name, const char *output) {
    writing w = {.maker = maker, .fresh = fresh, .argument = argument};
    for (int i = 0; i < program->count; i++) {
        bool last = i == program->count - 1;
        w.results[i] = last ? g_strdup(output) : nsk_export_name(fresh, "step");
        put_step(&w, &program->steps[i], last ? name : w.results[i], w.results[i]);
    }
    for (int i = 0; i < program->count; i++) {
        g_free(w.results[i]);
    }
}
