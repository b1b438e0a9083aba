/* What stands around a normalisation goes into it: reshapes that only make groups, and constant
 * gains and offsets. */
#include <math.h>
#include <string.h>

#include "graph/blocks.h"
#include "rewrite/rewriting.h"

/* The node that reads the value, where it is the only one. */
static nsk_node *only_reader(const nsk_graph *g, int value) {
    for (int i = 0; i < (int)g->nodes->len && nsk_graph_readers(g, value) == 1; i++) {
        nsk_node *node = nsk_graph_node(g, i);
        for (int k = 0; k < node->inputs && !node->dead; k++) {
            if (node->input[k] == value) {
                return node;
            }
        }
    }
    return NULL;
}

static bool same_shape(const nsk_value *a, const nsk_value *b) {
    return a->rank == b->rank && memcmp(a->dims, b->dims, (size_t)a->rank * 8) == 0;
}

/* Of a reshaped x, reshaped back: the same of groups of x's channels. */
static bool take_reshapes(nsk_graph *g, nsk_node *node, nsk_node *behind) {
    const nsk_node *before = nsk_maker_of(g, node->input[0], NSK_OP_RESHAPE);
    const nsk_value *blocks = nsk_node_input(g, node, 0);
    const nsk_value *x = before != NULL ? nsk_node_input(g, before, 0) : NULL;
    bool plain = node->inputs == 1 && node->attributes.list[1] == blocks->rank && x != NULL &&
                 behind->op == NSK_OP_RESHAPE &&
                 same_shape(x, nsk_graph_value(g, behind->output)) && x->rank >= 2 &&
                 x->dims[0] == 1;
    int64_t groups = node->attributes.size;
    for (int axis = 0; axis < (int)node->attributes.list[0]; axis++) {
        groups *= blocks->dims[axis];
    }
    if (!plain || x->dims[1] % groups != 0) {
        return false;
    }
    node->attributes.list[0] = 1;
    node->attributes.list[1] = x->rank;
    node->attributes.size = groups;
    node->input[0] = before->input[0];
    nsk_value *out = nsk_graph_value(g, node->output);
    out->rank = x->rank;
    memcpy(out->dims, x->dims, sizeof out->dims);
    nsk_graph_bypass(g, behind, node->output);
    return true;
}

/* Whether the constant has one number, one for each place in a block, or one for each place along
 * axis 1 (`by_channel`), as it meets values like `like`. */
static bool meets(const nsk_graph *g, const nsk_node *node, const nsk_value *constant,
                  const nsk_value *like, bool *by_channel) {
    const int64_t *axes = node->attributes.list;
    const size_t count = nsk_value_count(constant);
    *by_channel = false;
    if (constant->data == NULL || count == 1) {
        return constant->data != NULL;
    }
    const int ahead = like->rank - constant->rank;
    bool block = node->attributes.size == 1 && count == nsk_blocks_of(g, node).run;
    bool channel = like->rank >= 2 && like->dims[0] == 1 && count == (size_t)like->dims[1];
    for (int i = 0; i < constant->rank; i++) {
        bool spread = constant->dims[i] == 1;
        block = block && (spread || (i + ahead >= axes[0] && i + ahead < axes[1]));
        channel = channel && (spread || i + ahead == 1);
    }
    *by_channel = !block;
    return block || channel;
}

/* A new constant of the node's: the numbers of `value`, times and plus one number. */
static int changed(nsk_graph *g, const nsk_node *node, const char *what, int value, double times,
                   double plus) {
    const nsk_value *v = nsk_graph_value(g, value);
    const int64_t count = (int64_t)nsk_value_count(v);
    float *data = g_new(float, count);
    for (int64_t i = 0; i < count; i++) {
        data[i] = (float)((double)v->data[i] * times + plus);
    }
    char *name = g_strdup_printf("%s:%s", node->name, what);
    int made = nsk_graph_add_constant(g, name, 1, &count, data);
    g_free(name);
    return made;
}

/* The number that the node's gain or offset is, where it is one. */
static bool own_number(const nsk_graph *g, const nsk_node *node, int input, double *number) {
    *number = input == 1 ? 1.0 : 0.0;
    return nsk_node_input(g, node, input) == NULL ||
           nsk_single_number(g, node->input[input], number);
}

/* Gains: those that are there times the constant; one of both is one number. */
static bool take_product(nsk_graph *g, nsk_node *node, int constant) {
    double own[2];
    double number;
    bool single = nsk_single_number(g, constant, &number);
    bool gain_is_one = own_number(g, node, 1, &own[0]);
    bool offset_is_one = own_number(g, node, 2, &own[1]);
    if (!(single || (gain_is_one && offset_is_one))) {
        return false;
    }
    bool offset = node->inputs > 2;
    int gains = gain_is_one ? changed(g, node, "gain", constant, own[0], 0.0)
                            : changed(g, node, "gain", node->input[1], number, 0.0);
    if (offset) {
        node->input[2] = offset_is_one ? changed(g, node, "offset", constant, own[1], 0.0)
                                       : changed(g, node, "offset", node->input[2], number, 0.0);
    }
    node->input[1] = gains;
    node->inputs = offset ? 3 : 2;
    return true;
}

