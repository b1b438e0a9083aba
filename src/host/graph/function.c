#include "graph/function.h"

#include <math.h>

static const char *const names[NSK_FNS] = {
    [NSK_FN_ABS] = "Abs",
    [NSK_FN_ACOS] = "Acos",
    [NSK_FN_ACOSH] = "Acosh",
    [NSK_FN_ASIN] = "Asin",
    [NSK_FN_ASINH] = "Asinh",
    [NSK_FN_ATAN] = "Atan",
    [NSK_FN_ATANH] = "Atanh",
    [NSK_FN_CEIL] = "Ceil",
    [NSK_FN_CELU] = "Celu",
    [NSK_FN_CLIP] = "Clip",
    [NSK_FN_COS] = "Cos",
    [NSK_FN_COSH] = "Cosh",
    [NSK_FN_ELU] = "Elu",
    [NSK_FN_ERF] = "Erf",
    [NSK_FN_EXP] = "Exp",
    [NSK_FN_FLOOR] = "Floor",
    [NSK_FN_GELU] = "Gelu",
    [NSK_FN_HARD_SIGMOID] = "HardSigmoid",
    [NSK_FN_HARD_SWISH] = "HardSwish",
    [NSK_FN_LEAKY_RELU] = "LeakyRelu",
    [NSK_FN_LOG] = "Log",
    [NSK_FN_MISH] = "Mish",
    [NSK_FN_NEG] = "Neg",
    [NSK_FN_NOT] = "Not",
    [NSK_FN_RECIPROCAL] = "Reciprocal",
    [NSK_FN_ROUND] = "Round",
    [NSK_FN_SELU] = "Selu",
    [NSK_FN_SHRINK] = "Shrink",
    [NSK_FN_SIGMOID] = "Sigmoid",
    [NSK_FN_SIGN] = "Sign",
    [NSK_FN_SIN] = "Sin",
    [NSK_FN_SINH] = "Sinh",
    [NSK_FN_SOFTPLUS] = "Softplus",
    [NSK_FN_SOFTSIGN] = "Softsign",
    [NSK_FN_SQRT] = "Sqrt",
    [NSK_FN_SWISH] = "Swish",
    [NSK_FN_TAN] = "Tan",
    [NSK_FN_TANH] = "Tanh",
    [NSK_FN_THRESHOLDED_RELU] = "ThresholdedRelu",
    [NSK_FN_ADD] = "Add",
    [NSK_FN_AND] = "And",
    [NSK_FN_DIV] = "Div",
    [NSK_FN_EQUAL] = "Equal",
    [NSK_FN_GREATER] = "Greater",
    [NSK_FN_GREATER_OR_EQUAL] = "GreaterOrEqual",
    [NSK_FN_IF] = "If",
    [NSK_FN_LESS] = "Less",
    [NSK_FN_LESS_OR_EQUAL] = "LessOrEqual",
    [NSK_FN_MAX] = "Max",
    [NSK_FN_MIN] = "Min",
    [NSK_FN_MUL] = "Mul",
    [NSK_FN_OR] = "Or",
    [NSK_FN_POW] = "Pow",
    [NSK_FN_SUB] = "Sub",
    [NSK_FN_UNLESS] = "Unless",
    [NSK_FN_XOR] = "Xor",
};

const char *nsk_function_name(nsk_function fn) {
    return names[fn];
}

/* Without overflow for large x. */
static double softplus(double x) {
    return fmax(x, 0.0) + log1p(exp(-fabs(x)));
}

static double gelu(double x, bool by_tanh) {
    if (by_tanh) {
        return 0.5 * x * (1.0 + tanh(0.7978845608028654 * (x + 0.044715 * x * x * x)));
    }
    return 0.5 * x * (1.0 + erf(x * 0.7071067811865476));
}

static bool is(double x) {
    return fabs(x) > 0.0;
}

static double clip(double x, double low, double high) {
    return fmin(fmax(x, low), high);
}

