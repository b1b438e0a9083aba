/* Learning a cost table from a board's own timings. */
#include "estimate/clock.h"

#include <math.h>
#include <stdio.h>
#include <stdlib.h>
#include <string.h>

#include "device/work.h"
#include "estimate/cost_kind.h"
#include "estimate/least_squares.h"
#include "netsuke/clock.h"

/* ---- logs ---- */

static void start(nsk_clocked *c, const nsk_model *model) {
    nsk_clocked_clear(c);
    c->layers = model->layers;
    c->layer = g_new(double, c->layers);
    for (int i = 0; i < c->layers; i++) {
        c->layer[i] = -1.0;
    }
}

void nsk_clocked_clear(nsk_clocked *c) {
    g_free(c->layer);
    *c = (nsk_clocked){.prepare = -1.0};
}

static bool is_whole(const nsk_clocked *c) {
    for (int i = 0; i < c->layers; i++) {
        if (c->layer[i] < 0.0) {
            return false;
        }
    }
    return c->layers > 0 && c->prepare >= 0.0;
}

/* Ticks; what a 32-bit board prints as a negative number is past 2^31. */
static bool read_ticks(const char *text, char **rest, double *ticks) {
    long long value = strtoll(text, rest, 10);
    *ticks = value < 0 ? (double)value + 4294967296.0 : (double)value;
    return *rest != text && value >= -2147483648LL && value <= 4294967295LL;
}

/* "layer 3 81234 conv4". False: another network's. */
static bool take_layer(const char *line, const nsk_model *model, nsk_clocked *c) {
    char *rest;
    long index = strtol(line, &rest, 10);
    double ticks;
    if (rest == line || index < 0 || index >= c->layers || !read_ticks(rest, &rest, &ticks)) {
        return false;
    }
    char *name = g_strstrip(g_strdup(rest));
    bool same = strcmp(name, nsk_layer_name(model, (unsigned)index)) == 0;
    g_free(name);
    c->layer[index] = c->layer[index] < 0.0 ? ticks : c->layer[index];
    return same;
}

bool nsk_clocked_parse(const char *text, const char *path, const nsk_model *model, nsk_clocked *c,
                       nsk_error *error) {
    char **lines = g_strsplit(text, "\n", -1);
    bool fits = true;
    int seen = 0;
    start(c, model);
    for (char **line = lines; *line != NULL && !(fits && is_whole(c)); line++) {
        char *at = g_strstrip(*line);
        char *rest;
        if (g_str_has_prefix(at, "network ")) {
            start(c, model);
            fits = true;
        } else if (g_str_has_prefix(at, "prepare ")) {
            fits = read_ticks(at + strlen("prepare "), &rest, &c->prepare) && fits;
        } else if (g_str_has_prefix(at, "layer ")) {
            seen++;
            fits = take_layer(at + strlen("layer "), model, c) && fits;
        }
    }
    g_strfreev(lines);
    if (fits && is_whole(c)) {
        return true;
    }
    nsk_clocked_clear(c);
    return nsk_fail(error,
                    seen == 0 ? "%s: no line 'layer INDEX TICKS NAME'; is it what the self-test "
                                "prints?"
                              : "%s: none of its networks has the model's layers; the log of a "
                                "hand-over of this brief is needed",
                    path);
}

bool nsk_clocked_read(const char *path, const nsk_model *model, nsk_clocked *c, nsk_error *error) {
    enum { MOST = 16 << 20 };
    size_t size;
    char *text = (char *)nsk_file_read(path, MOST, &size, error);
    *c = (nsk_clocked){.prepare = -1.0};
    bool good = text != NULL && nsk_clocked_parse(text, path, model, c, error);
    g_free(text);
    return good;
}

/* ---- learning ---- */

/* A layer as the fit sees it. */
typedef struct sample {
    const char *kind;
    double term[NSK_COST_TERMS];
    double cycles; /* that the board took */
    double guess;  /* that the table says */
} sample;

/* How much the table that one begins with counts, beside a measured layer: an error of a term's
 * part of the whole weighs a fifth of the same error of the sum. */
static const double TRUST = 0.2;

/* No board is so many times slower or faster than instructions at one a cycle: a timer's rate is
 * wrong. */
static const double ABSURD = 20.0;

typedef struct learner {
    const nsk_costs *costs;
    double wait_states;
    GArray *samples; /* of sample */
    double pace;     /* the board's cycles to the table's, over everything */
} learner;

static bool add_sample(learner *l, const char *kind, const nsk_work *work, double cycles,
                       nsk_error *error) {
    nsk_kernel_cost cost;
    sample one = {.kind = kind, .cycles = cycles};
    if (!nsk_costs_kernel(l->costs, kind, &cost, error)) {
        return false;
    }
    nsk_cost_terms_of(work, one.term);
    one.guess = nsk_kernel_cost_of(&cost, work, l->wait_states).cycles;
    if (cycles > 0.0 && one.guess > 0.0) {
        g_array_append_val(l->samples, one);
    }
    return true;
}

