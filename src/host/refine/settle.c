#include "refine/settle.h"

#include "base/element.h"
#include "device/layer.h"
#include "network/observe.h"
#include "passes/rounding.h"

#define MOST_BYTES (256.0 * 1024.0 * 1024.0)

/* All images on their way, each in a workspace of its own. */
typedef struct settler {
    const nsk_refine_subject *subject;
    const nsk_moments *moments;
    const nsk_images *images;
    nsk_schedule *schedule;
    nsk_model_file *file;
    nsk_model model; /* of file */
    int8_t **workspace;
    nsk_error *error;
} settler;

int nsk_settle_images(const nsk_lowered *lowered, const nsk_images *images) {
    nsk_schedule *s = nsk_schedule_of(lowered, 0, 1);
    nsk_schedule_place(lowered, s);
    double most = MOST_BYTES / MAX(s->workspace, 1);
    nsk_schedule_free(s);
    int wanted = MIN(nsk_images_count(images), NSK_ENOUGH_IMAGES);
    return most >= wanted ? wanted : MAX(1, (int)most);
}

/* The model as its biases are now. */
static bool build(settler *s) {
    nsk_model_file_free(s->file);
    s->file = nsk_refine_model(s->subject, s->images, s->schedule, &s->model, s->error);
    return s->file != NULL;
}

static bool take_images(settler *s) {
    bool good = true;
#pragma omp parallel for schedule(dynamic, 4)
    for (int k = 0; k < s->moments->images; k++) {
        nsk_error fault;
        uint8_t *frame = g_malloc(nsk_images_frame_bytes(s->images));
        s->workspace[k] = g_malloc0(s->model.workspace_bytes);
        if (nsk_images_frame(s->images, nsk_spread_image(s->images, s->moments->images, k), frame,
                             &fault)) {
            nsk_prepare(&s->model, frame, (size_t)s->model.width * s->model.channels,
                        s->workspace[k]);
        } else {
#pragma omp critical
            {
                nsk_error_copy(s->error, &fault);
                good = false;
            }
        }
        g_free(frame);
    }
    return good;
}

static void run_layer(const settler *s, int layer) {
    nsk_layer l;
    nsk_layer_decode(&s->model, (unsigned)layer, &l);
#pragma omp parallel for schedule(dynamic, 4)
    for (int k = 0; k < s->moments->images; k++) {
        nsk_layer_run(&s->model, (unsigned)layer, &l, s->workspace[k], NULL);
    }
}

/* Adds the levels (their parts, where they have any), less the zero point, of every tap over one
 * image's windows. */
static void add_levels(const nsk_windows *w, const nsk_tensor *in, const int8_t *workspace,
                       int64_t *sum) {
    const int taps = w->taps;
    const int zero = nsk_scale_of_tensor(in).zero;
    for (int i = 0; i < w->count * w->places; i++) {
        if (w->pixel[i] == NSK_NONE) {
            continue;
        }
        const int8_t *at = workspace + in->offset + (size_t)w->pixel[i] * (size_t)in->pixel_stride;
        int64_t *to = sum + i % w->places * w->channels;
        for (int g = 0; g < w->groups; g++, to += taps) {
            for (int c = 0; c < w->channels; c++, at += in->element) {
                to[c] += nsk_element_at(at, in->element) - zero;
            }
        }
    }
}

/* Over all images. They are whole numbers: their order makes no difference. */
static int64_t *sums_of(const settler *s, int layer) {
    const nsk_windows *w = &s->moments->layer[layer].windows;
    const size_t count = (size_t)w->groups * (size_t)w->taps;
    int64_t *all = g_new0(int64_t, count);
    nsk_layer l;
    nsk_layer_decode(&s->model, (unsigned)layer, &l);
#pragma omp parallel
    {
        int64_t *own = g_new0(int64_t, count);
#pragma omp for schedule(static)
        for (int k = 0; k < s->moments->images; k++) {
            add_levels(w, &l.in, s->workspace[k], own);
        }
#pragma omp critical
        for (size_t i = 0; i < count; i++) {
            all[i] += own[i];
        }
        g_free(own);
    }
    return all;
}

static void settle_layer(const settler *s, int layer) {
    const nsk_lowered *lowered = s->subject->lowered;
    const nsk_layer_moments *m = &s->moments->layer[layer];
    nsk_lowered_layer *l = nsk_lowered_layer_at(lowered, layer);
    const nsk_scale in = s->subject->scales[l->in];
    const int outputs = nsk_lowered_tensor_at(lowered, l->out)->channels;
    const bool fine = nsk_lowered_tensor_at(lowered, l->in)->fine;
    const double unit = (double)(fine ? nsk_fine_scale(in) : in).scale;
    int64_t *sums = sums_of(s, layer);
    for (int o = 0; o < outputs; o++) {
        const size_t first = (size_t)(o / (outputs / m->windows.groups)) * (size_t)m->windows.taps;
        const double scale = nsk_scale_at(l->multipliers[o], in, s->subject->scales[l->out]);
        double high = 0.0;
        for (int t = 0; t < m->windows.taps; t++) {
            const size_t place = nsk_weight_place(l, outputs, o, t);
            const double given = unit * (double)sums[first + (size_t)t];
            high += l->levels[place] * scale * given -
                    (double)l->weights[place] * m->sum[first + (size_t)t];
        }
        l->bias[o] -= (float)(high / m->count);
    }
    g_free(sums);
}

static bool is_settled(const settler *s, int layer) {
    const nsk_layer_moments *m = &s->moments->layer[layer];
    const nsk_lowered_layer *l = nsk_lowered_layer_at(s->subject->lowered, layer);
    return m->windows.groups > 0 && m->count > 0.0 && l->levels != NULL && l->bias != NULL;
}

static bool settle_all(settler *s) {
    int last = s->moments->layers - 1;
    while (last >= 0 && !is_settled(s, last)) {
        last--;
    }
    if (last < 0) {
        return true;
    }
    bool good = build(s) && take_images(s);
    for (int i = 0; i <= last && good; i++) {
        if (is_settled(s, i)) {
            settle_layer(s, i);
            good = i == last || build(s);
        }
        if (good && i < last) {
            run_layer(s, i);
        }
    }
    return good;
}

bool nsk_settle_biases(const nsk_refine_subject *subject, const nsk_moments *moments,
                       const nsk_images *images, nsk_error *error) {
    settler s = {.subject = subject, .moments = moments, .images = images, .error = error};
    s.schedule = nsk_schedule_of(subject->lowered, 0, 1);
    nsk_schedule_place(subject->lowered, s.schedule);
    s.workspace = g_new0(int8_t *, moments->images + 1);
    bool good = settle_all(&s);
    for (int k = 0; k < moments->images; k++) {
        g_free(s.workspace[k]);
    }
    g_free(s.workspace);
    nsk_model_file_free(s.file);
    nsk_schedule_free(s.schedule);
    return good;
}
