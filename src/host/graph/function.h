/* graph/function: functions of one number, as programs of a few steps. Every activation is one, and
 * so is every chain of element-wise operators that starts from one tensor and uses plain numbers.
 */
#ifndef NSK_GRAPH_FUNCTION_H
#define NSK_GRAPH_FUNCTION_H

#include <stdbool.h>

/* The ONNX operators' own names and meaning. */
typedef enum nsk_function {
    NSK_FN_ABS,
    NSK_FN_ACOS,
    NSK_FN_ACOSH,
    NSK_FN_ASIN,
    NSK_FN_ASINH,
    NSK_FN_ATAN,
    NSK_FN_ATANH,
    NSK_FN_CEIL,
    NSK_FN_CELU,
    NSK_FN_CLIP, /* alpha: low, beta: high */
    NSK_FN_COS,
    NSK_FN_COSH,
    NSK_FN_ELU,
    NSK_FN_ERF,
    NSK_FN_EXP,
    NSK_FN_FLOOR,
    NSK_FN_GELU, /* alpha: 1 for the approximation with tanh */
    NSK_FN_HARD_SIGMOID,
    NSK_FN_HARD_SWISH,
    NSK_FN_LEAKY_RELU,
    NSK_FN_LOG,
    NSK_FN_MISH,
    NSK_FN_NEG,
    NSK_FN_NOT, /* of 0, 1; 0 else */
    NSK_FN_RECIPROCAL,
    NSK_FN_ROUND, /* halves to even */
    NSK_FN_SELU,
    NSK_FN_SHRINK, /* alpha: lambd, beta: bias */
    NSK_FN_SIGMOID,
    NSK_FN_SIGN,
    NSK_FN_SIN,
    NSK_FN_SINH,
    NSK_FN_SOFTPLUS,
    NSK_FN_SOFTSIGN,
    NSK_FN_SQRT,
    NSK_FN_SWISH,
    NSK_FN_TAN,
    NSK_FN_TANH,
    NSK_FN_THRESHOLDED_RELU,
    NSK_FN_UNARY, /* one past the last with one operand */
    NSK_FN_ADD = NSK_FN_UNARY,
    NSK_FN_AND,
    NSK_FN_DIV,
    NSK_FN_EQUAL,
    NSK_FN_GREATER,
    NSK_FN_GREATER_OR_EQUAL,
    NSK_FN_IF, /* the second where the first is not 0, else 0: two of them make a Where */
    NSK_FN_LESS,
    NSK_FN_LESS_OR_EQUAL,
    NSK_FN_MAX,
    NSK_FN_MIN,
    NSK_FN_MUL,
    NSK_FN_OR,
    NSK_FN_POW,
    NSK_FN_SUB,
    NSK_FN_UNLESS, /* the second where the first is 0, else 0 */
    NSK_FN_XOR,
    NSK_FNS
} nsk_function;

const char *nsk_function_name(nsk_function fn);

/* What an operand of a step is, where it is not the result of an earlier one. */
enum { NSK_ARGUMENT = -1, NSK_PARAMETER = -2 };

typedef struct nsk_function_step {
    nsk_function fn;
    int a, b; /* operands: a step, NSK_ARGUMENT or NSK_PARAMETER; b only where there are two */
    double alpha, beta; /* parameters; of operators with two operands alpha is the NSK_PARAMETER */
} nsk_function_step;

enum { NSK_MOST_STEPS = 32 };

typedef struct nsk_program {
    int count;
    nsk_function_step steps[NSK_MOST_STEPS];
} nsk_program;

/* One function of one number, or of two (parameters are then not used). */
double nsk_function_at(const nsk_function_step *step, double a, double b);

/* The last step's result for the argument `x`. */
double nsk_program_at(const nsk_program *program, double x);

#endif
