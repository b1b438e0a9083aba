/* Normalisations as exporters and the standard write them out, each found and made one node:
 *
 *     (x - mean(x)) / sqrt(mean((x - mean(x))^2) + e)     layer, group and instance normalisation
 *     x / sqrt(mean(x^2) + e)                             by the root of the mean square
 *     x / sqrt(sum(x^2) + e)                              by the length
 *     x k + (offset - mean(x) k),  k = gain / sqrt(...)   the first, its factors taken out
 *
 * with squares as products or powers, roots as such or as powers, and constant gains and offsets
 * behind them. Runs where quotients have become products with reciprocals. */
#include <math.h>
#include <string.h>

#include "float/forward.h"
#include "graph/rearrange.h"
#include "rewrite/rewriting.h"

/* What is known of one. */
typedef struct found {
    int x;              /* what is normalised */
    int64_t axes[2];    /* the first, and one past the last */
    nsk_attributes way; /* of the node that it becomes */
    double gain;
} found;

/* ---- looking at what stands before a value ---- */

/* The argument of a function of one step, or NSK_NONE. */
static int argument(const nsk_graph *g, int value, nsk_function fn) {
    const nsk_node *node = nsk_maker_of(g, value, NSK_OP_FUNCTION);
    bool is = node != NULL && node->program->count == 1 && node->program->steps[0].fn == fn;
    return is ? node->input[0] : NSK_NONE;
}

/* The base of a power with that exponent, or NSK_NONE. */
static int base_of(const nsk_graph *g, int value, double exponent) {
    const nsk_node *node = nsk_maker_of(g, value, NSK_OP_POW);
    double number;
    return node != NULL && nsk_single_number(g, node->input[1], &number) &&
                   fabs(number - exponent) < 1e-9
               ? node->input[0]
               : NSK_NONE;
}

/* The side of a sum or product that is not constant, and the number that the other one is. */
static int beside_number(const nsk_graph *g, int value, nsk_op op, double *number) {
    const nsk_node *node = nsk_maker_of(g, value, op);
    for (int side = 0; node != NULL && side < 2; side++) {
        if (nsk_single_number(g, node->input[side], number)) {
            return node->input[1 - side];
        }
    }
    return NSK_NONE;
}

static int inner(int first, int otherwise) {
    return first != NSK_NONE ? first : otherwise;
}

/* Whether both are computed in the same way: exporters write x - mean(x) out twice. */
static bool same(const nsk_graph *g, int a, int b, int depth) {
    const nsk_node *left = nsk_graph_producer(g, a);
    const nsk_node *right = nsk_graph_producer(g, b);
    if (a == b || left == NULL || right == NULL || depth == 0) {
        return a == b;
    }
    bool alike = left->op == right->op && left->inputs == right->inputs &&
                 (left->op == NSK_OP_SUB || left->op == NSK_OP_REDUCE_MEAN);
    for (int i = 0; i < (left->op == NSK_OP_SUB ? 2 : 1) && alike; i++) {
        alike = same(g, left->input[i], right->input[i], depth - 1);
    }
    return alike;
}

/* ---- the parts ---- */

/* A mean, or a sum, over axes that follow each other, which stay as ones; what it is of. */
static int reduced(const nsk_graph *g, int value, nsk_op op, int64_t *axes) {
    const nsk_node *node = nsk_maker_of(g, value, op);
    bool marked[NSK_MOST_RANK] = {false};
    nsk_error error;
    if (node == NULL || !node->attributes.keep_axes ||
        !nsk_axes_of(g, node, node->attributes.none_means_all, marked, &error)) {
        return NSK_NONE;
    }
    const nsk_value *in = nsk_node_input(g, node, 0);
    axes[0] = axes[1] = 0;
    for (int axis = 0; axis < in->rank; axis++) {
        if (marked[axis] && axes[1] != axis && in->dims[axis] > 1) {
            if (axes[1] > axes[0]) {
                return NSK_NONE; /* others between them */
            }
            axes[0] = axis;
        }
        if (marked[axis] && (axes[1] == axis || in->dims[axis] > 1)) {
            axes[1] = axis + 1;
        }
    }
    return axes[1] > axes[0] ? node->input[0] : NSK_NONE;
}

/* What the squares are of. */
static int squared(const nsk_graph *g, int value) {
    const nsk_node *product = nsk_maker_of(g, value, NSK_OP_MUL);
    if (product != NULL) {
        return same(g, product->input[0], product->input[1], 2) ? product->input[0] : NSK_NONE;
    }
    int base = base_of(g, value, 2.0);
    return base != NSK_NONE ? inner(argument(g, base, NSK_FN_ABS), base) : NSK_NONE;
}

/* sqrt(value): what stands below it. */
static int under_root(const nsk_graph *g, int value) {
    return inner(argument(g, value, NSK_FN_SQRT), base_of(g, value, 0.5));
}

