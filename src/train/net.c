#include "train/net.h"

#include <glib.h>
#include <math.h>
#include <string.h>

#include "base/random.h"
#include "train/layers.h"

nsk_train_net *nsk_train_net_new(int height, int width, int channels) {
    nsk_train_net *net = g_new0(nsk_train_net, 1);
    net->height = height;
    net->width = width;
    net->channels = channels;
    return net;
}

static void add_parameter(nsk_train_net *net, nsk_parameter *p, size_t count, bool decays) {
    *p = (nsk_parameter){
        count, net->parameters, g_new0(float, count), g_new0(float, count), g_new0(float, count),
        decays};
    net->parameters += count;
}

static void fill(float *values, size_t count, float value) {
    for (size_t i = 0; i < count; i++) {
        values[i] = value;
    }
}

static void give_parameters(nsk_train_net *net, nsk_train_layer *l) {
    size_t area = (size_t)(l->kernel * l->kernel);
    size_t channels = (size_t)l->channels;
    size_t inputs = (size_t)l->in_channels;
    switch (l->kind) {
    case NSK_TRAIN_CONV:
        add_parameter(net, &l->weight, area * inputs * channels, true);
        break;
    case NSK_TRAIN_DEPTHWISE:
        add_parameter(net, &l->weight, area * channels, true);
        break;
    case NSK_TRAIN_BATCH_NORM:
        g_assert(l->channels <= 1024);
        add_parameter(net, &l->weight, channels, false);
        add_parameter(net, &l->bias, channels, false);
        fill(l->weight.value, channels, 1.0F);
        l->running_mean = g_new0(float, channels);
        l->running_variance = g_new0(float, channels);
        fill(l->running_variance, channels, 1.0F);
        break;
    case NSK_TRAIN_LAYER_NORM:
        add_parameter(net, &l->weight, channels, false);
        add_parameter(net, &l->bias, channels, false);
        fill(l->weight.value, channels, 1.0F);
        break;
    case NSK_TRAIN_BIAS:
    case NSK_TRAIN_CLASS_TOKEN:
        add_parameter(net, &l->bias, channels, false);
        break;
    case NSK_TRAIN_POSITION:
        add_parameter(net, &l->bias, (size_t)l->height * (size_t)l->width * channels, false);
        break;
    case NSK_TRAIN_DENSE:
        add_parameter(net, &l->weight,
                      inputs * (size_t)l->in_height * (size_t)l->in_width * channels, true);
        add_parameter(net, &l->bias, channels, false);
        break;
    default:
        break;
    }
}

/* The output's size, of a layer whose input's is known. */
static void set_size(nsk_train_layer *l, int channels) {
    const int pixels = l->in_height * l->in_width;
    l->height = l->in_height;
    l->width = l->in_width;
    l->channels = l->in_channels;
    switch (l->kind) {
    case NSK_TRAIN_CONV:
    case NSK_TRAIN_DEPTHWISE:
        l->height = (l->in_height + 2 * l->pad - l->kernel) / l->stride + 1;
        l->width = (l->in_width + 2 * l->pad - l->kernel) / l->stride + 1;
        l->channels = l->kind == NSK_TRAIN_CONV ? channels : l->in_channels;
        break;
    case NSK_TRAIN_DENSE:
    case NSK_TRAIN_MEAN_POOL:
    case NSK_TRAIN_FIRST_TOKEN:
        l->height = l->width = 1;
        l->channels = l->kind == NSK_TRAIN_DENSE ? channels : l->in_channels;
        break;
    case NSK_TRAIN_TOKENS:
    case NSK_TRAIN_CLASS_TOKEN:
        l->height = 1;
        l->width = pixels + (l->kind == NSK_TRAIN_CLASS_TOKEN);
        break;
    case NSK_TRAIN_UPPER:
        l->channels = l->in_channels / 2;
        break;
    case NSK_TRAIN_TURN:
        l->height = 1;
        l->width = l->in_channels;
        l->channels = pixels;
        break;
    case NSK_TRAIN_ATTENTION:
        g_assert(l->in_channels % (3 * l->kernel) == 0);
        l->channels = l->in_channels / 3;
        break;
    default:
        break;
    }
}

