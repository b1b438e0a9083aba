#include "passes/rounding.h"

#include <cblas.h>
#include <math.h>
#include <string.h>

#include "lower/translation.h"
#include "network/observe.h"

enum { MOST_TAPS = 1280, WINDOWS = 48, MOST_SWEEPS = 12, MOST_CUT = 8 };

/* How the taps of one group of a layer vary together: sums of x and of x x' over windows. A
 * depthwise layer has a group a channel. */
typedef struct moments {
    int taps, groups;
    double count;
    double *sum;     /* [group][tap] */
    double *product; /* [group][tap][tap] */
} moments;

typedef struct fitter {
    const nsk_graph *graph;
    nsk_lowered *lowered;
    const nsk_scale *scales;
    moments *moments; /* one a layer; groups 0 where it is left as it is */
} fitter;

static int outputs_of(const nsk_lowered *lowered, const nsk_lowered_layer *l) {
    return nsk_lowered_tensor_at(lowered, l->out)->channels;
}

static bool is_plain(const nsk_graph *g, const nsk_lowered_tensor *t) {
    nsk_lowered_tensor plain;
    if (t->value == NSK_NONE) {
        return false;
    }
    const nsk_value *v = nsk_graph_value(g, t->value);
    return nsk_plain_layout(v, &plain) && plain.height == t->height && plain.width == t->width &&
           plain.channels == t->channels;
}

/* A dense layer that was a convolution of the whole picture still has its window. */
static bool has_window(const nsk_lowered_layer *l) {
    return l->window.kernel[0] > 0;
}

static int groups_of(const fitter *f, const nsk_lowered_layer *l) {
    const nsk_lowered_tensor *in = nsk_lowered_tensor_at(f->lowered, l->in);
    bool fits =
        (l->kind == NSK_KIND_CONV || l->kind == NSK_KIND_DEPTHWISE || l->kind == NSK_KIND_DENSE) &&
        l->steps == NULL && l->taps <= MOST_TAPS && is_plain(f->graph, in) &&
        (l->kind != NSK_KIND_DENSE || in->height * in->width == 1 || has_window(l));
    return !fits                           ? 0
           : l->kind == NSK_KIND_CONV      ? (int)l->window.groups
           : l->kind == NSK_KIND_DEPTHWISE ? in->channels
                                           : 1;
}

/* ---- observing ---- */

/* One input element of the tensor, channels last, out of the float network's planes. */
static double element(const nsk_lowered_tensor *t, const float *x, int y, int col, int c) {
    return (double)x[((size_t)c * (size_t)t->height + (size_t)y) * (size_t)t->width + (size_t)col];
}

static void take_window(const nsk_lowered_layer *l, const nsk_lowered_tensor *in, const float *x,
                        int y, int col, int group, double *to) {
    int channels = l->kind == NSK_KIND_DEPTHWISE ? 1 : in->channels / (int)l->window.groups;
    for (int ky = 0; ky < (int)l->window.kernel[0]; ky++) {
        for (int kx = 0; kx < (int)l->window.kernel[1]; kx++) {
            int row = y * (int)l->window.stride[0] - (int)l->window.pad_before[0] +
                      ky * (int)l->window.dilation[0];
            int at = col * (int)l->window.stride[1] - (int)l->window.pad_before[1] +
                     kx * (int)l->window.dilation[1];
            bool inside = row >= 0 && row < in->height && at >= 0 && at < in->width;
            for (int c = 0; c < channels; c++) {
                *to++ = inside ? element(in, x, row, at, group * channels + c) : 0.0;
            }
        }
    }
}