/* A variance, something added or not: what it is the variance of. */
static int read_variance(const nsk_graph *g, int value, found *f) {
    value = inner(beside_number(g, value, NSK_OP_ADD, &f->way.epsilon), value);
    int squares = reduced(g, value, NSK_OP_REDUCE_MEAN, f->axes);
    bool mean = squares != NSK_NONE;
    squares = mean ? squares : reduced(g, value, NSK_OP_REDUCE_SUM, f->axes);
    int of = squares != NSK_NONE ? squared(g, squares) : NSK_NONE;
    if (of != NSK_NONE && !mean) { /* a length is the mean's root of so many */
        const nsk_value *v = nsk_graph_value(g, of);
        double count = 1.0;
        for (int64_t axis = f->axes[0]; axis < f->axes[1]; axis++) {
            count *= (double)v->dims[axis];
        }
        f->gain = 1.0 / sqrt(count);
        f->way.epsilon /= count;
        f->way.alpha *= f->gain;
        f->way.beta *= f->gain;
    }
    return of;
}

/* A thousandth, as a file has it. */
#define MOST_ASIDE ((double)1e-3F)

/* A deviation, something added, a least one, or spread: what it is the deviation of. */
static int read_deviation(const nsk_graph *g, int value, found *f) {
    const nsk_node *expand = nsk_maker_of(g, value, NSK_OP_EXPAND);
    value = expand != NULL ? expand->input[0] : value;
    const nsk_node *clip = nsk_graph_producer(g, value);
    if (clip != NULL && clip->op == NSK_OP_CLIP && !clip->dead) {
        double high;
        nsk_clamp_of(g, clip, &f->way.beta, &high);
        if (!isinf(high) || !(f->way.beta >= 0.0)) {
            return NSK_NONE;
        }
        value = clip->input[0];
    } else {
        value = inner(beside_number(g, value, NSK_OP_MAX, &f->way.beta), value);
    }
    int root = under_root(g, value);
    if (root == NSK_NONE) {
        value = inner(beside_number(g, value, NSK_OP_ADD, &f->way.alpha), value);
        root = under_root(g, value);
    }
    /* the integers add both to the variance, which is right where they only keep from dividing by
     * nothing */
    return root != NSK_NONE && fabs(f->way.alpha) <= MOST_ASIDE && f->way.beta <= MOST_ASIDE
               ? read_variance(g, root, f)
               : NSK_NONE;
}

/* 1 / deviation: what it is the deviation of. */
static int read_inverse(const nsk_graph *g, int value, found *f) {
    int deviation = argument(g, value, NSK_FN_RECIPROCAL);
    if (deviation != NSK_NONE) {
        return read_deviation(g, deviation, f);
    }
    int variance = base_of(g, value, -0.5);
    return variance != NSK_NONE ? read_variance(g, variance, f) : NSK_NONE;
}

/* What is x where `of` is x - mean(x) over the axes; it is x itself else. */
static void read_centre(const nsk_graph *g, int of, found *f) {
    const nsk_node *difference = nsk_maker_of(g, of, NSK_OP_SUB);
    int64_t axes[2];
    f->x = of;
    if (difference != NULL &&
        reduced(g, difference->input[1], NSK_OP_REDUCE_MEAN, axes) == difference->input[0] &&
        memcmp(axes, f->axes, sizeof axes) == 0) {
        f->x = difference->input[0];
        f->way.centred = true;
    }
}

/* ---- the whole ---- */

/* d x inverse, in either order, d being what the inverse is of. */
static bool read_product(const nsk_graph *g, const nsk_node *node, found *f) {
    for (int side = 0; side < 2; side++) {
        *f = (found){.gain = 1.0};
        int of = read_inverse(g, node->input[side], f);
        if (of != NSK_NONE && same(g, of, node->input[1 - side], 2)) {
            read_centre(g, of, f);
            return true;
        }
    }
    return false;
}

/* The other side of a product that has `value` as a side, or NSK_NONE. */
static int other_side(const nsk_node *product, int value) {
    return product == NULL              ? NSK_NONE
           : product->input[0] == value ? product->input[1]
           : product->input[1] == value ? product->input[0]
                                        : NSK_NONE;
}

/* The inverse in k, which is that or its product with a constant, NSK_NONE where there is none. */
static int read_factor(const nsk_graph *g, int k, found *f, int *constant) {
    const nsk_node *product = nsk_maker_of(g, k, NSK_OP_MUL);
    *constant = NSK_NONE;
    for (int side = 0; product != NULL && side < 2; side++) {
        if (nsk_graph_is_constant(g, product->input[side])) {
            *constant = product->input[side];
            k = product->input[1 - side];
        }
    }
    *f = (found){.gain = 1.0};
    return read_inverse(g, k, f);
}

