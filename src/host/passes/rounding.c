#include "passes/rounding.h"

#include <math.h>
#include <stdlib.h>
#include <string.h>

enum { MOST_SWEEPS = 12, MOST_CUT = 8 };

typedef struct fitter {
    nsk_lowered *lowered;
    const nsk_scale *scales;
    const nsk_moments *moments;
} fitter;

size_t nsk_weight_place(const nsk_lowered_layer *l, int outputs, int output, int tap) {
    return nsk_lowered_is_depthwise(l) ? (size_t)tap * (size_t)outputs + (size_t)output
                                       : (size_t)output * (size_t)l->taps + (size_t)tap;
}

/* One output's weights in turning. */
typedef struct row {
    int taps;
    const double *spread; /* covariance of the taps, full */
    double *error;        /* rounded less exact, as weights */
    double *pull;         /* spread x error */
    double scale;
    int most; /* level */
} row;

static void find_pull(const row *r) {
    memset(r->pull, 0, (size_t)r->taps * sizeof *r->pull);
    for (int k = 0; k < r->taps; k++) { /* line by line of what is symmetric, for vectors */
        const double *line = r->spread + (size_t)k * (size_t)r->taps;
        for (int i = 0; i < r->taps; i++) {
            r->pull[i] += line[i] * r->error[k];
        }
    }
}

/* Turns weights to their other neighbour while that lowers error' spread error. */
static void turn_weights(const row *r, int8_t *level) {
    bool turned = true;
    for (int sweep = 0; sweep < MOST_SWEEPS && turned; sweep++) {
        turned = false;
        for (int i = 0; i < r->taps; i++) {
            const double *line = r->spread + (size_t)i * (size_t)r->taps;
            int by = r->error[i] > 0.0 ? -1 : 1;
            double step = by * r->scale;
            if (2.0 * step * r->pull[i] + step * step * line[i] >= 0.0 ||
                abs(level[i] + by) > r->most) {
                continue;
            }
            level[i] = (int8_t)(level[i] + by);
            r->error[i] += step;
            turned = true;
            for (int k = 0; k < r->taps; k++) {
                r->pull[k] += step * line[k];
            }
        }
    }
}

/* The covariance of one group's taps, with a little on its diagonal so that what was never seen to
 * vary is not free to. */
static void find_spread(const nsk_layer_moments *m, int group, double *spread) {
    size_t taps = (size_t)m->windows.taps;
    const double *product = m->product + (size_t)group * taps * taps;
    const double *sum = m->sum + (size_t)group * taps;
    double trace = 0.0;
    for (size_t i = 0; i < taps; i++) {
        for (size_t k = i; k < taps; k++) {
            double both = product[i * taps + k] / m->count - sum[i] * sum[k] / m->count / m->count;
            spread[i * taps + k] = both;
            spread[k * taps + i] = both;
        }
        trace += spread[i * taps + i];
    }
    for (size_t i = 0; i < taps; i++) {
        spread[i * taps + i] += 0.01 * trace / (double)taps + 1e-12;
    }
}

/* Rounds to the nearest levels at r->scale; returns the expected squared error of the output. */
static double round_weights(const nsk_lowered_layer *l, int outputs, int output, const row *r,
                            int8_t *level) {
    double squared = 0.0;
    for (int t = 0; t < r->taps; t++) {
        double exact = (double)l->weights[nsk_weight_place(l, outputs, output, t)];
        level[t] = (int8_t)nsk_weight_level(l, exact, r->scale);
        r->error[t] = level[t] * r->scale - exact;
    }
    find_pull(r);
    for (int t = 0; t < r->taps; t++) {
        squared += r->error[t] * r->pull[t];
    }
    return squared;
}

/* A smaller scale rounds all weights of an output finer and cuts the largest off: taken as long as
 * the output's error falls. */
static void choose_scale(const fitter *f, nsk_lowered_layer *l, int outputs, int output, row *r,
                         int8_t *level) {
    const nsk_scale in = f->scales[l->in];
    const nsk_scale out = f->scales[l->out];
    nsk_requantise_multiplier m = l->multipliers[output];
    double least = INFINITY;
    bool more = true;
    for (int tried = 0; tried <= MOST_CUT && more; tried++) {
        r->scale = nsk_scale_at(m, in, out);
        double error = round_weights(l, outputs, output, r, level);
        if (error < least) {
            least = error;
            l->multipliers[output] = m;
        }
        more = nsk_multiplier_below(l, output, outputs, in, out, &m);
    }
    r->scale = nsk_scale_at(l->multipliers[output], in, out);
}

static void fit_output(const fitter *f, int layer, int output, const double *spread, bool turn) {
    nsk_lowered_layer *l = nsk_lowered_layer_at(f->lowered, layer);
    int outputs = nsk_lowered_tensor_at(f->lowered, l->out)->channels;
    int8_t *level = g_new(int8_t, l->taps);
    row r = {.taps = l->taps, .spread = spread, .most = nsk_lowered_most_level(l)};
    r.scale = nsk_weight_scale(l, output, outputs, f->scales[l->in], f->scales[l->out]);
    r.error = g_new0(double, l->taps);
    r.pull = g_new0(double, l->taps);
    if (turn) {
        choose_scale(f, l, outputs, output, &r, level);
    }
    round_weights(l, outputs, output, &r, level);
    if (turn) {
        turn_weights(&r, level);
    }
    for (int t = 0; t < l->taps; t++) {
        l->levels[nsk_weight_place(l, outputs, output, t)] = level[t];
    }
    g_free(level);
    g_free(r.error);
    g_free(r.pull);
}

static void fit_layer(const fitter *f, int layer, bool turn) {
    nsk_lowered_layer *l = nsk_lowered_layer_at(f->lowered, layer);
    const nsk_layer_moments *m = &f->moments->layer[layer];
    int outputs = nsk_lowered_tensor_at(f->lowered, l->out)->channels;
    int each = outputs / m->windows.groups;
    size_t taps = (size_t)l->taps;
    nsk_requantise_multiplier *multipliers = g_new0(nsk_requantise_multiplier, outputs);
    for (int o = 0; o < outputs; o++) {
        multipliers[o] = nsk_weight_multiplier(l, o, outputs, f->scales[l->in], f->scales[l->out]);
    }
    l->multipliers = multipliers;
    l->levels = g_new0(int8_t, (gsize)outputs * taps);
#pragma omp parallel
    {
        double *spread = g_new0(double, taps *taps);
        int group = -1;
#pragma omp for schedule(static)
        for (int o = 0; o < outputs; o++) {
            if (o / each != group) {
                group = o / each;
                find_spread(m, group, spread);
            }
            fit_output(f, layer, o, spread, turn);
        }
        g_free(spread);
    }
}

void nsk_fit_rounding(nsk_lowered *lowered, const nsk_scale *scales, const nsk_moments *moments,
                      bool turn) {
    const fitter f = {lowered, scales, moments};
    for (int i = 0; i < moments->layers; i++) {
        if (moments->layer[i].windows.groups > 0 && moments->layer[i].count > 0.0) {
            fit_layer(&f, i, turn);
        }
    }
}