/* The formulas stand in the ONNX operator specification. */
static double activation(const nsk_function_step *s, double x) {
    double alpha = s->alpha;
    double beta = s->beta;
    switch (s->fn) {
    case NSK_FN_CELU:
        return fmax(x, 0.0) + fmin(0.0, alpha * expm1(x / alpha));
    case NSK_FN_CLIP:
        return clip(x, alpha, beta);
    case NSK_FN_ELU:
        return x < 0.0 ? alpha * expm1(x) : x;
    case NSK_FN_GELU:
        return gelu(x, alpha != 0.0);
    case NSK_FN_HARD_SIGMOID:
        return clip(alpha * x + beta, 0.0, 1.0);
    case NSK_FN_HARD_SWISH:
        return x * clip(x / 6.0 + 0.5, 0.0, 1.0);
    case NSK_FN_LEAKY_RELU:
        return x < 0.0 ? alpha * x : x;
    case NSK_FN_MISH:
        return x * tanh(softplus(x));
    case NSK_FN_SELU:
        return beta * (x > 0.0 ? x : alpha * expm1(x));
    case NSK_FN_SHRINK:
        return x < -alpha ? x + beta : x > alpha ? x - beta : 0.0;
    case NSK_FN_SIGMOID:
        return 1.0 / (1.0 + exp(-x));
    case NSK_FN_SOFTPLUS:
        return softplus(x);
    case NSK_FN_SOFTSIGN:
        return x / (1.0 + fabs(x));
    case NSK_FN_SWISH:
        return x / (1.0 + exp(-alpha * x));
    case NSK_FN_THRESHOLDED_RELU:
        return x > alpha ? x : 0.0;
    default:
        return NAN;
    }
}

static double unary(const nsk_function_step *s, double x) {
    switch (s->fn) {
    case NSK_FN_ABS:
        return fabs(x);
    case NSK_FN_ACOS:
        return acos(x);
    case NSK_FN_ACOSH:
        return acosh(x);
    case NSK_FN_ASIN:
        return asin(x);
    case NSK_FN_ASINH:
        return asinh(x);
    case NSK_FN_ATAN:
        return atan(x);
    case NSK_FN_ATANH:
        return atanh(x);
    case NSK_FN_CEIL:
        return ceil(x);
    case NSK_FN_COS:
        return cos(x);
    case NSK_FN_COSH:
        return cosh(x);
    case NSK_FN_ERF:
        return erf(x);
    case NSK_FN_EXP:
        return exp(x);
    case NSK_FN_FLOOR:
        return floor(x);
    case NSK_FN_LOG:
        return log(x);
    case NSK_FN_NEG:
        return -x;
    case NSK_FN_NOT:
        return is(x) ? 0.0 : 1.0;
    case NSK_FN_RECIPROCAL:
        return 1.0 / x;
    case NSK_FN_ROUND:
        return nearbyint(x);
    case NSK_FN_SIGN:
        return x > 0.0 ? 1.0 : x < 0.0 ? -1.0 : 0.0;
    case NSK_FN_SIN:
        return sin(x);
    case NSK_FN_SINH:
        return sinh(x);
    case NSK_FN_SQRT:
        return sqrt(x);
    case NSK_FN_TAN:
        return tan(x);
    case NSK_FN_TANH:
        return tanh(x);
    default:
        return activation(s, x);
    }
}

double nsk_function_at(const nsk_function_step *step, double a, double b) {
    switch (step->fn) {
    case NSK_FN_ADD:
        return a + b;
    case NSK_FN_AND:
        return is(a) && is(b) ? 1.0 : 0.0;
    case NSK_FN_DIV:
        return a / b;
    case NSK_FN_EQUAL:
        return fabs(a - b) > 0.0 ? 0.0 : 1.0;
    case NSK_FN_GREATER:
        return a > b ? 1.0 : 0.0;
    case NSK_FN_GREATER_OR_EQUAL:
        return a >= b ? 1.0 : 0.0;
    case NSK_FN_IF:
        return is(a) ? b : 0.0;
    case NSK_FN_LESS:
        return a < b ? 1.0 : 0.0;
    case NSK_FN_LESS_OR_EQUAL:
        return a <= b ? 1.0 : 0.0;
    case NSK_FN_MAX:
        return fmax(a, b);
    case NSK_FN_MIN:
        return fmin(a, b);
    case NSK_FN_MUL:
        return a * b;
    case NSK_FN_OR:
        return is(a) || is(b) ? 1.0 : 0.0;
    case NSK_FN_POW:
        return pow(a, b);
    case NSK_FN_SUB:
        return a - b;
    case NSK_FN_UNLESS:
        return is(a) ? 0.0 : b;
    case NSK_FN_XOR:
        return is(a) != is(b) ? 1.0 : 0.0;
    default:
        return unary(step, a);
    }
}

static double operand(const nsk_function_step *step, int which, double x, const double *results) {
    return which == NSK_ARGUMENT ? x : which == NSK_PARAMETER ? step->alpha : results[which];
}

double nsk_program_at(const nsk_program *program, double x) {
    double results[NSK_MOST_STEPS]; /* not cleared: a step looks at earlier ones only */
    double last = x;
    for (int i = 0; i < program->count; i++) {
        const nsk_function_step *s = &program->steps[i];
        double b = s->fn >= NSK_FN_UNARY ? operand(s, s->b, x, results) : 0.0;
        last = nsk_function_at(s, operand(s, s->a, x, results), b);
        results[i] = last;
    }
    return last;
}