/* The ticks of a log, wherever they stand. */
static bool ticks_of(const nsk_clock_log *log, const nsk_model *model, nsk_clocked *c,
                     nsk_error *error) {
    if (log->ticks == NULL) {
        return nsk_clocked_read(log->path, model, c, error);
    }
    *c = (nsk_clocked){.prepare = -1.0};
    start(c, model);
    memcpy(c->layer, log->ticks, model->layers * sizeof *c->layer);
    c->prepare = log->ticks[model->layers];
    return true;
}

static bool add_log(learner *l, const nsk_clock_log *log, nsk_error *error) {
    nsk_model model;
    nsk_clocked clocked;
    nsk_model_file *handed = nsk_model_file_for_core(log->model, nsk_costs_core(l->costs));
    nsk_open(&model, handed->bytes, handed->size);
    if (!ticks_of(log, &model, &clocked, error)) {
        nsk_model_file_free(handed);
        return false;
    }
    const nsk_work frame = {.outputs = (uint64_t)model.width * model.height * model.channels,
                            .calls = 1,
                            .rows = model.height};
    bool good = add_sample(l, "prepare", &frame,
                           model.streamed > 0 ? 0.0 : clocked.prepare * log->cycles_a_tick, error);
    for (unsigned i = 0; i < (unsigned)clocked.layers && good; i++) {
        nsk_work work = nsk_layer_work(&model, i);
        good = add_sample(l, nsk_cost_kind(&model, i), &work, clocked.layer[i] * log->cycles_a_tick,
                          error);
    }
    nsk_clocked_clear(&clocked);
    nsk_model_file_free(handed);
    return good;
}

/* One factor for the whole: the middle of all, so that a layer that another interrupt has held up
 * does not move it. */
static int by_size(const void *a, const void *b) {
    double x = *(const double *)a;
    double y = *(const double *)b;
    return (x > y) - (x < y);
}

static double middle_pace(const GArray *samples) {
    double *all = g_new(double, samples->len);
    for (guint i = 0; i < samples->len; i++) {
        const sample *s = &g_array_index(samples, sample, i);
        all[i] = s->cycles / s->guess;
    }
    qsort(all, samples->len, sizeof *all, by_size);
    double middle = all[samples->len / 2];
    g_free(all);
    return middle;
}

/* Cycles by term, for one kind: relative errors of the layers, and beside them each term's part of
 * what the table says, times the pace, to hold on to where layers say nothing of it. */
static int fit_kind(const learner *l, const char *kind, nsk_kernel_cost *cost) {
    const double each = cost->cycles_each + cost->branches_each * l->wait_states;
    double mean[NSK_COST_TERMS] = {0.0}; /* a term's part of a layer's cycles, on the average */
    int layers = 0;
    for (guint i = 0; i < l->samples->len; i++) {
        const sample *s = &g_array_index(l->samples, sample, i);
        for (int t = 0; t < NSK_COST_TERMS && strcmp(s->kind, kind) == 0; t++) {
            mean[t] += s->term[t] / s->cycles;
        }
        layers += strcmp(s->kind, kind) == 0;
    }
    if (layers == 0) {
        return 0;
    }
    int rows = layers + NSK_COST_TERMS;
    double *a = g_new0(double, (gsize)rows *NSK_COST_TERMS);
    double *b = g_new0(double, rows);
    double learned[NSK_COST_TERMS];
    int row = 0;
    for (guint i = 0; i < l->samples->len; i++) {
        const sample *s = &g_array_index(l->samples, sample, i);
        if (strcmp(s->kind, kind) == 0) {
            for (int t = 0; t < NSK_COST_TERMS; t++) {
                a[row * NSK_COST_TERMS + t] = cost->term[t] > 0.0 ? s->term[t] / s->cycles : 0.0;
            }
            b[row++] = 1.0;
        }
    }
    for (int t = 0; t < NSK_COST_TERMS; t++, row++) {
        double part = cost->term[t] > 0.0 ? mean[t] / layers : 0.0;
        a[row * NSK_COST_TERMS + t] = TRUST * part;
        b[row] = TRUST * part * cost->term[t] * each * l->pace;
    }
    nsk_least_squares(a, b, rows, NSK_COST_TERMS, learned);
    memcpy(cost->term, learned, sizeof learned);
    g_free(a);
    g_free(b);
    return layers;
}

static double cycles_of(const nsk_kernel_cost *cost, const double *term) {
    double sum = 0.0;
    for (int t = 0; t < NSK_COST_TERMS; t++) {
        sum += cost->term[t] * term[t];
    }
    return sum;
}