/* Some windows of the picture, evenly spread, into rows of a matrix; returns how many. */
static int take_windows(const nsk_lowered_layer *l, const nsk_lowered_tensor *in,
                        const nsk_lowered_tensor *out, const float *x, int group, double *rows) {
    int all = out->height * out->width;
    int taken = l->kind == NSK_KIND_DENSE ? 1 : MIN(all, WINDOWS);
    for (int i = 0; i < taken; i++) {
        int at = (int)((int64_t)i * all / taken);
        if (!has_window(l)) {
            for (int c = 0; c < in->channels; c++) {
                rows[c] = element(in, x, 0, 0, c);
            }
        } else {
            take_window(l, in, x, at / out->width, at % out->width, group,
                        rows + (size_t)i * (size_t)l->taps);
        }
    }
    return taken;
}

static void observe_layer(const fitter *f, int layer, const nsk_pass *pass, double *rows) {
    const nsk_lowered_layer *l = nsk_lowered_layer_at(f->lowered, layer);
    const nsk_lowered_tensor *in = nsk_lowered_tensor_at(f->lowered, l->in);
    const nsk_lowered_tensor *out = nsk_lowered_tensor_at(f->lowered, l->out);
    moments *m = &f->moments[layer];
    const float *x = nsk_pass_value(pass, in->value);
    size_t taps = (size_t)m->taps;
    int taken = 0;
    for (int g = 0; g < m->groups; g++) {
        taken = take_windows(l, in, out, x, g, rows);
        cblas_dsyrk(CblasRowMajor, CblasUpper, CblasTrans, m->taps, taken, 1.0, rows, m->taps, 1.0,
                    m->product + (size_t)g * taps * taps, m->taps);
        for (int i = 0; i < taken; i++) {
            for (size_t t = 0; t < taps; t++) {
                m->sum[(size_t)g * taps + t] += rows[(size_t)i * taps + t];
            }
        }
    }
    m->count += taken;
}

/* Pictures that are run at the same time, each by a pass of its own. */
enum { AT_A_TIME = 8 };

typedef struct batch {
    nsk_pass *pass[AT_A_TIME];
    int count;
} batch;

static bool batch_start(batch *b, const nsk_graph *g, nsk_error *error) {
    for (b->count = 0; b->count < AT_A_TIME; b->count++) {
        b->pass[b->count] = nsk_pass_new(g, error);
        if (b->pass[b->count] == NULL) {
            return false;
        }
    }
    return true;
}

static void batch_end(batch *b) {
    for (int i = 0; i < b->count; i++) {
        nsk_pass_free(b->pass[i]);
    }
}

/* Pictures from `first` on through the float network. */
static bool batch_run(const batch *b, const fitter *f, const nsk_images *images, int first,
                      int count, nsk_error *error) {
    bool good = true;
#pragma omp parallel for schedule(dynamic, 1)
    for (int i = 0; i < count; i++) {
        nsk_error fault;
        uint8_t *frame = g_malloc(nsk_images_frame_bytes(images));
        if (!nsk_observe_image(f->graph, b->pass[i], images, first + i, frame, &fault)) {
#pragma omp critical
            {
                nsk_error_copy(error, &fault);
                good = false;
            }
        }
        g_free(frame);
    }
    return good;
}

/* Each layer by one thread, pictures in their order: sums are the same each time. */
static void batch_observe(const batch *b, const fitter *f, int count) {
    int layers = (int)f->lowered->layers->len;
#pragma omp parallel
    {
        double *rows = g_new0(double, (gsize)MOST_TAPS *WINDOWS);
#pragma omp for schedule(dynamic, 1)
        for (int k = 0; k < layers; k++) {
            for (int i = 0; i < count && f->moments[k].groups > 0; i++) {
                observe_layer(f, k, b->pass[i], rows);
            }
        }
        g_free(rows);
    }
}

static bool observe(const fitter *f, const nsk_images *images, const nsk_recipe *recipe,
                    nsk_error *error) {
    batch b;
    bool good = batch_start(&b, f->graph, error);
    int all = nsk_images_count(images);
    for (int first = 0; first < all && good; first += AT_A_TIME) {
        int count = MIN(AT_A_TIME, all - first);
        good = batch_run(&b, f, images, first, count, error);
        if (good) {
            batch_observe(&b, f, count);
        }
        if (good && recipe->progress != NULL) {
            recipe->progress(recipe->context, first + count, all);
        }
    }
    batch_end(&b);
    return good;
}

