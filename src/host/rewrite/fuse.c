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

enum { MOST_OPERANDS = 3 };

/* The one tensor that all operands start from; NSK_NONE where there are none or several. */
static int root_of(const operand *o, int count) {
    int root = NSK_NONE;
    for (int i = 0; i < count; i++) {
        if (!o[i].number && root != NSK_NONE && o[i].root != root) {
            return NSK_NONE;
        }
        root = o[i].number ? root : o[i].root;
    }
    return root;
}

static bool operands_of(const nsk_graph *graph, const nsk_node *node, int count, operand *o) {
    int steps = 2 + count /* those of the node itself, and a clamp */;
    for (int i = 0; i < count; i++) {
        if (!read_operand(graph, node->input[i], &o[i])) {
            return false;
        }
        steps += steps_of(&o[i]);
    }
    bool chosen = node->op == NSK_OP_WHERE && o[0].number; /* once for all */
    return root_of(o, count) != NSK_NONE && !chosen && steps <= NSK_MOST_STEPS;
}

static int append_step(nsk_program *to, nsk_function_step step) {
    to->steps[to->count++] = step;
    return to->count - 1;
}

/* The step of two operands, of which at most one is a number. */
static int append_pair(nsk_program *to, nsk_function fn, int a, const operand *left, int b,
                       const operand *right) {
    return append_step(to,
                       (nsk_function_step){
                           .fn = fn, .a = a, .b = b, .alpha = left->number ? left->is : right->is});
}

/* Where: one side or nothing, and the other or nothing, added. */
static int append_choice(nsk_program *to, const operand *o, const int *at) {
    int then = append_pair(to, NSK_FN_IF, at[0], &o[0], at[1], &o[1]);
    int otherwise = append_pair(to, NSK_FN_UNLESS, at[0], &o[0], at[2], &o[2]);
    return append_step(to, (nsk_function_step){.fn = NSK_FN_ADD, .a = then, .b = otherwise});
}

static void make_function(nsk_graph *graph, nsk_node *node, int count, const operand *o) {
    nsk_program *program = g_new0(nsk_program, 1);
    int at[MOST_OPERANDS] = {0};
    for (int i = 0; i < count; i++) {
        at[i] = append_operand(program, &o[i]);
    }
    int last = at[0];
    if (node->op == NSK_OP_FUNCTION) {
        nsk_function_step step = node->program->steps[0];
        step.a = last;
        last = append_step(program, step);
    } else if (node->op == NSK_OP_WHERE) {
        last = append_choice(program, o, at);
    } else if (count == 2) {
        last = append_pair(program, nsk_pair_function(node->op), at[0], &o[0], at[1], &o[1]);
    }
    append_clamp(graph, node, program, last);
    for (int i = 0; i < count; i++) {
        const nsk_node *gone = nsk_graph_producer(graph, node->input[i]);
        if (o[i].program != NULL && nsk_graph_readers(graph, node->input[i]) == 1) {
            nsk_node_note(node, gone);
        }
    }
    g_free(node->program);
    node->program = program;
    node->op = NSK_OP_FUNCTION;
    node->input[0] = root_of(o, count);
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
    int count = node->op == NSK_OP_WHERE ? 3 : pair ? 2 : 1;
    operand o[MOST_OPERANDS];
    if ((count == 1 && !clamps && !plain) || !operands_of(graph, node, count, o)) {
        return;
    }
    bool alone = clamps && o[0].program == NULL;
    if (!alone && keeps_shape(graph, node, root_of(o, count))) {
        make_function(graph, node, count, o);
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
