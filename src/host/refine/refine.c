#include "refine/refine.h"

#include <math.h>
#include <omp.h>
#include <string.h>

#include "base/random.h"
#include "images/changes.h"
#include "refine/gradient.h"
#include "run/said.h"

/* A step's images are cut into shards, whose gradients are added in their order: the result does
 * not depend on the number of threads. */
enum { SHARDS = 8, SHARD_SIZE = 4, BATCH = SHARDS * SHARD_SIZE };
/* Strengths of changes that pictures are learned from with. */
enum { CHANGED_UP_TO = 3 };

/* How much the teacher's probabilities count; the rest: labels. */
static const double TRUST = 0.5;
static const double BIAS_RATE = 0.25;      /* of the weights', in levels of the output */
static const double KEPT[2] = {0.9, 0.99}; /* of the moments, a step: Adam's */

/* Learned numbers of one kind, of one layer: what they are, in levels, and their moments. */
typedef struct numbers {
    size_t count;
    float *now, *best, *mean, *square;
} numbers;

typedef struct layer_state {
    nsk_lowered_layer *layer;
    int channels;
    float *scale;    /* of the weights, one a channel */
    float bias_unit; /* a level of the output */
    numbers weights, biases;
} layer_state;

typedef struct session {
    const nsk_refine_subject *r;
    const nsk_lesson *lesson;
    const nsk_refine_settings *how;
    int layers;
    layer_state *states;
    nsk_learned *learned;
    nsk_schedule *schedule;
    nsk_model model; /* as it was built last */
    nsk_gradient *shards[SHARDS];
    int *order;               /* the lesson's, those that are learned from shuffled */
    uint8_t *changed[SHARDS]; /* a frame each */
    const nsk_change **changes;
    int change_count;
    int steps;
    nsk_error *error;
} session;

/* ---- numbers ---- */

static void numbers_make(numbers *n, size_t count) {
    n->count = count;
    n->now = g_new0(float, count + 1);
    n->best = g_new0(float, count + 1);
    n->mean = g_new0(float, count + 1);
    n->square = g_new0(float, count + 1);
}

static void numbers_clear(numbers *n) {
    g_free(n->now);
    g_free(n->best);
    g_free(n->mean);
    g_free(n->square);
}

/* One step of Adam (D. P. Kingma, J. Ba, arXiv 1412.6980, 2014). In levels each number moves by
 * about `rate`, however large the numbers are that it stands for. */
static void numbers_step(numbers *n, const float *gradient, double rate, int steps) {
    double fresh[2] = {1.0 - pow(KEPT[0], steps), 1.0 - pow(KEPT[1], steps)};
    for (size_t i = 0; i < n->count; i++) {
        double g = (double)gradient[i];
        double mean = KEPT[0] * (double)n->mean[i] + (1.0 - KEPT[0]) * g;
        double square = KEPT[1] * (double)n->square[i] + (1.0 - KEPT[1]) * g * g;
        n->mean[i] = (float)mean;
        n->square[i] = (float)square;
        if (square > 0.0) {
            n->now[i] -= (float)(rate * mean / fresh[0] / sqrt(square / fresh[1]));
        }
    }
}

/* ---- layers ---- */

static bool is_learned(const nsk_lowered_layer *l) {
    return l->kind == NSK_KIND_CONV || nsk_lowered_is_depthwise(l) || l->kind == NSK_KIND_DENSE ||
           l->kind == NSK_KIND_CONV_FINE || l->kind == NSK_KIND_CONV_TRANSPOSE;
}

/* Weights that a file stores as integers are meant to stay as they are. */
static bool can_learn(const nsk_lowered *lowered, nsk_error *error) {
    for (int i = 0; i < (int)lowered->layers->len; i++) {
        const nsk_lowered_layer *l = nsk_lowered_layer_at(lowered, i);
        if (is_learned(l) && l->steps != NULL) {
            return nsk_fail(error,
                            "layer '%s': the file gives its weights as integers already; refine "
                            "the float network that they come from",
                            l->name);
        }
    }
    return nsk_gradient_can(lowered, error);
}

static size_t channel_of(const layer_state *s, size_t weight) {
    return nsk_lowered_is_depthwise(s->layer) ? weight % (size_t)s->channels
                                              : weight / (size_t)s->layer->taps;
}

/* From now on the layer has levels and multipliers of its own. Numbers start at the weights
 * themselves, as near as the levels that were fitted allow. */
