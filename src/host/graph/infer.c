/* What the functions that infer shapes share: complaints that name the node, and the output's
 * shape. */
#include "graph/infer.h"

static const int64_t MOST_ELEMENTS = (int64_t)1 << 26;

bool nsk_complain(const nsk_scope *s, const char *text) {
    return nsk_fail(s->error, "node '%s' (%s): %s", s->node->name, nsk_op_name(s->node->op), text);
}

bool nsk_complain_unsupported(const nsk_scope *s, const char *text) {
    return nsk_unsupported(s->error, "node '%s' (%s): %s", s->node->name, nsk_op_name(s->node->op),
                           text);
}

bool nsk_complain_shape(const nsk_scope *s, int input, const char *wanted) {
    char shape[160];
    return nsk_fail(s->error, "node '%s' (%s): input %d is %s; %s", s->node->name,
                    nsk_op_name(s->node->op), input + 1,
                    nsk_value_text(nsk_node_input(s->graph, s->node, input), shape, sizeof shape),
                    wanted);
}

bool nsk_give(const nsk_scope *s, int rank, const int64_t *dims) {
    nsk_value *out = nsk_graph_value(s->graph, s->node->output);
    int64_t count = 1;
    out->rank = rank;
    for (int i = 0; i < rank; i++) {
        out->dims[i] = dims[i];
        if (dims[i] < 1 || dims[i] > MOST_ELEMENTS || (count *= dims[i]) > MOST_ELEMENTS) {
            char shape[160];
            out->rank = i + 1;
            return nsk_unsupported(
                s->error,
                "node '%s' (%s): its output would be %s ...; each axis needs 1 or more, "
                "all together at most 2^26",
                s->node->name, nsk_op_name(s->node->op), nsk_value_text(out, shape, sizeof shape));
        }
    }
    out->shaped = true;
    return true;
}

bool nsk_give_input(const nsk_scope *s) {
    const nsk_value *in = nsk_node_input(s->graph, s->node, 0);
    return nsk_give(s, in->rank, in->dims);
}

int nsk_axis(int64_t axis, int rank) {
    axis += axis < 0 ? rank : 0;
    return axis >= 0 && axis < rank ? (int)axis : NSK_NONE;
}

bool nsk_shape_same(const nsk_scope *s) {
    return nsk_give_input(s);
}