int nsk_train_add(nsk_train_net *net, nsk_train_kind kind, int channels, int kernel, int stride) {
    g_assert(net->layers < (int)G_N_ELEMENTS(net->layer));
    const nsk_train_layer *last = net->layers > 0 ? &net->layer[net->layers - 1] : NULL;
    nsk_train_layer *l = &net->layer[net->layers++];
    *l = (nsk_train_layer){.kind = kind, .kernel = kernel, .stride = stride};
    l->pad = kernel == stride ? 0 : kernel / 2;
    l->in_height = last != NULL ? last->height : net->height;
    l->in_width = last != NULL ? last->width : net->width;
    l->in_channels = last != NULL ? last->channels : net->channels;
    set_size(l, channels);
    give_parameters(net, l);
    return net->layers - 1;
}

int nsk_train_join(nsk_train_net *net, nsk_train_kind kind, int earlier) {
    int at = nsk_train_add(net, kind, 0, 1, 1);
    nsk_train_layer *l = &net->layer[at];
    const nsk_train_layer *from = &net->layer[earlier];
    l->earlier = earlier;
    l->earlier_channels = from->channels;
    l->height = from->height;
    l->width = from->width;
    if (kind == NSK_TRAIN_CONCAT) {
        l->channels += from->channels;
    } else if (kind == NSK_TRAIN_FROM || kind == NSK_TRAIN_LOWER) {
        l->channels = from->channels / (kind == NSK_TRAIN_LOWER ? 2 : 1);
    }
    g_assert(kind >= NSK_TRAIN_FROM || from->channels == l->channels);
    return at;
}

static void draw_weights(nsk_train_net *net, random_state *r) {
    for (int i = 0; i < net->layers; i++) {
        nsk_train_layer *l = &net->layer[i];
        bool added = l->kind == NSK_TRAIN_POSITION || l->kind == NSK_TRAIN_CLASS_TOKEN;
        for (size_t k = 0; k < l->bias.count && added; k++) {
            l->bias.value[k] = (float)(0.02 * random_normal(r));
        }
        if (l->weight.count == 0 || l->kind == NSK_TRAIN_BATCH_NORM ||
            l->kind == NSK_TRAIN_LAYER_NORM) {
            continue;
        }
        size_t groups = (size_t)l->channels;
        double fan_in = (double)(l->weight.count / groups);
        double deviation = sqrt((l->kind == NSK_TRAIN_DENSE ? 1.0 : 2.0) / fan_in);
        for (size_t k = 0; k < l->weight.count; k++) {
            l->weight.value[k] = (float)(deviation * random_normal(r));
        }
    }
}

static void make_cache(const nsk_train_layer *l, nsk_train_cache *cache, size_t pictures) {
    size_t rows = pictures * (size_t)l->height * (size_t)l->width;
    size_t channels = (size_t)l->channels;
    cache->output = g_new0(float, rows *channels);
    cache->gradient = g_new0(float, rows *channels);
    if (l->kind == NSK_TRAIN_CONV && (l->kernel != 1 || l->stride != 1)) {
        size_t taps = (size_t)(l->kernel * l->kernel * l->in_channels);
        cache->columns = g_new0(float, 2 * rows * taps);
    }
    if (l->kind == NSK_TRAIN_ATTENTION) {
        size_t tokens = (size_t)l->height * (size_t)l->width;
        cache->columns = g_new0(float, 2 * pictures * (size_t)l->kernel * tokens * tokens);
    }
    if (l->kind == NSK_TRAIN_LAYER_NORM) {
        cache->mean = g_new0(float, rows);
        cache->inverse = g_new0(float, rows);
    }
    if (l->kind == NSK_TRAIN_BATCH_NORM) {
        cache->mean = g_new0(float, channels);
        cache->inverse = g_new0(float, channels);
    }
}