static void start_layer(const session *s, int index) {
    layer_state *st = &s->states[index];
    nsk_lowered_layer *l = nsk_lowered_layer_at(s->r->lowered, index);
    st->layer = l;
    st->channels = nsk_lowered_tensor_at(s->r->lowered, l->out)->channels;
    const bool still = s->r->still != NULL && s->r->still[index];
    size_t count = is_learned(l) && !still ? (size_t)l->taps * (size_t)st->channels : 0;
    numbers_make(&st->weights, count);
    numbers_make(&st->biases, count > 0 ? (size_t)st->channels : 0);
    s->learned[index] = (nsk_learned){count, count > 0 ? st->channels : 0, NULL};
    if (count == 0) {
        return;
    }
    const nsk_scale in = s->r->scales[l->in];
    const nsk_scale out = s->r->scales[l->out];
    nsk_requantise_multiplier *multipliers = g_new0(nsk_requantise_multiplier, st->channels);
    st->scale = g_new0(float, st->channels);
    st->bias_unit = out.scale;
    for (int c = 0; c < st->channels; c++) {
        multipliers[c] = nsk_weight_multiplier(l, c, st->channels, in, out);
        st->scale[c] = (float)nsk_weight_scale(l, c, st->channels, in, out);
    }
    bool fitted = l->levels != NULL;
    l->levels = fitted ? l->levels : g_new0(int8_t, count);
    g_free(l->multipliers);
    l->multipliers = multipliers;
    s->learned[index].weight = g_new0(float, count);
    for (size_t i = 0; i < count; i++) {
        double exact = (double)l->weights[i] / (double)st->scale[channel_of(st, i)];
        double level = fitted ? (double)l->levels[i] : floor(exact + 0.5);
        st->weights.now[i] = (float)CLAMP(exact, level - 0.49, level + 0.49);
    }
    for (size_t c = 0; c < (size_t)st->channels; c++) {
        st->biases.now[c] = l->bias[c] / st->bias_unit;
    }
}

/* Numbers become levels, biases and what the way back multiplies with. */
static void put_layer(const session *s, int index) {
    layer_state *st = &s->states[index];
    const float most = (float)nsk_lowered_most_level(st->layer);
    for (size_t i = 0; i < st->weights.count; i++) {
        float *now = &st->weights.now[i];
        *now = CLAMP(*now, -most, most);
        st->layer->levels[i] = (int8_t)floorf(*now + 0.5F);
        s->learned[index].weight[i] = (float)st->layer->levels[i] * st->scale[channel_of(st, i)];
    }
    for (size_t c = 0; c < st->biases.count; c++) {
        st->layer->bias[c] = st->biases.now[c] * st->bias_unit;
    }
}

nsk_model_file *nsk_refine_model(const nsk_refine_subject *r, const nsk_images *images,
                                 const nsk_schedule *schedule, nsk_model *model, nsk_error *error) {
    static const char *const no_facts[NSK_FACTS] = {"", "", "", "", ""};
    const bool again = model->bytes != NULL;
    nsk_model_file *file =
        nsk_model_build_on(r->graph, r->lowered, r->scales, no_facts, nsk_images_labels(images),
                           nsk_images_input(images), schedule, again ? model : NULL, error);
    if (file != NULL && again && file->size == model->size) {
        model->bytes = file->bytes;
    } else if (file != NULL) {
        nsk_open(model, file->bytes, file->size);
    }
    return file;
}

static nsk_model_file *build(session *s) {
    for (int i = 0; i < s->layers; i++) {
        put_layer(s, i);
    }
    return nsk_refine_model(s->r, s->lesson->images, s->schedule, &s->model, s->error);
}

/* The best so far is kept, or comes back. */
static void keep_best(const session *s, bool bring_back) {
    for (int i = 0; i < s->layers; i++) {
        numbers *const both[2] = {&s->states[i].weights, &s->states[i].biases};
        for (int k = 0; k < 2; k++) {
            memcpy(bring_back ? both[k]->now : both[k]->best,
                   bring_back ? both[k]->best : both[k]->now, both[k]->count * sizeof(float));
        }
    }
}

/* ---- images ---- */

/* An image's frame: half of the time, where changes are asked for, as something has changed it.
 * What depends on `time` and the image alone. */