/* ---- rounding ---- */

/* Where a weight stands among a layer's. */
static size_t place_of(const nsk_lowered_layer *l, int outputs, int output, int tap) {
    return l->kind == NSK_KIND_DEPTHWISE ? (size_t)tap * (size_t)outputs + (size_t)output
                                         : (size_t)output * (size_t)l->taps + (size_t)tap;
}

/* One output's weights in turning. */
typedef struct row {
    int taps;
    const double *spread; /* covariance of the taps, full */
    double *error;        /* rounded less exact, as weights */
    double *pull;         /* spread x error */
    double scale;
} row;

static void find_pull(const row *r) {
    for (int i = 0; i < r->taps; i++) {
        r->pull[i] = 0.0;
        for (int k = 0; k < r->taps; k++) {
            r->pull[i] += r->spread[(size_t)i * (size_t)r->taps + (size_t)k] * r->error[k];
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
            if (2.0 * step * r->pull[i] + step * step * line[i] >= 0.0 || level[i] + by > 127 ||
                level[i] + by < -127) {
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
static void find_spread(const moments *m, int group, double *spread) {
    size_t taps = (size_t)m->taps;
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
        double exact = (double)l->weights[place_of(l, outputs, output, t)];
        level[t] = (int8_t)nsk_weight_level(exact, r->scale);
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

static void fit_output(const fitter *f, int layer, int output, const double *spread, bool turn,
                       bool biases) {
    nsk_lowered_layer *l = nsk_lowered_layer_at(f->lowered, layer);
    const moments *m = &f->moments[layer];
    int outputs = outputs_of(f->lowered, l);
    int group = output / (outputs / m->groups);
    int8_t *level = g_new(int8_t, l->taps);
    row r = {.taps = l->taps, .spread = spread};
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
    double shift = 0.0;
    for (int t = 0; t < l->taps; t++) {
        l->levels[place_of(l, outputs, output, t)] = level[t];
        shift += r.error[t] * m->sum[(size_t)group * (size_t)l->taps + (size_t)t] / m->count;
    }
    l->bias[output] -= biases ? (float)shift : 0.0F;
    g_free(level);
    g_free(r.error);
    g_free(r.pull);
}

static void fit_layer(const fitter *f, int layer, bool turn, bool biases) {
    nsk_lowered_layer *l = nsk_lowered_layer_at(f->lowered, layer);
    const moments *m = &f->moments[layer];
    int outputs = outputs_of(f->lowered, l);
    int each = outputs / m->groups;
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
            fit_output(f, layer, o, spread, turn, biases);
        }
        g_free(spread);
    }
}

bool nsk_fit_rounding(const nsk_graph *graph, nsk_lowered *lowered, const nsk_scale *scales,
                      const nsk_images *images, const nsk_recipe *recipe, nsk_error *error) {
    int layers = (int)lowered->layers->len;
    fitter f = {graph, lowered, scales, g_new0(moments, layers + 1)};
    for (int i = 0; i < layers; i++) {
        const nsk_lowered_layer *l = nsk_lowered_layer_at(lowered, i);
        size_t taps = (size_t)l->taps;
        f.moments[i].taps = l->taps;
        f.moments[i].groups = groups_of(&f, l);
        f.moments[i].sum = g_new0(double, (size_t)f.moments[i].groups *taps);
        f.moments[i].product = g_new0(double, (size_t)f.moments[i].groups *taps *taps);
    }
    bool good = observe(&f, images, recipe, error);
    for (int i = 0; i < layers; i++) {
        if (good && f.moments[i].groups > 0 && f.moments[i].count > 0.0) {
            fit_layer(&f, i, recipe->rounding, recipe->biases);
        }
        g_free(f.moments[i].sum);
        g_free(f.moments[i].product);
    }
    g_free(f.moments);
    return good;
}