void nsk_train_ready(nsk_train_net *net, int shards, int shard_size, unsigned long long seed) {
    random_state r = {seed};
    draw_weights(net, &r);
    net->shards = shards;
    net->shard_size = shard_size;
    net->shard = g_new0(nsk_train_shard, shards);
    for (int i = 0; i < shards; i++) {
        nsk_train_shard *shard = &net->shard[i];
        shard->input =
            g_new0(float, (size_t)(shard_size * net->height * net->width * net->channels));
        shard->gradients = g_new0(float, net->parameters);
        shard->cache = g_new0(nsk_train_cache, net->layers);
        for (int k = 0; k < net->layers; k++) {
            make_cache(&net->layer[k], &shard->cache[k], (size_t)shard_size);
        }
    }
}

static void free_shard(const nsk_train_net *net, nsk_train_shard *shard) {
    for (int k = 0; k < net->layers; k++) {
        nsk_train_cache *cache = &shard->cache[k];
        float *const parts[] = {cache->output, cache->gradient, cache->columns, cache->mean,
                                cache->inverse};
        for (size_t i = 0; i < G_N_ELEMENTS(parts); i++) {
            g_free(parts[i]);
        }
    }
    g_free(shard->cache);
    g_free(shard->input);
    g_free(shard->gradients);
}

void nsk_train_net_free(nsk_train_net *net) {
    for (int i = 0; i < net->shards; i++) {
        free_shard(net, &net->shard[i]);
    }
    g_free(net->shard);
    for (int i = 0; i < net->layers; i++) {
        nsk_train_layer *l = &net->layer[i];
        float *const parts[] = {l->weight.value,  l->weight.velocity, l->bias.value,
                                l->bias.velocity, l->running_mean,    l->running_variance,
                                l->weight.square, l->bias.square};
        for (size_t k = 0; k < G_N_ELEMENTS(parts); k++) {
            g_free(parts[k]);
        }
    }
    g_free(net);
}

static nsk_train_step step_of(nsk_train_net *net, nsk_train_shard *shard, int layer,
                              bool training) {
    nsk_train_cache *earlier = &shard->cache[net->layer[layer].earlier];
    return (nsk_train_step){
        .layer = &net->layer[layer],
        .cache = &shard->cache[layer],
        .input = layer > 0 ? shard->cache[layer - 1].output : shard->input,
        .earlier = earlier->output,
        .input_gradient = layer > 0 ? shard->cache[layer - 1].gradient : NULL,
        .earlier_gradient = earlier->gradient,
        .gradients = shard->gradients,
        .pictures = shard->pictures,
        .training = training,
    };
}

const float *nsk_train_forward(nsk_train_net *net, nsk_train_shard *shard, bool training) {
    for (int i = 0; i < net->layers; i++) {
        nsk_train_step step = step_of(net, shard, i, training);
        nsk_train_operations[net->layer[i].kind].forward(&step);
    }
    return shard->cache[net->layers - 1].output;
}

/* Loss of one picture, and its gradient by the scores: probability minus target. */
static double cross_entropy(const float *scores, float *gradient, int classes, int label,
                            double smoothing, int total) {
    double top = (double)scores[0];
    for (int c = 1; c < classes; c++) {
        top = fmax(top, (double)scores[c]);
    }
    double sum = 0.0;
    for (int c = 0; c < classes; c++) {
        sum += exp((double)scores[c] - top);
    }
    double loss = 0.0;
    for (int c = 0; c < classes; c++) {
        double target = smoothing / classes + (c == label ? 1.0 - smoothing : 0.0);
        double probability = exp((double)scores[c] - top) / sum;
        loss -= target * ((double)scores[c] - top - log(sum));
        gradient[c] = (float)((probability - target) / total);
    }
    return loss;
}

/* The same of labels that are there or not, each by itself: bit c of `labels` is the c-th. */
static double cross_entropies(const float *scores, float *gradient, int classes, int labels,
                              double smoothing, int total) {
    double loss = 0.0;
    for (int c = 0; c < classes; c++) {
        double target = ((unsigned)labels >> c & 1U) != 0 ? 1.0 - smoothing / 2 : smoothing / 2;
        double z = (double)scores[c];
        loss += fmax(z, 0.0) - z * target + log1p(exp(-fabs(z)));
        gradient[c] = (float)((1.0 / (1.0 + exp(-z)) - target) / total);
    }
    return loss;
}