static const uint8_t *shown(const session *s, int shard, int image, unsigned time) {
    const uint8_t *frame = nsk_lesson_frame(s->lesson, image);
    const nsk_input *input = nsk_images_input(s->lesson->images);
    const bool grey = input->colour == NSK_COLOUR_GREY;
    random_state random = {s->how->seed * UINT64_C(1000003) + (uint64_t)time * UINT64_C(7919) +
                           (uint64_t)image * UINT64_C(104729)};
    if (s->change_count == 0 || random_chance(&random, 0.5)) {
        return frame;
    }
    const nsk_change *change = s->changes[random_below(&random, s->change_count)];
    const double amount = change->amount[random_below(&random, CHANGED_UP_TO)];
    nsk_frame copy = {s->changed[shard], input->width,  input->height,
                      grey ? 1 : 3,      input->colour, NULL};
    nsk_error ignored;
    memcpy(copy.bytes, frame, s->lesson->frame_bytes);
    return change->apply(&copy, amount, &random, &ignored) ? copy.bytes : frame;
}

/* Those that are asked for, and that such pictures can have. */
static void list_changes(session *s) {
    const bool grey = nsk_images_input(s->lesson->images)->colour == NSK_COLOUR_GREY;
    s->changes = g_new0(const nsk_change *, nsk_change_count);
    for (int i = 0; i < nsk_change_count; i++) {
        const nsk_change *c = &nsk_changes[i];
        if ((s->how->changes >> i & 1U) != 0U && !c->backdrop && !(grey && c->colours)) {
            s->changes[s->change_count++] = c;
        }
    }
}

/* The images from `first` on, `count` of them, cut into shards. */
static void run_shards(const session *s, const nsk_model *model, int first, int count, bool learn,
                       double *loss, int *right) {
    double losses[SHARDS] = {0.0};
    int rights[SHARDS] = {0};
    const unsigned time = (unsigned)s->steps + 1U;
#pragma omp parallel for schedule(static, 1)
    for (int k = 0; k < SHARDS; k++) {
        nsk_gradient_clear(s->shards[k]);
        for (int i = first + k; i < first + count; i += SHARDS) {
            const int image = s->order[i];
            losses[k] +=
                nsk_gradient_add(s->shards[k], model, shown(s, k, image, learn ? time : 0U),
                                 nsk_lesson_target(s->lesson, image), learn);
            rights[k] += nsk_scores_are_right(s->lesson->images, image, model,
                                              nsk_gradient_scores(s->shards[k]));
        }
    }
    for (int k = 0; k < SHARDS; k++) {
        *loss += losses[k];
        *right += rights[k];
    }
}

/* ---- learning ---- */

typedef const float *shard_part(const nsk_gradient *shard, int layer);

/* The shards' gradients, added in their order, make one step. */
static void step(const session *s, int layer, numbers *n, shard_part *part, double rate) {
    float *sum = g_new0(float, n->count + 1);
    for (int k = 0; k < SHARDS; k++) {
        const float *own = part(s->shards[k], layer);
        for (size_t i = 0; i < n->count; i++) {
            sum[i] += own[i];
        }
    }
    numbers_step(n, sum, rate, s->steps);
    g_free(sum);
}

/* One batch; the rate follows half a cosine down to nothing. */
static bool learn_batch(session *s, int first, int count, double done) {
    double loss = 0.0;
    int right = 0;
    double rate = s->how->rate * 0.5 * (1.0 + cos(G_PI * done));
    nsk_model_file *file = build(s);
    if (file == NULL) {
        return false;
    }
    run_shards(s, &s->model, first, count, true, &loss, &right);
    s->steps++;
    for (int i = 0; i < s->layers; i++) {
        step(s, i, &s->states[i].weights, nsk_gradient_weights, rate);
        step(s, i, &s->states[i].biases, nsk_gradient_biases, rate * BIAS_RATE);
    }
    nsk_model_file_free(file);
    return true;
}

/* How the network does on the images that are set aside. */
static bool judge(session *s, double *loss, int *right) {
    nsk_model_file *file = build(s);
    *loss = 0.0;
    *right = 0;
    if (file == NULL) {
        return false;
    }
    run_shards(s, &s->model, s->lesson->learning, s->lesson->count - s->lesson->learning, false,
               loss, right);
    *loss /= s->lesson->count - s->lesson->learning;
    nsk_model_file_free(file);
    return true;
}

