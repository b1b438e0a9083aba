/* QuantizeLinear and DequantizeLinear: a pair of them on a computed value says at which levels the
 * file's maker rounded it. The float network does without the rounding; the levels are kept for the
 * integer one. */
#include <math.h>
#include <string.h>

#include "rewrite/rewrite.h"

/* One number of a constant input, or `otherwise`. */
static double number_at(const nsk_graph *graph, const nsk_node *node, int input, double otherwise) {
    const nsk_value *v = nsk_node_input(graph, node, input);
    return v != NULL && v->data != NULL ? (double)v->data[0] : otherwise;
}

static bool is_one_number(const nsk_graph *graph, const nsk_node *node, int input) {
    const nsk_value *v = nsk_node_input(graph, node, input);
    return v == NULL || (v->data != NULL && nsk_value_count(v) == 1);
}

static bool complain(const nsk_node *node, nsk_error *error, const char *text) {
    return nsk_unsupported(error, "node '%s' (%s): %s", node->name, nsk_op_name(node->op), text);
}

/* Levels of int8, or int16: those of unsigned ones are 128, or 32768, lower. */
static bool pin(nsk_graph *graph, const nsk_node *quantize, int value, nsk_error *error) {
    nsk_value *v = nsk_graph_value(graph, value);
    double scale = number_at(graph, quantize, 1, 1.0);
    const nsk_value *zero = nsk_node_input(graph, quantize, 2);
    bool is_signed = zero != NULL ? !zero->is_unsigned : quantize->attributes.is_signed;
    bool wide = zero != NULL && zero->bits == 16;
    double half = wide ? 32768.0 : 128.0;
    double level = number_at(graph, quantize, 2, 0.0) - (is_signed ? 0.0 : half);
    if (!is_one_number(graph, quantize, 1) || !is_one_number(graph, quantize, 2)) {
        return complain(quantize, error, "only one scale for a whole computed tensor is read");
    }
    if (!(scale > 0.0) || !isfinite(scale) || level < -half || level > half - 1.0) {
        return complain(quantize, error, "its scale or zero point is not one of 8 or 16 bits");
    }
    v->pinned = !wide;
    v->pinned_wide = wide;
    v->pinned_scale = (float)scale;
    v->pinned_zero = (int)level;
    return true;
}

/* Both nodes of a pair go; the value that they rounded is read instead. */
static bool take_pair(nsk_graph *graph, nsk_node *dequantize, nsk_error *error) {
    nsk_node *quantize = nsk_graph_producer(graph, dequantize->input[0]);
    if (quantize == NULL || quantize->op != NSK_OP_QUANTIZE) {
        return complain(dequantize, error,
                        "what it reads is computed, and by no QuantizeLinear; put one before it");
    }
    double apart = fabs(number_at(graph, quantize, 1, 1.0) - number_at(graph, dequantize, 1, 1.0));
    if (apart > 1e-6 * number_at(graph, quantize, 1, 1.0) ||
        fabs(number_at(graph, quantize, 2, 0.0) - number_at(graph, dequantize, 2, 0.0)) > 0.0) {
        return complain(dequantize, error,
                        "its scale or zero point is not that of the QuantizeLinear before it");
    }
    if (!pin(graph, quantize, quantize->input[0], error)) {
        return false;
    }
    nsk_graph_bypass(graph, dequantize, quantize->input[0]);
    return true;
}

bool nsk_graph_take_levels(nsk_graph *graph, nsk_error *error) {
    for (int i = 0; i < (int)graph->nodes->len; i++) {
        nsk_node *node = nsk_graph_node(graph, i);
        if (!node->dead && node->op == NSK_OP_DEQUANTIZE && !take_pair(graph, node, error)) {
            return false;
        }
    }
    for (int i = 0; i < (int)graph->nodes->len; i++) {
        nsk_node *node = nsk_graph_node(graph, i);
        if (node->dead || node->op != NSK_OP_QUANTIZE) {
            continue;
        }
        if (nsk_graph_readers(graph, node->output) > (node->output == graph->output ? 1 : 0)) {
            return complain(node, error,
                            "its levels are read by other operators than DequantizeLinear; export "
                            "with the two in pairs");
        }
        node->dead = node->output != graph->output;
    }
    return true;
}

bool nsk_graph_end_in_numbers(nsk_graph *graph, nsk_error *error) {
    nsk_node *last = nsk_graph_producer(graph, graph->output);
    if (last == NULL || last->op != NSK_OP_QUANTIZE) {
        return true;
    }
    if (!pin(graph, last, last->input[0], error)) {
        return false;
    }
    nsk_graph_bypass(graph, last, last->input[0]);
    return true;
}