double nsk_train_backward(nsk_train_net *net, nsk_train_shard *shard, const int *labels,
                          double smoothing, int total) {
    nsk_train_cache *last = &shard->cache[net->layers - 1];
    int classes = net->layer[net->layers - 1].channels;
    double loss = 0.0;
    for (int n = 0; n < shard->pictures; n++) {
        loss += (net->several ? cross_entropies : cross_entropy)(
            last->output + n * classes, last->gradient + n * classes, classes, labels[n], smoothing,
            total);
    }
    memset(shard->gradients, 0, net->parameters * sizeof(float));
    for (int i = 0; i < net->layers - 1; i++) {
        const nsk_train_layer *l = &net->layer[i];
        size_t each = (size_t)l->height * (size_t)l->width * (size_t)l->channels;
        memset(shard->cache[i].gradient, 0, (size_t)shard->pictures * each * sizeof(float));
    }
    for (int i = net->layers - 1; i >= 0; i--) {
        nsk_train_step step = step_of(net, shard, i, true);
        nsk_train_operations[net->layer[i].kind].backward(&step);
    }
    return loss;
}

/* The mean of all shards' gradients, by one number. */
static double gradient_of(const nsk_train_net *net, size_t at) {
    double gradient = 0.0;
    for (int k = 0; k < net->shards; k++) {
        gradient += net->shard[k].pictures > 0 ? (double)net->shard[k].gradients[at] : 0.0;
    }
    return gradient;
}

static void move_by_momentum(const nsk_train_net *net, nsk_parameter *p,
                             const nsk_train_rule *rule) {
    for (size_t i = 0; i < p->count; i++) {
        double gradient = p->decays ? rule->decay * (double)p->value[i] : 0.0;
        gradient += gradient_of(net, p->at + i);
        double velocity = rule->momentum * (double)p->velocity[i] + gradient;
        p->velocity[i] = (float)velocity;
        p->value[i] -= (float)(rule->rate * (gradient + rule->momentum * velocity));
    }
}

/* Both means start at nothing, which is taken out of them again. */
static void move_adaptively(const nsk_train_net *net, nsk_parameter *p,
                            const nsk_train_rule *rule) {
    const double KEEP = 0.999;
    const double mean_share = 1.0 - pow(rule->momentum, net->steps);
    const double square_share = 1.0 - pow(KEEP, net->steps);
    for (size_t i = 0; i < p->count; i++) {
        double gradient = gradient_of(net, p->at + i);
        double mean = rule->momentum * (double)p->velocity[i] + (1.0 - rule->momentum) * gradient;
        double square = KEEP * (double)p->square[i] + (1.0 - KEEP) * gradient * gradient;
        p->velocity[i] = (float)mean;
        p->square[i] = (float)square;
        double step = mean / mean_share / (sqrt(square / square_share) + 1e-8);
        step += p->decays ? rule->decay * (double)p->value[i] : 0.0;
        p->value[i] -= (float)(rule->rate * step);
    }
}

static void move_statistics(nsk_train_net *net, int layer) {
    const double KEEP = 0.95;
    nsk_train_layer *l = &net->layer[layer];
    for (int k = 0; k < net->shards; k++) {
        const nsk_train_cache *cache = &net->shard[k].cache[layer];
        if (net->shard[k].pictures == 0) {
            continue;
        }
        for (int c = 0; c < l->channels; c++) {
            double inverse = (double)cache->inverse[c];
            double variance = 1.0 / (inverse * inverse);
            l->running_mean[c] =
                (float)(KEEP * (double)l->running_mean[c] + (1.0 - KEEP) * (double)cache->mean[c]);
            l->running_variance[c] =
                (float)(KEEP * (double)l->running_variance[c] + (1.0 - KEEP) * variance);
        }
    }
}

void nsk_train_update(nsk_train_net *net, const nsk_train_rule *rule) {
    net->steps++;
    for (int i = 0; i < net->layers; i++) {
        nsk_parameter *const both[2] = {&net->layer[i].weight, &net->layer[i].bias};
        for (int k = 0; k < 2; k++) {
            (rule->adaptive ? move_adaptively : move_by_momentum)(net, both[k], rule);
        }
        if (net->layer[i].kind == NSK_TRAIN_BATCH_NORM) {
            move_statistics(net, i);
        }
    }
}
