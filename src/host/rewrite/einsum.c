/* Einsum as a product of matrices, or as a sum: each input's axes are brought into groups, in the
 * order that MatMul wants: those of both inputs that stay, those of one, those that are summed
 * over. */
#include "graph/einsum.h"

#include <string.h>

#include "rewrite/rewriting.h"

typedef enum group { BOTH, LEFT, RIGHT, SUMMED, GROUPS } group;

/* Letters by group, and how many elements each group is. */
typedef struct grouping {
    char letters[GROUPS][NSK_MOST_LETTERS + 1];
    int64_t size[GROUPS];
} grouping;

static bool stays(const nsk_einsum *e, char letter) {
    return nsk_einsum_axis(e, NSK_EINSUM_OUTPUT, letter) != NSK_NONE;
}

static void add_letter(grouping *g, group which, char letter, int64_t size) {
    size_t count = strlen(g->letters[which]);
    g->letters[which][count] = letter;
    g->size[which] *= size;
}

static grouping grouping_of(const nsk_einsum *e) {
    grouping g = {.size = {1, 1, 1, 1}};
    for (int i = 0; i < e->letters; i++) {
        bool left = nsk_einsum_axis(e, 0, e->name[i]) != NSK_NONE;
        bool right = e->inputs > 1 && nsk_einsum_axis(e, 1, e->name[i]) != NSK_NONE;
        add_letter(&g,
                   !stays(e, e->name[i]) ? SUMMED
                   : left && right       ? BOTH
                   : left                ? LEFT
                                         : RIGHT,
                   e->name[i], e->size[i]);
    }
    return g;
}

/* Turns the value's axes into the order of `wanted`, of which it has all. */
static int turn(nsk_rewriting *r, int value, const char *letters, const char *wanted) {
    nsk_attributes order = {.listed = (int)strlen(wanted)};
    bool same = true;
    for (int i = 0; i < order.listed; i++) {
        order.list[i] = strchr(letters, wanted[i]) - letters;
        same = same && order.list[i] == i;
    }
    return same ? value : nsk_rewriting_append(r, NSK_OP_TRANSPOSE, 1, &value, &order);
}

/* Sums over the letters that only this input has and the output lacks; `letters` loses them. */
static int sum_alone(nsk_rewriting *r, const nsk_einsum *e, int side, int value, char *letters) {
    const nsk_attributes attributes = {.keep_axes = false};
    int64_t axes[NSK_MOST_RANK];
    int count = 0;
    char kept[NSK_MOST_RANK + 1] = "";
    size_t left = 0;
    for (int i = 0; letters[i] != '\0'; i++) {
        bool other = e->inputs > 1 && nsk_einsum_axis(e, 1 - side, letters[i]) != NSK_NONE;
        if (stays(e, letters[i]) || other) {
            kept[left++] = letters[i];
        } else {
            axes[count++] = i;
        }
    }
    if (count == 0) {
        return value;
    }
    strcpy(letters, kept); /* NOLINT(clang-analyzer-security.insecureAPI.strcpy): never longer */
    const int inputs[2] = {value, nsk_rewriting_list(r, count, axes)};
    return nsk_rewriting_append(r, NSK_OP_REDUCE_SUM, 2, inputs, &attributes);
}

/* An axis of one element that meets a longer one of the other input is spread to it. */
static int spread(nsk_rewriting *r, const nsk_einsum *e, int value, const char *letters) {
    nsk_value shape = *nsk_graph_value(r->graph, value);
    bool same = true;
    for (int axis = 0; axis < shape.rank; axis++) {
        for (int i = 0; i < e->letters; i++) {
            if (e->name[i] == letters[axis]) {
                same = same && shape.dims[axis] == e->size[i];
                shape.dims[axis] = e->size[i];
            }
        }
    }
    const int inputs[2] = {value, nsk_rewriting_list(r, shape.rank, shape.dims)};
    return same ? value : nsk_rewriting_append(r, NSK_OP_EXPAND, 2, inputs, NULL);
}