/* Fits a kind, and finds what its layers are off by. */
static bool learn_kind(const learner *l, nsk_clocking *c, int index, const char *kind,
                       nsk_error *error) {
    nsk_learned_kind *k = &c->kind[index];
    nsk_kernel_cost cost;
    if (!nsk_costs_kernel(l->costs, kind, &cost, error)) {
        return false;
    }
    k->kind = kind;
    k->layers = fit_kind(l, kind, &cost);
    if (k->layers == 0) { /* nothing is known of it but the board's pace */
        for (int t = 0; t < NSK_COST_TERMS; t++) {
            cost.term[t] *= (cost.cycles_each + cost.branches_each * l->wait_states) * l->pace;
        }
    }
    double squares = 0.0;
    for (guint i = 0; i < l->samples->len; i++) {
        const sample *s = &g_array_index(l->samples, sample, i);
        if (strcmp(s->kind, kind) == 0) {
            double apart = cycles_of(&cost, s->term) / s->cycles - 1.0;
            c->layer[i].learned = cycles_of(&cost, s->term);
            squares += apart * apart;
            k->worst = fmax(k->worst, fabs(apart));
        }
    }
    memcpy(k->term, cost.term, sizeof k->term);
    k->spread = k->layers > 0 ? fmax(sqrt(squares / k->layers), cost.spread) : cost.spread;
    return true;
}

nsk_clocking *nsk_clock(const nsk_board *board, const nsk_clock_log *logs, int count,
                        nsk_error *error) {
    learner l = {.costs = nsk_costs_read(board->costs, error),
                 .wait_states = board->wait_states,
                 .samples = g_array_new(FALSE, FALSE, sizeof(sample))};
    bool good = l.costs != NULL;
    for (int i = 0; i < count && good; i++) {
        good = add_log(&l, &logs[i], error);
    }
    nsk_clocking *c = NULL;
    if (good) {
        c = g_new0(nsk_clocking, 1);
        c->layers = (int)l.samples->len;
        c->layer = g_new0(nsk_clocked_layer, c->layers);
        l.pace = middle_pace(l.samples);
        c->pace = l.pace;
        good = l.pace * ABSURD > 1.0 && l.pace < ABSURD;
        if (!good) {
            nsk_fail(
                error,
                "%s: by these ticks and their rate the board takes %.4g times the cycles that its "
                "table says; give the rate of the timer that counts them",
                logs[0].path, l.pace);
        }
        for (int i = 0; i < c->layers; i++) {
            const sample *s = &g_array_index(l.samples, sample, i);
            c->layer[i] = (nsk_clocked_layer){s->kind, s->cycles, s->guess, 0.0};
        }
        c->kind = g_new0(nsk_learned_kind, nsk_cost_kind_count());
        for (int i = 0; i < nsk_cost_kind_count() && good; i++) {
            const char *kind = nsk_cost_kind_at(i);
            good = !nsk_costs_have(l.costs, kind) || learn_kind(&l, c, c->kinds++, kind, error);
        }
    }
    g_array_free(l.samples, TRUE);
    nsk_costs_free((nsk_costs *)l.costs);
    if (!good) {
        nsk_clocking_free(c);
        return NULL;
    }
    return c;
}

void nsk_clocking_free(nsk_clocking *c) {
    if (c != NULL) {
        g_free(c->layer);
        g_free(c->kind);
        g_free(c);
    }
}

/* ---- the table ---- */

static void append_kinds(GString *text, const nsk_clocking *c) {
    for (int i = 0; i < c->kinds; i++) {
        const nsk_learned_kind *k = &c->kind[i];
        g_string_append_printf(text, "\n# %s\n[%s]\n",
                               k->layers > 0 ? "learned" : "not in the log: the table's, paced",
                               k->kind);
        for (int t = 0; t < NSK_COST_TERMS; t++) {
            if (k->term[t] > 0.0) {
                g_string_append_printf(text, "%s = %.6g\n", nsk_cost_terms[t], k->term[t]);
            }
        }
        g_string_append_printf(text,
                               "cycles-each = 1\nbranches-each = 0\nspread = %.4f\n"
                               "worst-misfit = %.4f\n",
                               k->spread, k->worst);
    }
}

bool nsk_clock_write(const nsk_clocking *c, const nsk_board *board, const char *source,
                     const char *path, nsk_error *error) {
    nsk_costs *costs = nsk_costs_read(board->costs, error);
    if (costs == NULL) {
        return false;
    }
    GString *text = g_string_new(NULL);
    g_string_append_printf(
        text,
        "# Written by `netsuke clock`. Cycles by term, as the board's own timer had them: flash's\n"
        "# wait states and caches are in them, at this clock.\n[table]\ncore = %s\n"
        "kernels = %s\ncompiler = %s\ninstructions = not counted: cycles were measured\n"
        "cycles = learned from %s, on board %s at %.6g MHz\n",
        board->core, nsk_costs_source(costs, "kernels"), nsk_costs_source(costs, "compiler"),
        source, board->name, board->clock / 1e6);
    append_kinds(text, c);
    nsk_costs_copy_sizes(costs, text);
    bool good = nsk_file_write(path, text->str, text->len, error);
    g_string_free(text, TRUE);
    nsk_costs_free(costs);
    return good;
}