/* x k + (offset - mean(x) k): `mine` is x k, `other` the rest. */
static bool read_taken_out(const nsk_graph *g, int mine, int other, found *f, int *gain,
                           int *offset) {
    const nsk_node *scaled = nsk_maker_of(g, mine, NSK_OP_MUL);
    const nsk_node *rest = nsk_maker_of(g, other, NSK_OP_SUB);
    for (int side = 0; scaled != NULL && rest != NULL && side < 2; side++) {
        int k = scaled->input[side];
        int mean = other_side(nsk_maker_of(g, rest->input[1], NSK_OP_MUL), k);
        int of = mean != NSK_NONE ? read_factor(g, k, f, gain) : NSK_NONE;
        int64_t axes[2];
        if (of != NSK_NONE && nsk_graph_is_constant(g, rest->input[0]) &&
            reduced(g, mean, NSK_OP_REDUCE_MEAN, axes) == scaled->input[1 - side]) {
            read_centre(g, of, f);
            *offset = rest->input[0];
            return f->way.centred && f->x == scaled->input[1 - side] &&
                   memcmp(axes, f->axes, sizeof axes) == 0;
        }
    }
    return false;
}

/* ---- its name ---- */

/* What the names of two nodes begin with, up to a '/': that of the module, or of the function. */
static size_t common(const char *a, const char *b) {
    size_t whole = 0;
    for (size_t i = 0; a[i] != '\0' && a[i] == b[i]; i++) {
        whole = a[i] == '/' ? i : whole;
    }
    return whole;
}

static void name_it(nsk_graph *g, nsk_node *node, const char *inverse) {
    size_t length = common(node->name, inverse);
    char *name = g_strndup(node->name, length);
    for (int i = 0; i < (int)g->nodes->len && length > 0; i++) {
        length = strcmp(nsk_graph_node(g, i)->name, name) == 0 ? 0 : length;
    }
    if (length > 0) {
        g_free(node->name);
        node->name = name;
    } else {
        g_free(name);
    }
}

/* ---- made one node ---- */

static void become(nsk_rewriting *r, const found *f, const char *inverse) {
    nsk_node *node = r->node;
    name_it(r->graph, node, inverse);
    node->op = NSK_OP_NORMALISE;
    node->attributes = f->way;
    node->attributes.list[0] = f->axes[0];
    node->attributes.list[1] = f->axes[1];
    node->attributes.size = 1;
    node->input[0] = f->x;
    node->inputs = 1;
    if (fabs(f->gain - 1.0) > 0.0) {
        float *gain = g_new(float, 1);
        *gain = (float)f->gain;
        node->input[1] = nsk_rewriting_constant(r, 0, NULL, gain);
        node->inputs = 2;
    }
}

/* A node of its own, beside r->node; its output. */
static int made_of(nsk_rewriting *r, const found *f) {
    const int x = nsk_rewriting_pair(r, NSK_OP_MUL, f->x, f->x); /* of x's shape; becomes it */
    nsk_rewriting inside = *r;
    inside.node = nsk_graph_producer(r->graph, x);
    become(&inside, f, inside.node->name);
    return x;
}

static void find_product(nsk_rewriting *r) {
    found f;
    if (read_product(r->graph, r->node, &f)) {
        const nsk_node *other = nsk_graph_producer(r->graph, r->node->input[1]);
        become(r, &f, other->name);
        return;
    }
    for (int side = 0; side < 2; side++) { /* d x (inverse x gain) */
        int constant;
        int of = read_factor(r->graph, r->node->input[side], &f, &constant);
        if (of != NSK_NONE && constant != NSK_NONE &&
            same(r->graph, of, r->node->input[1 - side], 2)) {
            read_centre(r->graph, of, &f);
            r->node->input[0] = made_of(r, &f);
            r->node->input[1] = constant;
            return;
        }
    }
}

static void find_sum(nsk_rewriting *r) {
    for (int side = 0; side < 2; side++) {
        found f;
        int gain;
        int offset;
        if (!read_taken_out(r->graph, r->node->input[side], r->node->input[1 - side], &f, &gain,
                            &offset)) {
            continue;
        }
        int x = made_of(r, &f);
        r->node->input[0] = gain != NSK_NONE ? nsk_rewriting_pair(r, NSK_OP_MUL, x, gain) : x;
        r->node->input[1] = offset;
        return;
    }
}

bool nsk_graph_find_normalisations(nsk_graph *graph, nsk_error *error) {
    static nsk_rewriter *const whole[NSK_OPS] = {
        [NSK_OP_MUL] = find_product,
        [NSK_OP_ADD] = find_sum,
    };
    static nsk_rewriter *const around[NSK_OPS] = {[NSK_OP_NORMALISE] = nsk_take_in};
    return nsk_rewriting_apply(graph, whole, error) && nsk_rewriting_apply(graph, around, error);
}
