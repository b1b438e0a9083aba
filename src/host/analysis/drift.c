/* Error by layer: what has built up so far, and what each layer adds by itself. */
#include <math.h>
#include <string.h>

#include "analysis/beside.h"
#include "base/element.h"
#include "device/layer.h"
#include "lower/lower.h"
#include "lowered/integer.h"
#include "modelfile/check.h"
#include "netsuke/drift.h"
#include "network/network.h"
#include "pipeline/pipeline.h"
#include "run/runner.h"

/* Sums over all images, of one layer's output by channel. */
typedef struct sums {
    double signal, built_up, alone;
    double count;
    int64_t levels[256];
    double *channel_signal, *channel_error;
} sums;

/* What all threads share. */
typedef struct drift_run {
    const nsk_network *network;
    const nsk_model *model;
    const nsk_lowered *lowered;
    size_t largest; /* elements of a value */
    sums *all;      /* one a layer */
    sums **waiting; /* of each picture that is done and whose turn has not come */
    int next;       /* picture whose turn it is */
} drift_run;

/* One picture. */
typedef struct drifter {
    const drift_run *run;
    const nsk_runner *runner;
    int8_t *trial;  /* workspace of one layer by itself */
    int8_t *levels; /* of one tensor, in the float network's order */
    sums *sums;     /* one a layer */
} drifter;

/* A tensor's values in the float network; NULL, and no planes, where it has none like it. */
static const float *values_of(const drifter *d, int tensor, nsk_planes *planes) {
    *planes = (nsk_planes){0, 0};
    return nsk_values_beside(d->run->network->graph, d->runner->pass,
                             nsk_lowered_tensor_at(d->run->lowered, tensor), planes);
}

/* Where an element stands from the tensor's place on, and its channel. */
static inline size_t place_in(const nsk_tensor *t, const nsk_planes *p, size_t plane, size_t at,
                              size_t *channel) {
    if (p->planes == t->channels) {
        *channel = plane;
        return at * (size_t)t->pixel_stride + plane * t->element;
    }
    size_t place = at * p->planes + plane;
    *channel = place % t->channels;
    return nsk_element_place(t, (uint32_t)place);
}

/* The same where there are 16 bits. */
static void put_wide_values(const float *x, const nsk_planes *p, const nsk_tensor *at,
                            int8_t *workspace) {
    const nsk_scale scale = nsk_scale_of_tensor(at);
    for (size_t plane = 0; plane < p->planes; plane++) {
        for (size_t i = 0; i < p->each; i++, x++) {
            int16_t level = nsk_wide_level_of((double)*x, scale);
            memcpy(workspace + at->offset + 2 * (i * p->planes + plane), &level, sizeof level);
        }
    }
}

/* Writes a tensor's float values, rounded to its levels, at its place. */
static bool put_values(const drifter *d, int tensor, const nsk_tensor *at, int8_t *workspace) {
    nsk_planes p;
    const float *x = values_of(d, tensor, &p);
    if (x == NULL) {
        return false;
    }
    if (at->element == 2) {
        put_wide_values(x, &p, at, workspace);
        return true;
    }
    nsk_levels_of(x, p.planes * p.each, nsk_scale_of_tensor(at), d->levels);
    const int8_t *from = d->levels;
    for (size_t plane = 0; plane < p.planes; plane++) {
        int8_t *to = workspace + at->offset + plane;
        for (size_t i = 0; i < p.each; i++) {
            to[i * p.planes] = *from++;
        }
    }
    return true;
}

/* Of 256: of what has more levels, the upper bits; scores are not below 0. */
static int histogram_place(const nsk_tensor *t, int level) {
    return t->element == 1   ? level + 128
           : t->element == 2 ? level / 256 + 128
                             : MIN(level >> 22, 255);
}

/* Adds what a layer's output, standing in `workspace`, differs by from the float network's. */
static void add_built_up(const drifter *d, int layer, const nsk_layer *l, const int8_t *workspace) {
    sums *s = &d->sums[layer];
    nsk_planes p;
    const int tensor = nsk_lowered_layer_at(d->run->lowered, layer)->out;
    const nsk_lowered_layer *reader = nsk_lowered_reader(d->run->lowered, tensor);
    const float *x = values_of(d, tensor, &p);
    const nsk_scale scale = nsk_scale_of_tensor(&l->out);
    for (size_t plane = 0; plane < p.planes; plane++) {
        for (size_t i = 0; i < p.each; i++, x++) {
            size_t channel;
            size_t place = l->out.offset + place_in(&l->out, &p, plane, i, &channel);
            int level = nsk_element_at(workspace + place, l->out.element);
            double exact = nsk_lowered_function_at(reader, (double)*x);
            double error =
                nsk_lowered_function_at(reader, (double)scale.scale * (level - scale.zero)) - exact;
            double signal = exact * exact;
            s->signal += signal;
            s->built_up += error * error;
            s->channel_signal[channel] += signal;
            s->channel_error[channel] += error * error;
            s->levels[histogram_place(&l->out, level)]++;
        }
    }
    s->count += (double)(p.planes * p.each);
}