/* One side as matrices: batch x rows x columns; one of them without a batch. */
static int matrices(nsk_rewriting *r, const nsk_einsum *e, int side, const grouping *g, group rows,
                    group columns) {
    char letters[NSK_MOST_RANK + 1] = "";
    memcpy(letters, e->letter[side], (size_t)e->rank[side]);
    int value = sum_alone(r, e, side, r->node->input[side], letters);
    value = spread(r, e, value, letters);
    char wanted[3 * NSK_MOST_LETTERS + 1] = "";
    const group order[3] = {BOTH, rows, columns};
    for (int i = 0; i < 3; i++) {
        for (const char *letter = g->letters[order[i]]; *letter != '\0'; letter++) {
            if (strchr(letters, *letter) != NULL) {
                g_strlcat(wanted, (const char[2]){*letter, '\0'}, sizeof wanted);
            }
        }
    }
    value = turn(r, value, letters, wanted);
    const int64_t dims[3] = {g->size[BOTH], g->size[rows], g->size[columns]};
    bool one = dims[0] == 1;
    return nsk_rewriting_reshape(r, value, one ? 2 : 3, one ? dims + 1 : dims);
}

static void swap_inputs(nsk_rewriting *r, nsk_einsum *e) {
    const nsk_einsum was = *e;
    int first = r->node->input[0];
    r->node->input[0] = r->node->input[1];
    r->node->input[1] = first;
    for (int side = 0; side < 2; side++) {
        e->rank[side] = was.rank[1 - side];
        memcpy(e->letter[side], was.letter[1 - side], sizeof was.letter[side]);
    }
}

void nsk_write_out_einsum(nsk_rewriting *r) {
    nsk_einsum e;
    if (!nsk_einsum_of(r->graph, r->node, &e, r->error)) {
        r->good = false;
        return;
    }
    if (e.diagonal) {
        return; /* no layer picks one */
    }
    if (e.inputs == 2 && nsk_graph_is_constant(r->graph, r->node->input[0])) {
        swap_inputs(r, &e); /* layers have their constants on the right */
    }
    grouping g = grouping_of(&e);
    char out[NSK_MOST_RANK + 1] = "";
    memcpy(out, e.letter[NSK_EINSUM_OUTPUT], (size_t)e.rank[NSK_EINSUM_OUTPUT]);
    if (e.inputs == 1) {
        char letters[NSK_MOST_RANK + 1] = "";
        memcpy(letters, e.letter[0], (size_t)e.rank[0]);
        int value = sum_alone(r, &e, 0, r->node->input[0], letters);
        value = turn(r, value, letters, out);
        nsk_rewriting_finish(r, value == r->node->input[0]
                                    ? nsk_rewriting_append(r, NSK_OP_IDENTITY, 1, &value, NULL)
                                    : value);
        return;
    }
    for (const char *letter = g.letters[SUMMED]; *letter != '\0'; letter++) {
        bool both = nsk_einsum_axis(&e, 0, *letter) != NSK_NONE &&
                    nsk_einsum_axis(&e, 1, *letter) != NSK_NONE;
        for (int i = 0; i < e.letters && !both; i++) {
            g.size[SUMMED] /= e.name[i] == *letter ? e.size[i] : 1; /* summed by itself */
        }
    }
    const int inputs[2] = {matrices(r, &e, 0, &g, LEFT, SUMMED),
                           matrices(r, &e, 1, &g, SUMMED, RIGHT)};
    int product = nsk_rewriting_append(r, NSK_OP_MATMUL, 2, inputs, NULL);
    char made[3 * NSK_MOST_LETTERS + 1] = "";
    int64_t dims[NSK_MOST_RANK];
    g_snprintf(made, sizeof made, "%s%s%s", g.letters[BOTH], g.letters[LEFT], g.letters[RIGHT]);
    for (int i = 0; made[i] != '\0'; i++) {
        for (int k = 0; k < e.letters; k++) {
            dims[i] = e.name[k] == made[i] ? e.size[k] : dims[i];
        }
    }
    int shaped = nsk_rewriting_reshape(r, product, (int)strlen(made), dims);
    nsk_rewriting_finish(r, turn(r, shaped, made, out));
}