static void shuffle(const session *s, random_state *random) {
    for (int i = s->lesson->learning - 1; i > 0; i--) {
        int k = random_below(random, i + 1);
        int kept = s->order[i];
        s->order[i] = s->order[k];
        s->order[k] = kept;
    }
}

/* A build that fails means sums that the device could not hold: the best until then stands. */
static bool run_epochs(session *s, nsk_refine_result *result) {
    random_state random = {s->how->seed};
    double best;
    if (!judge(s, &result->loss[0], &result->right[0])) {
        return false;
    }
    result->loss[1] = best = result->loss[0];
    result->right[1] = result->right[0];
    keep_best(s, false);
    for (int epoch = 0; epoch < s->how->epochs; epoch++) {
        double loss;
        int right;
        bool good = true;
        shuffle(s, &random);
        for (int at = 0; at < s->lesson->learning && good; at += BATCH) {
            double done = (epoch + (double)at / s->lesson->learning) / s->how->epochs;
            good = learn_batch(s, at, MIN(BATCH, s->lesson->learning - at), done);
        }
        if (!good || !judge(s, &loss, &right)) {
            break;
        }
        if (loss < best) {
            result->loss[1] = best = loss;
            result->right[1] = right;
            result->best_epoch = epoch + 1;
            keep_best(s, false);
        }
        if (s->how->progress != NULL) {
            s->how->progress(s->how->context, epoch + 1, s->how->epochs);
        }
    }
    keep_best(s, true);
    return true;
}

static void session_clear(session *s) {
    for (int i = 0; i < s->layers; i++) {
        numbers_clear(&s->states[i].weights);
        numbers_clear(&s->states[i].biases);
        g_free(s->states[i].scale);
        g_free(s->learned[i].weight);
    }
    for (int k = 0; k < SHARDS; k++) {
        nsk_gradient_free(s->shards[k]);
        g_free(s->changed[k]);
    }
    nsk_schedule_free(s->schedule);
    g_free(s->states);
    g_free(s->learned);
    g_free(s->order);
    g_free(s->changes);
}

/* Weights as they were learned, before they became levels. */
static void keep_learned(const session *s, int index) {
    const layer_state *st = &s->states[index];
    for (size_t i = 0; i < st->weights.count; i++) {
        st->layer->weights[i] = st->weights.now[i] * st->scale[channel_of(st, i)];
    }
}

bool nsk_refine_on(const nsk_refine_subject *r, const nsk_lesson *lesson,
                   const nsk_refine_settings *how, nsk_error *error) {
    session s = {.r = r,
                 .lesson = lesson,
                 .how = how,
                 .layers = (int)r->lowered->layers->len,
                 .error = error};
    nsk_refine_result result = {.epochs = how->epochs,
                                .learned_from = lesson->learning,
                                .aside = lesson->count - lesson->learning};
    if (!can_learn(r->lowered, error)) {
        return false;
    }
    list_changes(&s);
    s.order = g_memdup2(lesson->order, (gsize)lesson->count * sizeof *s.order);
    s.states = g_new0(layer_state, s.layers);
    s.learned = g_new0(nsk_learned, s.layers);
    s.schedule = nsk_schedule_of(r->lowered, 0, 1);
    nsk_schedule_place(r->lowered, s.schedule);
    for (int i = 0; i < s.layers; i++) {
        start_layer(&s, i);
    }
    for (int k = 0; k < SHARDS; k++) {
        s.shards[k] = nsk_gradient_new(r->lowered, r->scales, s.learned);
        s.changed[k] = g_malloc(lesson->frame_bytes);
    }
    bool good = run_epochs(&s, &result);
    for (int i = 0; good && i < s.layers; i++) {
        put_layer(&s, i);
        keep_learned(&s, i);
    }
    if (good && how->result != NULL) {
        *how->result = result;
    }
    session_clear(&s);
    return good;
}

bool nsk_refine(const nsk_refine_subject *r, const nsk_refine_settings *how, nsk_error *error) {
    const nsk_network *teacher = how->teacher != NULL ? how->teacher : r->network;
    nsk_lesson *lesson =
        can_learn(r->lowered, error) ? nsk_lesson_new(teacher, how->training, TRUST, error) : NULL;
    const bool good = lesson != NULL && nsk_refine_on(r, lesson, how, error);
    nsk_lesson_free(lesson);
    return good;
}