static void add_alone(const drifter *d, int layer) {
    const nsk_lowered_layer *low = nsk_lowered_layer_at(d->run->lowered, layer);
    nsk_planes p;
    nsk_layer l;
    nsk_layer_decode(d->run->model, (unsigned)layer, &l);
    const nsk_lowered_layer *reader = nsk_lowered_reader(d->run->lowered, low->out);
    const float *x = values_of(d, low->out, &p);
    if (x == NULL || !put_values(d, low->in, &l.in, d->trial) ||
        (l.has_second && !put_values(d, low->second, &l.second, d->trial))) {
        d->sums[layer].alone = NAN;
        return;
    }
    nsk_layer_run(d->run->model, (unsigned)layer, &l, d->trial, NULL);
    const nsk_scale scale = nsk_scale_of_tensor(&l.out);
    for (size_t plane = 0; plane < p.planes; plane++) {
        for (size_t i = 0; i < p.each; i++, x++) {
            size_t channel;
            size_t place = l.out.offset + place_in(&l.out, &p, plane, i, &channel);
            int level = nsk_element_at(d->trial + place, l.out.element);
            double error =
                nsk_lowered_function_at(reader, (double)scale.scale * (level - scale.zero)) -
                nsk_lowered_function_at(reader, (double)*x);
            d->sums[layer].alone += error * error;
        }
    }
}

static void after_layer(void *context, const nsk_model *model, unsigned layer) {
    const drifter *d = context;
    nsk_layer l;
    nsk_layer_decode(model, layer, &l);
    add_built_up(d, (int)layer, &l, d->runner->workspace);
    add_alone(d, (int)layer);
}

/* ---- what comes of it ---- */

static double decibels(double signal, double error) {
    return 10.0 * log10(fmax(signal, 1e-30) / fmax(error, 1e-30));
}

/* The fewest levels that hold nine tenths of all outputs. */
static int most_of_levels(const sums *s) {
    int64_t all = (int64_t)s->count;
    int least = 256;
    int64_t inside = 0;
    int first = 0;
    for (int last = 0; last < 256; last++) {
        inside += s->levels[last];
        while (first < last && 10 * (inside - s->levels[first]) >= 9 * all) {
            inside -= s->levels[first++];
        }
        least = 10 * inside >= 9 * all ? MIN(least, last - first + 1) : least;
    }
    return least;
}

static void conclude(const drift_run *d, int layer, nsk_drift_layer *to) {
    const sums *s = &d->all[layer];
    nsk_layer l;
    nsk_layer_decode(d->model, (unsigned)layer, &l);
    to->name = g_strdup(nsk_layer_name(d->model, (unsigned)layer));
    to->measured = s->count > 0.0;
    to->sqnr_db = decibels(s->signal, s->built_up);
    to->alone_db = isnan(s->alone) ? NAN : decibels(s->signal, s->alone);
    bool bytes = l.out.element == 1; /* else the ends of what its elements hold, to 8 bits */
    to->at_low = (double)s->levels[bytes ? l.low + 128 : 0] / fmax(s->count, 1.0);
    to->at_high = (double)s->levels[bytes ? l.high + 128 : 255] / fmax(s->count, 1.0);
    to->levels = most_of_levels(s);
    to->worst_channel = 0;
    to->worst_channel_db = INFINITY;
    to->channels = l.out.channels;
    to->channel_db = g_new0(double, to->channels);
    for (int c = 0; c < to->channels; c++) {
        bool lives = s->channel_signal[c] > 0.0;
        double db = lives ? decibels(s->channel_signal[c], s->channel_error[c]) : NAN;
        to->channel_db[c] = db;
        if (lives && db < to->worst_channel_db) {
            to->worst_channel = c;
            to->worst_channel_db = db;
        }
    }
}

static sums *new_sums(const nsk_model *model) {
    sums *all = g_new0(sums, model->layers);
    for (unsigned i = 0; i < model->layers; i++) {
        nsk_layer l;
        nsk_layer_decode(model, i, &l);
        all[i].channel_signal = g_new0(double, l.out.channels);
        all[i].channel_error = g_new0(double, l.out.channels);
    }
    return all;
}