static bool take_offset(nsk_graph *g, nsk_node *node, int constant) {
    double own;
    double number;
    bool one = own_number(g, node, 2, &own);
    if (!one && !nsk_single_number(g, constant, &number)) {
        return false;
    }
    int offsets = one ? changed(g, node, "offset", constant, 1.0, own)
                      : changed(g, node, "offset", node->input[2], 1.0, number);
    node->input[1] = node->inputs > 1 ? node->input[1] : NSK_NONE;
    node->input[2] = offsets;
    node->inputs = 3;
    return true;
}

/* Whether gains or offsets of the node stand for places already. */
static bool has_places(const nsk_graph *g, const nsk_node *node) {
    double number;
    return !own_number(g, node, 1, &number) || !own_number(g, node, 2, &number);
}

/* The constant of a product or sum behind a normalisation, times or plus what is there. */
static bool take_constant(nsk_graph *g, nsk_node *node, nsk_node *behind, int value) {
    const int constant = behind->input[behind->input[0] == value ? 1 : 0];
    const nsk_value *v = nsk_graph_value(g, constant);
    bool by_channel;
    if (!isinf(node->low) || !isinf(node->high) ||
        !meets(g, node, v, nsk_graph_value(g, value), &by_channel)) {
        return false;
    }
    bool single = nsk_value_count(v) == 1;
    if (!single && has_places(g, node) && node->attributes.by_channel != by_channel) {
        return false;
    }
    if (!(behind->op == NSK_OP_MUL ? take_product : take_offset)(g, node, constant)) {
        return false;
    }
    node->attributes.by_channel = single ? node->attributes.by_channel : by_channel;
    node->low = behind->low;
    node->high = behind->high;
    nsk_graph_bypass(g, behind, value);
    return true;
}

/* Whether a product or sum with it changes nothing. */
static bool is_idle(const nsk_graph *g, const nsk_node *pair, int value) {
    const nsk_value *v = nsk_graph_value(g, pair->input[pair->input[0] == value ? 1 : 0]);
    const double idle = pair->op == NSK_OP_MUL ? 1.0 : 0.0;
    bool all = v->data != NULL && isinf(pair->low) && isinf(pair->high) &&
               same_shape(nsk_graph_value(g, value), nsk_graph_value(g, pair->output));
    for (size_t i = 0; all && i < nsk_value_count(v); i++) {
        all = !(fabs((double)v->data[i] - idle) > 0.0);
    }
    return all;
}

/* Constants one for each channel go through a reshape that keeps the channels. */
static bool swap_reshape(nsk_graph *g, nsk_node *reshape) {
    nsk_node *behind = only_reader(g, reshape->output);
    const nsk_value *in = nsk_node_input(g, reshape, 0);
    const nsk_value *out = nsk_graph_value(g, reshape->output);
    bool pair = behind != NULL && (behind->op == NSK_OP_MUL || behind->op == NSK_OP_ADD);
    if (!pair || in->rank < 2 || out->rank < 2 || in->dims[0] != 1 || out->dims[0] != 1 ||
        in->dims[1] != out->dims[1]) {
        return false;
    }
    const int side = behind->input[0] == reshape->output ? 1 : 0;
    const nsk_value *constant = nsk_graph_value(g, behind->input[side]);
    const size_t count = nsk_value_count(constant);
    bool good = constant->data != NULL && (count == 1 || count == (size_t)out->dims[1]);
    for (int i = 0; i < constant->rank && good; i++) {
        good = constant->dims[i] == 1 || i + out->rank - constant->rank == 1;
    }
    if (!good || !same_shape(out, nsk_graph_value(g, behind->output))) {
        return false;
    }
    int64_t dims[NSK_MOST_RANK] = {1, 1, 1, 1, 1, 1, 1, 1};
    dims[1] = (int64_t)count;
    char *name = g_strdup_printf("%s:turned", behind->name);
    int turned = nsk_graph_add_constant(g, name, in->rank, dims,
                                        g_memdup2(constant->data, count * sizeof(float)));
    g_free(name);
    /* reshape(y) + c = reshape(y + c'): the nodes keep their outputs' names, and change places */
    int outer = behind->output;
    int between = reshape->output;
    nsk_value *v = nsk_graph_value(g, between);
    behind->input[1 - side] = reshape->input[0];
    behind->input[side] = turned;
    behind->output = between;
    reshape->input[0] = between;
    reshape->output = outer;
    int first = v->producer;
    v->producer = nsk_graph_value(g, outer)->producer;
    nsk_graph_value(g, outer)->producer = first;
    v->rank = in->rank;
    memcpy(v->dims, in->dims, sizeof v->dims);
    return true;
}

void nsk_take_in(nsk_rewriting *r) {
    nsk_node *node = r->node;
    for (bool more = true; more;) {
        nsk_node *behind = only_reader(r->graph, node->output);
        bool pair = behind != NULL && (behind->op == NSK_OP_MUL || behind->op == NSK_OP_ADD);
        if (pair && is_idle(r->graph, behind, node->output)) {
            nsk_graph_bypass(r->graph, behind, node->output);
            continue;
        }
        more = pair ? take_constant(r->graph, node, behind, node->output)
               : behind != NULL && behind->op == NSK_OP_RESHAPE
                   ? take_reshapes(r->graph, node, behind) || swap_reshape(r->graph, behind)
                   : false;
    }
}
