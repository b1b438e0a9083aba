/* Chains of element-wise operators that start from one tensor and use plain numbers become one
 * function of it: x * clip(x + 3, 0, 6) / 6, say, however an exporter has written it out. */
#include <math.h>
#include <string.h>

#include "float/forward.h"
#include "float/kernel.h"
#include "rewrite/rewrite.h"

/* What a node's operand is: a number, or a function of a root. */
typedef struct operand {
    bool number;
    double is;
    int root;
    const nsk_program *program; /* NULL: the root itself */
} operand;

static bool read_operand(const nsk_graph *graph, int value, operand *o) {
    const nsk_value *v = nsk_graph_value(graph, value);
    const nsk_node *producer = nsk_graph_producer(graph, value);
    *o = (operand){.root = value};
    if (v->data != NULL) {
        o->number = true;
        o->is = (double)v->data[0];
        return nsk_value_count(v) == 1;
    }
    if (producer != NULL && producer->op == NSK_OP_FUNCTION) {
        o->root = producer->input[0];
        o->program = producer->program;
    }
    return true;
}

/* Appends the operand's steps; returns what stands for it in a later step. */
static int append_operand(nsk_program *to, const operand *o) {
    if (o->number) {
        return NSK_PARAMETER;
    }
    if (o->program == NULL) {
        return NSK_ARGUMENT;
    }
    int base = to->count;
    for (int i = 0; i < o->program->count; i++) {
        nsk_function_step step = o->program->steps[i];
        step.a = step.a >= 0 ? step.a + base : step.a;
        step.b = step.b >= 0 ? step.b + base : step.b;
        to->steps[to->count++] = step;
    }
    return to->count - 1;
}

static int steps_of(const operand *o) {
    return o->program != NULL ? o->program->count : 0;
}

/* Relu and Clip, and the clamp that was folded into any other node. */
static void append_clamp(const nsk_graph *graph, const nsk_node *node, nsk_program *to, int of) {
    nsk_function_step clip = {.fn = NSK_FN_CLIP, .a = of};
    nsk_clamp_of(graph, node, &clip.alpha, &clip.beta);
    if (!isinf(clip.alpha) || !isinf(clip.beta)) {
        to->steps[to->count++] = clip;
    }
}

static bool operands_of(const nsk_graph *graph, const nsk_node *node, int count, operand *o) {
    int steps = 2;
    for (int i = 0; i < count; i++) {
        if (!read_operand(graph, node->input[i], &o[i])) {
            return false;
        }
        steps += steps_of(&o[i]);
    }
    bool one_root = count == 1 || o[0].number || o[1].number || o[0].root == o[1].root;
    bool two_numbers = o[0].number && (count == 1 || o[1].number);
    return one_root && !two_numbers && steps <= NSK_MOST_STEPS;
}

static void make_function(nsk_graph *graph, nsk_node *node, int count, const operand *o) {
    nsk_program *program = g_new0(nsk_program, 1);
    int a = append_operand(program, &o[0]);
    if (node->op == NSK_OP_FUNCTION) {
        nsk_function_step step = node->program->steps[0];
        step.a = a;
        program->steps[program->count++] = step;
        a = program->count - 1;
    } else if (count == 2) {
        nsk_function_step step = {.fn = nsk_pair_function(node->op), .a = a};
        step.b = append_operand(program, &o[1]);
        step.alpha = o[0].number ? o[0].is : o[1].is;
        program->steps[program->count++] = step;
        a = program->count - 1;
    }
    append_clamp(graph, node, program, a);
    for (int i = 0; i < count; i++) {
        const nsk_node *gone = nsk_graph_producer(graph, node->input[i]);
        if (o[i].program != NULL && nsk_graph_readers(graph, node->input[i]) == 1) {
            nsk_node_note(node, gone);
        }
    }
    g_free(node->program);
    node->program = program;
    node->op = NSK_OP_FUNCTION;
    node->input[0] = o[0].number ? o[1].root : o[0].root;
    node->inputs = 1;
    node->low = -INFINITY;
    node->high = INFINITY;
}

/* A function that keeps the shape of its root: a constant must not spread it. */
static bool keeps_shape(const nsk_graph *graph, const nsk_node *node, int root) {
    const nsk_value *in = nsk_graph_value(graph, root);
    const nsk_value *out = nsk_graph_value(graph, node->output);
    return in->rank == out->rank && memcmp(in->dims, out->dims, (size_t)in->rank * 8) == 0;
}

static void fuse_node(nsk_graph *graph, nsk_node *node) {
    bool pair = nsk_pair_function(node->op) < NSK_FNS;
    bool clamps = node->op == NSK_OP_RELU || node->op == NSK_OP_CLIP;
    bool plain = node->op == NSK_OP_FUNCTION && node->program->count == 1;
    operand o[2];
    if ((!pair && !clamps && !plain) || !operands_of(graph, node, pair ? 2 : 1, o)) {
        return;
    }
    bool alone = clamps && o[0].program == NULL;
    if (!alone && keeps_shape(graph, node, o[0].number ? o[1].root : o[0].root)) {
        make_function(graph, node, pair ? 2 : 1, o);
    }
}

void nsk_graph_fuse(nsk_graph *graph) {
    for (int i = 0; i < (int)graph->nodes->len; i++) {
        nsk_node *node = nsk_graph_node(graph, i);
        if (!node->dead) {
            fuse_node(graph, node);
        }
    }
    nsk_graph_sort(graph);
}
