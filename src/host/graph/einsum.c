#include "graph/einsum.h"

#include <string.h>

#include "graph/infer.h"

static bool fail(const nsk_node *node, nsk_error *error, const char *text) {
    return nsk_fail(error, "node '%s' (Einsum): '%s': %s", node->name, node->attributes.equation,
                    text);
}

int nsk_einsum_axis(const nsk_einsum *e, int side, char letter) {
    for (int i = 0; i < e->rank[side]; i++) {
        if (e->letter[side][i] == letter) {
            return i;
        }
    }
    return NSK_NONE;
}

/* One side's letters; an ellipsis is `wide` axes. Returns what stands behind them, or NULL. */
static const char *read_side(nsk_einsum *e, int side, const char *text, int wide) {
    while (*text != '\0' && *text != ',' && *text != '-') {
        bool dots = strncmp(text, "...", 3) == 0;
        int axes = dots ? wide : 1;
        if (axes < 0 || e->rank[side] + axes > NSK_MOST_RANK ||
            (!dots && !g_ascii_isalpha(*text))) {
            return NULL;
        }
        for (int i = 0; i < axes; i++) {
            char letter = dots ? (char)('0' + axes - 1 - i) : *text;
            bool again = nsk_einsum_axis(e, side, letter) != NSK_NONE;
            e->diagonal = e->diagonal || again;
            if (again && side == NSK_EINSUM_OUTPUT) {
                return NULL;
            }
            e->letter[side][e->rank[side]++] = letter;
        }
        text += dots ? 3 : 1;
    }
    return text;
}

/* How many axes the ellipsis of an input stands for. */
static int wide_of(const char *text, int rank) {
    int letters = 0;
    bool dots = false;
    for (; *text != '\0' && *text != ',' && *text != '-'; text++) {
        dots = dots || *text == '.';
        letters += *text != '.';
    }
    return dots ? rank - letters : 0;
}

/* Where the equation does not say: letters that stand in one input only, in the alphabet's order,
 * behind the ellipsis. */
static bool imply_output(nsk_einsum *e, int wide) {
    for (int i = 0; i < wide; i++) {
        e->letter[NSK_EINSUM_OUTPUT][e->rank[NSK_EINSUM_OUTPUT]++] = (char)('0' + wide - 1 - i);
    }
    for (char letter = 'A'; letter != 'z' + 1; letter++) {
        bool first = nsk_einsum_axis(e, 0, letter) != NSK_NONE;
        bool second = e->inputs > 1 && nsk_einsum_axis(e, 1, letter) != NSK_NONE;
        if (first != second && e->rank[NSK_EINSUM_OUTPUT] == NSK_MOST_RANK) {
            return false;
        }
        if (first != second) {
            e->letter[NSK_EINSUM_OUTPUT][e->rank[NSK_EINSUM_OUTPUT]++] = letter;
        }
    }
    return true;
}

static bool read_equation(const nsk_graph *graph, const nsk_node *node, nsk_einsum *e,
                          nsk_error *error) {
    const char *text = node->attributes.equation;
    int widest = 0;
    for (int i = 0; i < e->inputs; i++) {
        int rank = nsk_node_input(graph, node, i)->rank;
        int wide = wide_of(text, rank);
        widest = wide > widest ? wide : widest;
        text = read_side(e, i, text, wide);
        if (text == NULL || e->rank[i] != rank) {
            return fail(node, error, "its letters are not one an axis");
        }
        bool more = i + 1 < e->inputs;
        if ((*text == ',') != more) {
            return fail(node, error, "it is for another number of inputs");
        }
        text += more;
    }
    if (strncmp(text, "->", 2) != 0) {
        return (*text == '\0' && imply_output(e, widest)) ||
               fail(node, error, "it makes no sense, or has more than 8 axes");
    }
    text = read_side(e, NSK_EINSUM_OUTPUT, text + 2, widest);
    return (text != NULL && *text == '\0') || fail(node, error, "its output makes no sense");
}

/* Notes the size of each letter; axes of one element meet any. */
static bool measure(const nsk_graph *graph, const nsk_node *node, nsk_einsum *e, int side,
                    nsk_error *error) {
    const nsk_value *v = side < e->inputs ? nsk_node_input(graph, node, side) : NULL;
    for (int i = 0; i < e->rank[side]; i++) {
        int at = 0;
        while (at < e->letters && e->name[at] != e->letter[side][i]) {
            at++;
        }
        if (at == e->letters) {
            if (at == NSK_MOST_LETTERS) {
                return fail(node, error, "too many letters");
            }
            e->name[e->letters++] = e->letter[side][i];
            e->size[at] = 1;
        }
        int64_t size = v != NULL ? v->dims[i] : 1;
        if (size != 1 && e->size[at] != 1 && size != e->size[at]) {
            return fail(node, error, "a letter stands for two sizes");
        }
        e->size[at] = size > e->size[at] ? size : e->size[at];
    }
    return true;
}

bool nsk_einsum_of(const nsk_graph *graph, const nsk_node *node, nsk_einsum *e, nsk_error *error) {
    *e = (nsk_einsum){.inputs = node->inputs};
    if (!read_equation(graph, node, e, error) ||
        !measure(graph, node, e, NSK_EINSUM_OUTPUT, error)) {
        return false;
    }
    int given = e->letters;
    for (int i = 0; i < e->inputs; i++) {
        if (!measure(graph, node, e, i, error)) {
            return false;
        }
    }
    for (int i = 0; i < given; i++) {
        bool found = false;
        for (int k = 0; k < e->inputs; k++) {
            found = found || nsk_einsum_axis(e, k, e->name[i]) != NSK_NONE;
        }
        if (!found) {
            return fail(node, error, "its output has a letter that no input has");
        }
    }
    return true;
}

double nsk_einsum_work(const nsk_graph *graph, const nsk_node *node) {
    nsk_einsum e;
    nsk_error error;
    double products = 1.0;
    nsk_einsum_of(graph, node, &e, &error);
    for (int i = 0; i < e.letters; i++) {
        bool summed = nsk_einsum_axis(&e, NSK_EINSUM_OUTPUT, e.name[i]) == NSK_NONE;
        products *= summed ? (double)e.size[i] : 1.0;
    }
    return products;
}

bool nsk_shape_einsum(const nsk_scope *s) {
    nsk_einsum e;
    int64_t dims[NSK_MOST_RANK];
    if (!nsk_einsum_of(s->graph, s->node, &e, s->error)) {
        return false;
    }
    for (int i = 0; i < e.rank[NSK_EINSUM_OUTPUT]; i++) {
        dims[i] = e.size[i]; /* the output's letters come first */
    }
    return nsk_give(s, e.rank[NSK_EINSUM_OUTPUT], dims);
}
