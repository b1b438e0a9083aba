#include "passes/moments.h"

#include <cblas.h>

#include "network/observe.h"

/* Pictures that are run at the same time, each by a pass of its own. */
enum { AT_A_TIME = 8 };

typedef struct observer {
    const nsk_graph *graph;
    const nsk_lowered *lowered;
    const nsk_images *images;
    nsk_moments *moments;
    nsk_pass *pass[AT_A_TIME];
} observer;

static void layer_start(nsk_layer_moments *m) {
    const size_t taps = (size_t)m->windows.taps;
    m->sum = g_new0(double, (size_t)m->windows.groups *taps);
    m->product = g_new0(double, (size_t)m->windows.groups *taps *taps);
}

void nsk_moments_free(nsk_moments *m) {
    for (int i = 0; m != NULL && i < m->layers; i++) {
        nsk_windows_clear(&m->layer[i].windows);
        g_free(m->layer[i].sum);
        g_free(m->layer[i].product);
    }
    if (m != NULL) {
        g_free(m->layer);
        g_free(m);
    }
}

/* ---- one layer on one picture ---- */

/* The windows of a group, out of the float network's value, into rows of a matrix. */
static void take_windows(const nsk_windows *w, const float *value, int group, double *rows) {
    const size_t channel_step = (size_t)w->channel_step;
    const float *first = value + (size_t)group * (size_t)w->channels * channel_step;
    for (int i = 0; i < w->count * w->places; i++) {
        const int32_t pixel = w->pixel[i];
        for (int c = 0; c < w->channels; c++) {
            *rows++ =
                pixel == NSK_NONE
                    ? 0.0
                    : (double)
                          first[(size_t)c * channel_step + (size_t)pixel * (size_t)w->pixel_step];
        }
    }
}

static void observe_layer(nsk_layer_moments *m, const float *value, double *rows) {
    const size_t taps = (size_t)m->windows.taps;
    for (int g = 0; g < m->windows.groups; g++) {
        double *sum = m->sum + (size_t)g * taps;
        take_windows(&m->windows, value, g, rows);
        cblas_dsyrk(CblasRowMajor, CblasUpper, CblasTrans, (int)taps, m->windows.count, 1.0, rows,
                    (int)taps, 1.0, m->product + (size_t)g * taps * taps, (int)taps);
        for (int i = 0; i < m->windows.count; i++) {
            for (size_t t = 0; t < taps; t++) {
                sum[t] += rows[(size_t)i * taps + t];
            }
        }
    }
    m->count += m->windows.count;
}

/* ---- all layers on all pictures ---- */

static bool passes_start(observer *o, nsk_error *error) {
    for (int i = 0; i < AT_A_TIME; i++) {
        o->pass[i] = nsk_pass_new(o->graph, error);
        if (o->pass[i] == NULL) {
            return false;
        }
    }
    return true;
}

/* Pictures from `first` on through the float network. */
static bool run_batch(const observer *o, int first, int count, nsk_error *error) {
    bool good = true;
#pragma omp parallel for schedule(dynamic, 1)
    for (int i = 0; i < count; i++) {
        nsk_error fault;
        uint8_t *frame = g_malloc(nsk_images_frame_bytes(o->images));
        int image = nsk_spread_image(o->images, o->moments->images, first + i);
        if (!nsk_observe_image(o->graph, o->pass[i], o->images, image, frame, &fault)) {
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
static void observe_batch(const observer *o, int count) {
    const nsk_moments *m = o->moments;
    size_t most = 1;
    for (int k = 0; k < m->layers; k++) {
        most = MAX(most, (size_t)m->layer[k].windows.taps * (size_t)m->layer[k].windows.count);
    }
#pragma omp parallel
    {
        double *rows = g_new(double, most);
#pragma omp for schedule(dynamic, 1)
        for (int k = 0; k < m->layers; k++) {
            const nsk_lowered_tensor *in =
                nsk_lowered_tensor_at(o->lowered, nsk_lowered_layer_at(o->lowered, k)->in);
            for (int i = 0; i < count && m->layer[k].windows.groups > 0; i++) {
                observe_layer(&m->layer[k], nsk_pass_value(o->pass[i], in->value), rows);
            }
        }
        g_free(rows);
    }
}

static bool observe(observer *o, const nsk_recipe *recipe, nsk_error *error) {
    const int all = o->moments->images;
    bool good = passes_start(o, error);
    for (int first = 0; first < all && good; first += AT_A_TIME) {
        int count = MIN(AT_A_TIME, all - first);
        good = run_batch(o, first, count, error);
        if (good) {
            observe_batch(o, count);
        }
        if (good && recipe->progress != NULL) {
            recipe->progress(recipe->context, first + count, all);
        }
    }
    for (int i = 0; i < AT_A_TIME; i++) {
        nsk_pass_free(o->pass[i]);
    }
    return good;
}

nsk_moments *nsk_moments_observe(const nsk_graph *graph, const nsk_lowered *lowered,
                                 const nsk_images *images, int count, const nsk_recipe *recipe,
                                 nsk_error *error) {
    nsk_moments *m = g_new0(nsk_moments, 1);
    observer o = {.graph = graph, .lowered = lowered, .images = images, .moments = m};
    m->images = count;
    m->layers = (int)lowered->layers->len;
    m->layer = g_new0(nsk_layer_moments, m->layers + 1);
    for (int i = 0; i < m->layers; i++) {
        nsk_windows_of(graph, lowered, i, &m->layer[i].windows);
        layer_start(&m->layer[i]);
    }
    if (!observe(&o, recipe, error)) {
        nsk_moments_free(m);
        return NULL;
    }
    return m;
}
