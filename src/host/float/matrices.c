/* Products of matrices, on BLAS. */
#include <cblas.h>

#include "float/kernel.h"

void nsk_blas_on_one_thread(void) {
    static gsize done;
    if (g_once_init_enter(&done)) {
        openblas_set_num_threads(1);
        g_once_init_leave(&done, 1);
    }
}

void nsk_float_gemm(const nsk_step *s) {
    const nsk_attributes *a = &s->node->attributes;
    const float *bias = s->inputs[2];
    const nsk_value *b = nsk_node_input(s->graph, s->node, 1);
    const nsk_value *c = nsk_node_input(s->graph, s->node, 2);
    int rows = (int)s->out->dims[0];
    int columns = (int)s->out->dims[1];
    int inner = (int)s->in->dims[a->transpose_a ? 0 : 1];
    for (int i = 0; i < rows * columns; i++) {
        bool by_row = c != NULL && c->rank == 2 && c->dims[0] > 1;
        bool by_column = c != NULL && c->rank > 0 && c->dims[c->rank - 1] > 1;
        int at =
            (by_row ? i / columns * (by_column ? columns : 1) : 0) + (by_column ? i % columns : 0);
        s->y[i] = bias != NULL ? (float)a->beta * bias[at] : 0.0F;
    }
    cblas_sgemm(CblasRowMajor, a->transpose_a ? CblasTrans : CblasNoTrans,
                a->transpose_b ? CblasTrans : CblasNoTrans, rows, columns, inner, (float)a->alpha,
                s->x, (int)s->in->dims[1], s->inputs[1], (int)b->dims[1], 1.0F, s->y, columns);
}

size_t nsk_matrix_at(const nsk_value *out, const nsk_value *v, size_t index) {
    size_t at = 0;
    size_t step = 1;
    for (int i = v->rank - 3, o = out->rank - 3; i >= 0; i--, o--) {
        at += v->dims[i] == 1 ? 0 : index % (size_t)out->dims[o] * step;
        index /= (size_t)out->dims[o];
        step *= (size_t)v->dims[i];
    }
    return at;
}

void nsk_float_matmul(const nsk_step *s) {
    const nsk_value *b = nsk_node_input(s->graph, s->node, 1);
    int rows = (int)s->out->dims[s->out->rank - 2];
    int columns = (int)s->out->dims[s->out->rank - 1];
    int inner = (int)s->in->dims[s->in->rank - 1];
    size_t matrices = nsk_value_count(s->out) / ((size_t)rows * (size_t)columns);
    const nsk_value *added = nsk_node_input(s->graph, s->node, 2);
    const float factor = (float)nsk_matmul_factor(s->node);
    for (size_t i = 0; i < nsk_value_count(s->out); i++) {
        size_t at = added != NULL && nsk_value_count(added) > 1 ? i % (size_t)columns : 0;
        s->y[i] = added != NULL ? s->inputs[2][at] : 0.0F;
    }
    for (size_t i = 0; i < matrices; i++) {
        const float *left = s->x + nsk_matrix_at(s->out, s->in, i) * (size_t)rows * (size_t)inner;
        const float *right =
            s->inputs[1] + nsk_matrix_at(s->out, b, i) * (size_t)inner * (size_t)columns;
        cblas_sgemm(CblasRowMajor, CblasNoTrans, CblasNoTrans, rows, columns, inner, factor, left,
                    inner, right, columns, 1.0F, s->y + i * (size_t)rows * (size_t)columns,
                    columns);
    }
}
