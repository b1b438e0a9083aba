#include "estimate/least_squares.h"

#include <lapacke.h>
#include <math.h>
#include <string.h>

/* `a` with its columns brought to length 1, and which of them take part. */
typedef struct problem {
    double *a;
    const double *b;
    double *length;
    bool *in;
    int rows, columns;
} problem;

/* Least squares over the columns that take part; 0 for the others. */
static void solve(const problem *p, double *x) {
    int at[64];
    int n = 0;
    double *a = g_new(double, (gsize)p->rows *(gsize)p->columns);
    double *b = g_new0(double, MAX(p->rows, p->columns));
    double singular[64];
    lapack_int rank;
    for (int c = 0; c < p->columns; c++) {
        x[c] = 0.0;
        if (p->in[c]) {
            at[n++] = c;
        }
    }
    for (int r = 0; r < p->rows; r++) {
        b[r] = p->b[r];
        for (int k = 0; k < n; k++) {
            a[r * n + k] = p->a[r * p->columns + at[k]];
        }
    }
    if (n > 0 &&
        LAPACKE_dgelsd(LAPACK_ROW_MAJOR, p->rows, n, 1, a, n, b, 1, singular, 1e-11, &rank) == 0) {
        for (int k = 0; k < n; k++) {
            x[at[k]] = b[k];
        }
    }
    g_free(a);
    g_free(b);
}

/* The column outside along which the error falls most steeply, or -1. */
static int steepest(const problem *p, const double *x) {
    double best = 1e-9;
    int found = -1;
    double *slope = g_new0(double, p->columns);
    for (int r = 0; r < p->rows; r++) {
        double left = p->b[r];
        for (int c = 0; c < p->columns; c++) {
            left -= p->a[r * p->columns + c] * x[c];
        }
        for (int c = 0; c < p->columns; c++) {
            slope[c] += p->a[r * p->columns + c] * left;
        }
    }
    for (int c = 0; c < p->columns; c++) {
        if (!p->in[c] && p->length[c] > 0.0 && slope[c] > best) {
            best = slope[c];
            found = c;
        }
    }
    g_free(slope);
    return found;
}

/* Moves x towards `wanted` as far as nothing falls below zero; what reaches zero leaves. */
static bool move(problem *p, double *x, const double *wanted) {
    double part = 1.0;
    for (int c = 0; c < p->columns; c++) {
        if (p->in[c] && wanted[c] <= 0.0) {
            part = fmin(part, x[c] / (x[c] - wanted[c]));
        }
    }
    for (int c = 0; c < p->columns; c++) {
        x[c] += part * (wanted[c] - x[c]);
        if (p->in[c] && part < 1.0 && x[c] <= 1e-12) {
            x[c] = 0.0;
            p->in[c] = false;
        }
    }
    return part >= 1.0;
}

static void scale(problem *p) {
    for (int c = 0; c < p->columns; c++) {
        double square = 0.0;
        for (int r = 0; r < p->rows; r++) {
            square += p->a[r * p->columns + c] * p->a[r * p->columns + c];
        }
        p->length[c] = sqrt(square);
        for (int r = 0; r < p->rows && square > 0.0; r++) {
            p->a[r * p->columns + c] /= p->length[c];
        }
    }
}

void nsk_least_squares(const double *a, const double *b, int rows, int columns, double *x) {
    enum { MOST_ROUNDS = 1000 };
    problem p = {.a = g_memdup2(a, sizeof *a * (gsize)rows * (gsize)columns),
                 .b = b,
                 .length = g_new0(double, columns),
                 .in = g_new0(bool, columns),
                 .rows = rows,
                 .columns = columns};
    double *wanted = g_new0(double, columns);
    int rounds = 0;
    scale(&p);
    memset(x, 0, sizeof *x * (size_t)columns);
    for (int next = steepest(&p, x); next >= 0 && rounds < MOST_ROUNDS; next = steepest(&p, x)) {
        p.in[next] = true;
        do {
            solve(&p, wanted);
        } while (!move(&p, x, wanted) && rounds++ < MOST_ROUNDS);
        rounds++;
    }
    for (int c = 0; c < columns; c++) {
        x[c] = p.length[c] > 0.0 ? x[c] / p.length[c] : 0.0;
    }
    g_free(wanted);
    g_free(p.a);
    g_free(p.length);
    g_free(p.in);
}
