#include "pare/worth.h"

#include <omp.h>

#include "network/network.h"
#include "refine/gradient.h"
#include "refine/refine.h"

/* Images that are looked at, every so many; shards, so that sums do not depend on threads. */
enum { MOST_IMAGES = 512, SHARDS = 8 };

/* A tensor whose channels are born there, one for each of its own. */
typedef struct birth {
    int tensor, channels;
    const int *places;
} birth;

typedef struct weighing {
    const nsk_lesson *lesson;
    const nsk_model *model;
    int channels, most_places;
    GArray *births;
    int images, step;
} weighing;

/* Convolutions and products keep a tensor's channels where ONNX has them. */
static GArray *find_births(const nsk_pipeline *p, const nsk_channels *c, int *most) {
    const nsk_graph *g = p->network->graph;
    GArray *births = g_array_new(FALSE, FALSE, sizeof(birth));
    for (int i = 0; i < (int)p->lowered->tensors->len; i++) {
        const nsk_lowered_tensor *t = nsk_lowered_tensor_at(p->lowered, i);
        const nsk_node *node = nsk_graph_producer(g, t->value);
        if (node == NULL || node->output != t->value || !nsk_channels_are_born(g, node)) {
            continue;
        }
        const nsk_value *v = nsk_graph_value(g, t->value);
        const int axis = nsk_channels_axis(g, node);
        const birth b = {i, t->channels, c->places[t->value].at[axis]};
        if (b.places != NULL && v->dims[axis] == t->channels) {
            g_array_append_val(births, b);
            *most = MAX(*most, t->channels);
        }
    }
    return births;
}

/* Of every SHARDS-th image, from the `shard`-th on. */
static void weigh_shard(const weighing *w, nsk_gradient *gradient, int shard, double *sums) {
    double *change = g_new(double, w->channels + 1);
    double *of_tensor = g_new(double, w->most_places + 1);
    for (int i = shard; i < w->images; i += SHARDS) {
        const int image = w->lesson->order[(ptrdiff_t)i * w->step];
        nsk_gradient_clear(gradient);
        nsk_gradient_add(gradient, w->model, nsk_lesson_frame(w->lesson, image),
                         nsk_lesson_target(w->lesson, image), true);
        for (int k = 0; k < w->channels; k++) {
            change[k] = 0.0;
        }
        for (guint n = 0; n < w->births->len; n++) {
            const birth *b = &g_array_index(w->births, birth, n);
            nsk_gradient_changes(gradient, b->tensor, of_tensor);
            for (int k = 0; k < b->channels; k++) {
                if (b->places[k] != NSK_NONE) {
                    change[b->places[k]] += of_tensor[k];
                }
            }
        }
        for (int k = 0; k < w->channels; k++) {
            sums[k] += change[k] * change[k];
        }
    }
    g_free(change);
    g_free(of_tensor);
}

static double *weigh(const weighing *w, const nsk_pipeline *p, const nsk_learned *learned) {
    double *worth = g_new0(double, w->channels + 1);
    double *sums = g_new0(double, (gsize)SHARDS *(gsize)w->channels + 1);
#pragma omp parallel for schedule(static, 1)
    for (int k = 0; k < SHARDS; k++) {
        nsk_gradient *gradient = nsk_gradient_new(p->lowered, p->scales, learned);
        weigh_shard(w, gradient, k, sums + (ptrdiff_t)k * w->channels);
        nsk_gradient_free(gradient);
    }
    for (int i = 0; i < SHARDS * w->channels; i++) {
        worth[i % w->channels] += sums[i] / w->images;
    }
    g_free(sums);
    return worth;
}

/* The way back multiplies with the weights; what it makes of their gradients is not asked. */
static nsk_learned *weights_of(const nsk_lowered *lowered) {
    nsk_learned *learned = g_new0(nsk_learned, lowered->layers->len);
    for (int i = 0; i < (int)lowered->layers->len; i++) {
        const nsk_lowered_layer *l = nsk_lowered_layer_at(lowered, i);
        const int channels = nsk_lowered_tensor_at(lowered, l->out)->channels;
        if (l->weights != NULL && l->bias != NULL) {
            learned[i] = (nsk_learned){(size_t)l->taps * (size_t)channels, channels, l->weights};
        }
    }
    return learned;
}

double *nsk_worth_of(const nsk_pipeline *p, const nsk_channels *channels, const nsk_lesson *lesson,
                     nsk_error *error) {
    const nsk_refine_subject subject = {p->network, p->lowered, p->network->graph, p->scales, NULL};
    nsk_model model = {.bytes = NULL};
    if (!nsk_gradient_can(p->lowered, error)) {
        return NULL;
    }
    nsk_schedule *schedule = nsk_schedule_of(p->lowered, 0, 1);
    nsk_schedule_place(p->lowered, schedule);
    nsk_model_file *file = nsk_refine_model(&subject, lesson->images, schedule, &model, error);
    nsk_schedule_free(schedule);
    if (file == NULL) {
        return NULL;
    }
    nsk_learned *learned = weights_of(p->lowered);
    weighing w = {.lesson = lesson, .model = &model, .channels = channels->count};
    w.births = find_births(p, channels, &w.most_places);
    w.images = MIN(lesson->learning, MOST_IMAGES);
    w.step = lesson->learning / w.images;
    double *worth = weigh(&w, p, learned);
    g_array_free(w.births, TRUE);
    g_free(learned);
    nsk_model_file_free(file);
    return worth;
}
