#include "analysis/assignment.h"

#include <glib.h>
#include <stdbool.h>
#include <stdint.h>

/* Rows and columns count from 1; row and column 0 are the start of every path. */
typedef struct search {
    int n;
    const int *gain;
    int64_t *row_price, *column_price;
    int *row_of; /* of a column; 0: free */
    int *before; /* the column before on the path */
    int64_t *least;
    bool *done;
} search;

static int64_t reduced_cost(const search *s, int row, int column) {
    return -(int64_t)s->gain[(row - 1) * s->n + column - 1] - s->row_price[row] -
           s->column_price[column];
}

/* One step of the shortest path: settles column `at`, returns the nearest one that is not. */
static int settle(search *s, int at) {
    int64_t delta = INT64_MAX;
    int next = 0;
    s->done[at] = true;
    for (int column = 1; column <= s->n; column++) {
        if (s->done[column]) {
            continue;
        }
        int64_t cost = reduced_cost(s, s->row_of[at], column);
        if (cost < s->least[column]) {
            s->least[column] = cost;
            s->before[column] = at;
        }
        if (s->least[column] < delta) {
            delta = s->least[column];
            next = column;
        }
    }
    for (int column = 0; column <= s->n; column++) {
        if (s->done[column]) {
            s->row_price[s->row_of[column]] += delta;
            s->column_price[column] -= delta;
        } else {
            s->least[column] -= delta;
        }
    }
    return next;
}

static void add_row(search *s, int row) {
    int at = 0;
    s->row_of[0] = row;
    for (int column = 0; column <= s->n; column++) {
        s->least[column] = INT64_MAX / 2;
        s->done[column] = false;
    }
    do {
        at = settle(s, at);
    } while (s->row_of[at] != 0);
    while (at != 0) { /* along the path, each column takes the row of the one before */
        s->row_of[at] = s->row_of[s->before[at]];
        at = s->before[at];
    }
}

void nsk_assign(int n, const int *gain, int *column) {
    gsize size = (gsize)n + 1;
    search s = {.n = n,
                .gain = gain,
                .row_price = g_new0(int64_t, size),
                .column_price = g_new0(int64_t, size),
                .row_of = g_new0(int, size),
                .before = g_new0(int, size),
                .least = g_new0(int64_t, size),
                .done = g_new0(bool, size)};
    for (int row = 1; row <= n; row++) {
        add_row(&s, row);
    }
    for (int k = 1; k <= n; k++) {
        column[s.row_of[k] - 1] = k - 1;
    }
    g_free(s.row_price);
    g_free(s.column_price);
    g_free(s.row_of);
    g_free(s.before);
    g_free(s.least);
    g_free(s.done);
}
