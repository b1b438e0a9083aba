#include "train/fit.h"

#include <glib.h>
#include <math.h>

#include "base/random.h"

typedef struct change {
    int dx, dy, mirror;
    float gain;
} change;

static change draw_change(const nsk_train_plan *plan, random_state *r) {
    int span = 2 * plan->most_shift + 1;
    change c;
    c.dx = random_below(r, span) - plan->most_shift;
    c.dy = random_below(r, span) - plan->most_shift;
    c.mirror = plan->mirror && random_chance(r, 0.5);
    c.gain = (float)random_between(r, 1.0 - plan->most_gain, 1.0 + plan->most_gain);
    return c;
}

static int within(int x, int limit) {
    return x < 0 ? 0 : x >= limit ? limit - 1 : x;
}

static void load(const nsk_train_net *net, const nsk_train_set *set, int index, const change *c,
                 float *to) {
    size_t size = (size_t)(net->height * net->width * net->channels);
    const uint8_t *frame = set->frames + size * (size_t)index;
    for (int y = 0; y < net->height; y++) {
        for (int x = 0; x < net->width; x++) {
            int from_x = within((c->mirror ? net->width - 1 - x : x) + c->dx, net->width);
            int from_y = within(y + c->dy, net->height);
            const uint8_t *pixel = frame + (from_y * net->width + from_x) * net->channels;
            for (int k = 0; k < net->channels; k++) {
                float value = fminf((float)pixel[k] / 255.0F * c->gain, 1.0F);
                *to++ = (value - set->mean[k]) / set->deviation[k];
            }
        }
    }
}

/* The likeliest class, or a bit for each label that is likelier than not. */
static int answer_of(const nsk_train_net *net, const float *scores, int classes) {
    int best = 0;
    unsigned bits = 0;
    for (int c = 0; c < classes; c++) {
        best = scores[c] > scores[best] ? c : best;
        bits |= (unsigned)(scores[c] > 0.0F) << c;
    }
    return net->several ? (int)bits : best;
}

static int count_correct(const nsk_train_net *net, const float *scores, const int *labels,
                         int pictures) {
    const int classes = net->layer[net->layers - 1].channels;
    int correct = 0;
    for (int n = 0; n < pictures; n++, scores += classes) {
        correct += answer_of(net, scores, classes) == labels[n];
    }
    return correct;
}

/* Which pictures a shard takes in this step. */
typedef struct batch {
    const int *order;
    int count; /* of the whole step */
} batch;

static int shard_pictures(const nsk_train_net *net, int step_count, int shard) {
    int left = step_count - shard * net->shard_size;
    return left <= 0 ? 0 : left < net->shard_size ? left : net->shard_size;
}

static void run_shard(nsk_train_net *net, const nsk_train_set *set, const nsk_train_plan *plan,
                      batch step, int shard, uint64_t seed, double *loss, int *correct) {
    nsk_train_shard *work = &net->shard[shard];
    size_t size = (size_t)(net->height * net->width * net->channels);
    int *labels = g_new(int, net->shard_size);
    random_state r = {seed};
    work->pictures = shard_pictures(net, step.count, shard);
    for (int i = 0; i < work->pictures; i++) {
        int index = step.order[shard * net->shard_size + i];
        change c = draw_change(plan, &r);
        load(net, set, index, &c, work->input + size * (size_t)i);
        labels[i] = set->labels[index];
    }
    *loss = 0.0;
    *correct = 0;
    if (work->pictures > 0) {
        const float *scores = nsk_train_forward(net, work, true);
        *correct = count_correct(net, scores, labels, work->pictures);
        *loss = nsk_train_backward(net, work, labels, plan->smoothing, step.count);
    }
    g_free(labels);
}

static double rate_at(const nsk_train_plan *plan, double epoch) {
    if (epoch < plan->warm_up) {
        return plan->rate * (epoch + 0.1) / (plan->warm_up + 0.1);
    }
    double done = (epoch - plan->warm_up) / (plan->epochs - plan->warm_up);
    return plan->rate * 0.5 * (1.0 + cos(3.141592653589793 * done));
}

static void shuffle(int *order, int count, random_state *r) {
    for (int i = count - 1; i > 0; i--) {
        int k = random_below(r, i + 1);
        int kept = order[i];
        order[i] = order[k];
        order[k] = kept;
    }
}

static nsk_train_epoch run_epoch(nsk_train_net *net, const nsk_train_set *set,
                                 const nsk_train_plan *plan, int epoch, const int *order,
                                 random_state *r) {
    int step_size = net->shards * net->shard_size;
    double *losses = g_new0(double, net->shards);
    int *corrects = g_new0(int, net->shards);
    nsk_train_epoch result = {.epoch = epoch};
    int correct = 0;
    for (int at = 0; at < set->count; at += step_size) {
        batch step = {order + at, MIN(step_size, set->count - at)};
        uint64_t seed = random_bits(r);
#pragma omp parallel for schedule(static, 1)
        for (int k = 0; k < net->shards; k++) {
            run_shard(net, set, plan, step, k, seed + (uint64_t)k, &losses[k], &corrects[k]);
        }
        for (int k = 0; k < net->shards; k++) {
            result.loss += losses[k] / set->count;
            correct += corrects[k];
        }
        result.rate = rate_at(plan, epoch + (double)at / set->count);
        const nsk_train_rule rule = {result.rate, plan->momentum, plan->decay, plan->adaptive};
        nsk_train_update(net, &rule);
    }
    result.accuracy = (double)correct / set->count;
    g_free(losses);
    g_free(corrects);
    return result;
}

void nsk_train_fit(nsk_train_net *net, const nsk_train_set *set, const nsk_train_plan *plan,
                   void (*report)(const nsk_train_epoch *epoch)) {
    random_state r = {plan->seed};
    int *order = g_new(int, set->count);
    for (int i = 0; i < set->count; i++) {
        order[i] = i;
    }
    for (int epoch = 0; epoch < plan->epochs; epoch++) {
        shuffle(order, set->count, &r);
        nsk_train_epoch done = run_epoch(net, set, plan, epoch, order, &r);
        report(&done);
    }
    g_free(order);
}

double nsk_train_accuracy(nsk_train_net *net, const nsk_train_set *set) {
    const change none = {.gain = 1.0F};
    size_t size = (size_t)(net->height * net->width * net->channels);
    nsk_train_shard *work = &net->shard[0];
    int correct = 0;
    for (int at = 0; at < set->count; at += net->shard_size) {
        work->pictures = MIN(net->shard_size, set->count - at);
        for (int i = 0; i < work->pictures; i++) {
            load(net, set, at + i, &none, work->input + size * (size_t)i);
        }
        const float *scores = nsk_train_forward(net, work, false);
        correct += count_correct(net, scores, set->labels + at, work->pictures);
    }
    return (double)correct / set->count;
}
