/* Einsum, as its definition reads: a product for each choice of the letters, summed over those that
 * the output lacks. */
#include "graph/einsum.h"
#include "float/kernel.h"

/* How far apart an input's elements are along each letter. */
static void strides_of(const nsk_einsum *e, const nsk_value *v, int side, int64_t *strides) {
    int64_t step = 1;
    for (int i = 0; i < e->letters; i++) {
        strides[i] = 0;
    }
    for (int axis = v->rank - 1; axis >= 0; axis--) {
        for (int i = 0; i < e->letters; i++) {
            if (e->name[i] == e->letter[side][axis] && v->dims[axis] > 1) {
                strides[i] += step;
            }
        }
        step *= v->dims[axis];
    }
}

/* Where element `index` of the letters from `first` to `last` stands. */
static int64_t place(const nsk_einsum *e, const int64_t *strides, int first, int last,
                     int64_t index) {
    int64_t at = 0;
    for (int i = last - 1; i >= first; i--) {
        at += index % e->size[i] * strides[i];
        index /= e->size[i];
    }
    return at;
}

void nsk_float_einsum(const nsk_step *s) {
    nsk_einsum e;
    nsk_error error;
    int64_t strides[2][NSK_MOST_LETTERS] = {{0}};
    nsk_einsum_of(s->graph, s->node, &e, &error);
    for (int i = 0; i < e.inputs; i++) {
        strides_of(&e, nsk_node_input(s->graph, s->node, i), i, strides[i]);
    }
    int kept = e.rank[NSK_EINSUM_OUTPUT];
    int64_t outputs = (int64_t)nsk_value_count(s->out);
    int64_t sums = 1;
    for (int i = kept; i < e.letters; i++) {
        sums *= e.size[i];
    }
    for (int64_t o = 0; o < outputs; o++) {
        const float *left = s->x + place(&e, strides[0], 0, kept, o);
        const float *right = e.inputs > 1 ? s->inputs[1] + place(&e, strides[1], 0, kept, o) : NULL;
        double sum = 0.0;
        for (int64_t k = 0; k < sums; k++) {
            double a = (double)left[place(&e, strides[0], kept, e.letters, k)];
            sum += right != NULL ? a * (double)right[place(&e, strides[1], kept, e.letters, k)] : a;
        }
        s->y[o] = (float)sum;
    }
}
