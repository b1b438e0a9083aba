#include "fit.h"

#include <math.h>
#include <stdlib.h>
#include <string.h>

#include "estimate/least_squares.h"

bool cost_points_add(cost_points *points, const char *kind, const nsk_work *work, double count) {
    if (count > 0.0 && points->count < COST_MOST_POINTS) {
        cost_point *p = &points->at[points->count++];
        *p = (cost_point){.kind = kind, .instructions = count};
        nsk_cost_terms_of(work, p->term);
        return true;
    }
    return count <= 0.0;
}

/* Relative error of an estimate. */
static double misfit(const cost_point *p, const double *factor) {
    double estimate = 0.0;
    for (int t = 0; t < NSK_COST_TERMS; t++) {
        estimate += factor[t] * p->term[t];
    }
    return estimate / p->instructions - 1.0;
}

static int over_term(void) {
    int term = 0;
    while (strcmp(nsk_cost_terms[term], "over") != 0) {
        term++;
    }
    return term;
}

static bool is_over(const cost_point *p) {
    return p->term[over_term()] > 0.0;
}

static int by_number(const void *a, const void *b) {
    const double x = *(const double *)a;
    const double y = *(const double *)b;
    return (x > y) - (x < y);
}

/* What unpacking costs is counted by. */
static bool unpacks(int term) {
    static const char *const terms[] = {"call", "unpacked", "upper", NULL};
    return g_strv_contains(terms, nsk_cost_terms[term]);
}

/* Terms that products of a core's kernels cannot cost anything by: those that go nearly together in
 * the grid would stand in for each other, and mislead outside of it. Products that fill up what is
 * outside of the picture cost as much as others; blocks are what vectors take. */
static const struct {
    const char *cores;   /* NULL: all */
    const char *in_kind; /* kinds whose name has it */
    bool paired;         /* those whose weights stand in pairs, too */
    const char *terms;
} ruled_out[] = {
    {NULL, "", true, "mac"},
    {NULL, "dense", true, "byte"}, /* inputs are taken as they stand */
    {"cortex-m0 cortex-m3 cortex-m4 cortex-m7 cortex-m33 rv32imac", "", false,
     "block quad four odd"},
    {"cortex-m55", "", false, "byte copy product output twice"},
    {"rv32imac-zve32x", "blocked", false, "byte copy"},
};

static bool is_in(const char *words, const char *word) {
    char **list = g_strsplit(words, " ", -1);
    const bool found = g_strv_contains((const char *const *)list, word);
    g_strfreev(list);
    return found;
}

/* Convolutions and dense layers. */
static bool multiplies(const char *kind) {
    static const char *const families[] = {"conv", "pointwise", "dense"};
    for (size_t i = 0; i < G_N_ELEMENTS(families); i++) {
        const char *rest = kind + strlen(families[i]);
        if (g_str_has_prefix(kind, families[i])) {
            return !g_str_has_prefix(rest, "-fine") && !g_str_has_prefix(rest, "-transpose");
        }
    }
    return false;
}

static bool may_cost(const char *core_name, const char *kind, int term) {
    bool may = true;
    for (size_t i = 0; i < G_N_ELEMENTS(ruled_out) && multiplies(kind); i++) {
        const bool core = ruled_out[i].cores == NULL || is_in(ruled_out[i].cores, core_name);
        const bool of_kind = strstr(kind, ruled_out[i].in_kind) != NULL &&
                             (ruled_out[i].paired || strstr(kind, "paired") == NULL);
        may = may && !(core && of_kind && is_in(ruled_out[i].terms, nsk_cost_terms[term]));
    }
    return may;
}

/* Whether a point is one that a kind's factors are fitted to. */
static bool belongs(const cost_point *p, const char *kind) {
    return !is_over(p) && strcmp(p->kind, kind) == 0;
}

/* What a piece costs of a layer that is written over its input, besides: the median of what is left
 * of those in the grid. Some are taken in another way altogether, as their rows begin anywhere. */
static void fit_over(const cost_points *points, const char *kind, cost_fit *fit) {
    static double left[COST_MOST_POINTS];
    int count = 0;
    fit->factor[over_term()] = 0.0;
    for (int i = 0; i < points->count; i++) {
        const cost_point *p = &points->at[i];
        if (is_over(p) && strcmp(p->kind, kind) == 0) {
            left[count++] = -misfit(p, fit->factor) * p->instructions / p->term[over_term()];
        }
    }
    qsort(left, (size_t)count, sizeof *left, by_number);
    fit->factor[over_term()] = count > 0 ? fmax(left[count / 2], 0.0) : 0.0;
}

static void judge(const cost_points *points, const char *kind, int rows, cost_fit *fit) {
    double squares = 0.0;
    int used = 0;
    for (int t = 0; t < NSK_COST_TERMS; t++) {
        used += fit->factor[t] > 0.0;
    }
    for (int i = 0; i < points->count; i++) {
        if (belongs(&points->at[i], kind)) {
            const double apart = misfit(&points->at[i], fit->factor);
            fit->worst = fmax(fit->worst, fabs(apart));
            squares += apart * apart;
        }
    }
    fit->spread = sqrt(squares / MAX(rows - used, 1));
}

bool cost_fit_kind(const cost_points *points, const char *core, const char *kind,
                   const cost_fit *base, cost_fit *fit, nsk_error *error) {
    static double a[COST_MOST_POINTS * NSK_COST_TERMS];
    static double b[COST_MOST_POINTS];
    bool counts[NSK_COST_TERMS];
    int rows = 0;
    for (int t = 0; t < NSK_COST_TERMS; t++) {
        counts[t] = base == NULL ? may_cost(core, kind, t) : unpacks(t);
    }
    for (int i = 0; i < points->count; i++) {
        const cost_point *p = &points->at[i];
        if (!belongs(p, kind)) {
            continue;
        }
        for (int t = 0; t < NSK_COST_TERMS; t++) {
            a[rows * NSK_COST_TERMS + t] = counts[t] ? p->term[t] / p->instructions : 0.0;
        }
        b[rows++] = base == NULL ? 1.0 : -misfit(p, base->factor);
    }
    *fit = (cost_fit){{0.0}, 0.0, 0.0};
    nsk_least_squares(a, b, rows, NSK_COST_TERMS, fit->factor);
    for (int t = 0; t < NSK_COST_TERMS && base != NULL; t++) {
        fit->factor[t] += base->factor[t];
    }
    judge(points, kind, rows, fit);
    fit_over(points, kind, fit);
    return rows > 0 || nsk_fail(error, "no layer of kind '%s' in the grid", kind);
}