static void free_sums(sums *all, int layers) {
    for (int i = 0; i < layers; i++) {
        g_free(all[i].channel_signal);
        g_free(all[i].channel_error);
    }
    g_free(all);
}

static void add_sums(const nsk_model *model, sums *all, const sums *one) {
    for (unsigned i = 0; i < model->layers; i++) {
        nsk_layer l;
        nsk_layer_decode(model, i, &l);
        all[i].signal += one[i].signal;
        all[i].built_up += one[i].built_up;
        all[i].alone += one[i].alone;
        all[i].count += one[i].count;
        for (int k = 0; k < 256; k++) {
            all[i].levels[k] += one[i].levels[k];
        }
        for (int c = 0; c < l.out.channels; c++) {
            all[i].channel_signal[c] += one[i].channel_signal[c];
            all[i].channel_error[c] += one[i].channel_error[c];
        }
    }
}

static size_t largest_value(const nsk_graph *graph) {
    size_t most = 1;
    for (int i = 0; i < (int)graph->values->len; i++) {
        const nsk_value *v = nsk_graph_value(graph, i);
        most = v->shaped ? MAX(most, nsk_value_count(v)) : most;
    }
    return most;
}

/* Sums are added in the pictures' order, whichever is done first, so that they are the same each
 * time. */
static void take_turn(drift_run *d, int image, sums *sums_of_image, int count) {
#pragma omp critical(nsk_drift_turn)
    {
        d->waiting[image] = sums_of_image;
        for (; d->next < count && d->waiting[d->next] != NULL; d->next++) {
            add_sums(d->model, d->all, d->waiting[d->next]);
            free_sums(d->waiting[d->next], d->model->layers);
            d->waiting[d->next] = NULL;
        }
    }
}

static bool run_image(const nsk_runner *r, int image, void *context, nsk_error *error) {
    drift_run *run = context;
    const nsk_model *m = run->model;
    drifter d = {run, r, g_malloc0(m->workspace_bytes), g_malloc(run->largest), new_sums(m)};
    const nsk_observer observer = {NULL, after_layer, &d};
    (void)error;
    nsk_runner_float(r);
    nsk_prepare(m, r->frame, (size_t)m->width * m->channels, r->workspace);
    nsk_run(m, r->workspace, &observer);
    g_free(d.trial);
    g_free(d.levels);
    take_turn(run, image, d.sums, nsk_images_count(r->images));
    return true;
}

static bool run_images(drift_run *d, const nsk_images *images, nsk_progress progress, void *context,
                       nsk_error *error) {
    int count = nsk_images_count(images);
    d->waiting = g_new0(sums *, count);
    bool good =
        nsk_run_images(d->network, d->model, NULL, images, run_image, d, progress, context, error);
    for (int i = d->next; i < count; i++) { /* behind one that failed */
        if (d->waiting[i] != NULL) {
            free_sums(d->waiting[i], d->model->layers);
        }
    }
    g_free(d->waiting);
    return good;
}

nsk_drift *nsk_drift_measure(const nsk_network *network, const nsk_model_file *file,
                             const nsk_images *images, nsk_progress progress, void *context,
                             nsk_error *error) {
    nsk_model model;
    if (!nsk_model_open_for(network, file, images, &model, error)) {
        return NULL;
    }
    if (model.streamed > 0) {
        nsk_fail(error, "a streamed model keeps no whole tensors to look at; quantise without");
        return NULL;
    }
    nsk_lowered *lowered = nsk_lower_and_join(network->graph, error);
    if (lowered == NULL) {
        return NULL;
    }
    nsk_drift *result = NULL;
    drift_run d = {.network = network,
                   .model = &model,
                   .lowered = lowered,
                   .largest = largest_value(network->graph),
                   .all = new_sums(&model)};
    if (lowered->layers->len != model.layers) {
        nsk_fail(error, "the model was not made from this network");
    } else if (run_images(&d, images, progress, context, error)) {
        result = g_new0(nsk_drift, 1);
        result->images = nsk_images_count(images);
        result->layers = model.layers;
        result->layer = g_new0(nsk_drift_layer, result->layers);
        for (int i = 0; i < result->layers; i++) {
            conclude(&d, i, &result->layer[i]);
        }
    }
    free_sums(d.all, model.layers);
    nsk_lowered_free(lowered);
    return result;
}

void nsk_drift_free(nsk_drift *drift) {
    if (drift != NULL) {
        for (int i = 0; i < drift->layers; i++) {
            g_free(drift->layer[i].name);
            g_free(drift->layer[i].channel_db);
        }
        g_free(drift->layer);
        g_free(drift);
    }
}
