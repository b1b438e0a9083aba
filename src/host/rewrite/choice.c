/* Comparisons and choices that are no function of one input: true and false as 1 and 0. */
#include "float/kernel.h"
#include "rewrite/rewriting.h"

/* The constant's complement, or the computed one's. */
static int opposite(nsk_rewriting *r, int value) {
    const nsk_function_step inverted = {.fn = NSK_FN_NOT, .a = NSK_ARGUMENT};
    return nsk_graph_is_constant(r->graph, value) ? nsk_rewriting_mapped(r, value, inverted)
                                                  : nsk_rewriting_function(r, value, inverted);
}

/* That input as numbers 0 and 1, where the file has it as a constant of them. */
static int truth(nsk_rewriting *r, int input) {
    int value = r->node->input[input];
    return nsk_graph_is_constant(r->graph, value) ? opposite(r, opposite(r, value)) : value;
}

/* Of two computed tensors, or of one and a list: the difference is compared with nothing. */
static void write_out_comparison(nsk_rewriting *r) {
    nsk_function_step step = {
        .fn = nsk_pair_function(r->node->op), .a = NSK_ARGUMENT, .b = NSK_PARAMETER, .alpha = 0.0};
    int apart = nsk_rewriting_pair(r, NSK_OP_SUB, r->node->input[0], r->node->input[1]);
    nsk_rewriting_finish(r, nsk_rewriting_function(r, apart, step));
}

static void write_out_and(nsk_rewriting *r) {
    nsk_rewriting_finish(r, nsk_rewriting_pair(r, NSK_OP_MUL, truth(r, 0), truth(r, 1)));
}

static void write_out_or(nsk_rewriting *r) {
    nsk_rewriting_finish(r, nsk_rewriting_pair(r, NSK_OP_MAX, truth(r, 0), truth(r, 1)));
}

static void write_out_xor(nsk_rewriting *r) {
    const nsk_function_step size = {.fn = NSK_FN_ABS, .a = NSK_ARGUMENT};
    int apart = nsk_rewriting_pair(r, NSK_OP_SUB, truth(r, 0), truth(r, 1));
    nsk_rewriting_finish(r, nsk_rewriting_function(r, apart, size));
}

/* Each side times whether it is chosen. */
static void write_out_where(nsk_rewriting *r) {
    int is = truth(r, 0);
    int then = nsk_rewriting_pair(r, NSK_OP_MUL, r->node->input[1], is);
    int otherwise = nsk_rewriting_pair(r, NSK_OP_MUL, r->node->input[2], opposite(r, is));
    nsk_rewriting_finish(r, nsk_rewriting_pair(r, NSK_OP_ADD, then, otherwise));
}

/* One constant for all elements decides it once. */
void nsk_write_out_decided(nsk_rewriting *r) {
    const nsk_value *is = nsk_node_input(r->graph, r->node, 0);
    int chosen = is->data != NULL && nsk_value_count(is) == 1 ? is->data[0] != 0.0F ? 1 : 2 : 0;
    if (chosen > 0) {
        nsk_value shape = *nsk_graph_value(r->graph, r->node->output);
        const int inputs[2] = {r->node->input[chosen],
                               nsk_rewriting_list(r, shape.rank, shape.dims)};
        nsk_rewriting_finish(r, nsk_rewriting_append(r, NSK_OP_EXPAND, 2, inputs, NULL));
    }
}

bool nsk_graph_rewrite_choices(nsk_graph *graph, nsk_error *error) {
    static nsk_rewriter *const choices[NSK_OPS] = {
        [NSK_OP_AND] = write_out_and,
        [NSK_OP_EQUAL] = write_out_comparison,
        [NSK_OP_GREATER] = write_out_comparison,
        [NSK_OP_GREATER_OR_EQUAL] = write_out_comparison,
        [NSK_OP_LESS] = write_out_comparison,
        [NSK_OP_LESS_OR_EQUAL] = write_out_comparison,
        [NSK_OP_OR] = write_out_or,
        [NSK_OP_WHERE] = write_out_where,
        [NSK_OP_XOR] = write_out_xor,
    };
    return nsk_rewriting_apply(graph, choices, error);
}
