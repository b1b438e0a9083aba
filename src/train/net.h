/* train: float training of small image classifiers, offline, on BLAS. A net is a list of layers on
 * batches of height x width x channels pictures (channels fastest): each takes the layer before it,
 * and two kinds take an earlier one as well.
 *
 * A step's batch is cut into shards. Each shard runs forward and backward on a thread of its own,
 * with batch-normalisation statistics of its own, and gradients are added in the shards' order: the
 * result does not depend on the number of threads.
 */
#ifndef NSK_TRAIN_NET_H
#define NSK_TRAIN_NET_H

#include <stdbool.h>
#include <stddef.h>

typedef enum nsk_train_kind {
    NSK_TRAIN_CONV,
    NSK_TRAIN_DEPTHWISE,
    NSK_TRAIN_BATCH_NORM,
    NSK_TRAIN_RELU,
    NSK_TRAIN_HARD_SWISH,   /* x * clip(x + 3, 0, 6) / 6 */
    NSK_TRAIN_HARD_SIGMOID, /* clip(x / 6 + 1 / 2, 0, 1) */
    NSK_TRAIN_MEAN_POOL,    /* over the whole picture */
    NSK_TRAIN_DENSE,
    NSK_TRAIN_ADD,     /* two pictures of one size */
    NSK_TRAIN_SCALE,   /* an earlier picture, each channel times its number in the layer before */
    NSK_TRAIN_FROM,    /* an earlier picture once more, for another branch */
    NSK_TRAIN_CONCAT,  /* an earlier picture's channels, the last one's behind them */
    NSK_TRAIN_UPPER,   /* the upper half of the channels */
    NSK_TRAIN_LOWER,   /* the lower half, of an earlier picture */
    NSK_TRAIN_SHUFFLE, /* channels of both halves by turns */
    NSK_TRAIN_LAYER_NORM, /* of each pixel's channels */
    NSK_TRAIN_GELU,
    NSK_TRAIN_BIAS,        /* a number for each channel, added */
    NSK_TRAIN_POSITION,    /* a number for each element, added */
    NSK_TRAIN_TOKENS,      /* the pixels in a line, from here on */
    NSK_TRAIN_TURN,        /* tokens become channels, channels tokens */
    NSK_TRAIN_CLASS_TOKEN, /* one more in front, the same for every picture */
    NSK_TRAIN_FIRST_TOKEN, /* that one alone */
    NSK_TRAIN_ATTENTION,   /* of queries, keys and values side by side; `kernel` heads */
    NSK_TRAIN_KINDS
} nsk_train_kind;

/* Values that are learned; each shard has gradients of its own, in shard.gradients. */
typedef struct nsk_parameter {
    size_t count, at;                 /* `at`: where its gradients start among all of the net's */
    float *value, *velocity, *square; /* the last two: means of gradients and of their squares */
    bool decays;
} nsk_parameter;

typedef struct nsk_train_layer {
    nsk_train_kind kind;
    int earlier; /* of joins: the layer taken besides the one before, or instead of it */
    int earlier_channels;
    int kernel, stride, pad;
    int in_height, in_width, in_channels;
    int height, width, channels; /* of the output */
    /* conv: [out][row][column][in]; depthwise: [row][column][channel]; dense: [out][in] and bias;
     * normalisation: gain and offset; what is added or put in front: bias */
    nsk_parameter weight, bias;
    float *running_mean, *running_variance; /* batch normalisation */
} nsk_train_layer;

/* One layer's working memory in one shard. */
typedef struct nsk_train_cache {
    float *output, *gradient; /* of the loss by the output */
    float *columns;           /* conv: unfolded input, and its gradient behind it; attention */
    float *mean, *inverse;    /* normalisation: this batch's, or row's, mean and 1 / deviation */
} nsk_train_cache;

typedef struct nsk_train_shard {
    int pictures;
    float *input;
    nsk_train_cache *cache; /* one a layer */
    float *gradients;       /* of all parameters */
} nsk_train_shard;

typedef struct nsk_train_net {
    int height, width, channels; /* of the input */
    bool several;                /* a picture may have several labels: a bit each, and a sigmoid */
    int layers;
    nsk_train_layer layer[128];
    size_t parameters;
    int steps; /* taken so far */
    int shards, shard_size;
    nsk_train_shard *shard;
} nsk_train_net;

/* An empty net for pictures of this size. */
nsk_train_net *nsk_train_net_new(int height, int width, int channels);
void nsk_train_net_free(nsk_train_net *net);

/* Adds a layer behind the last and returns its number. `channels`: outputs of a conv or a dense
 * layer, else ignored. A conv or depthwise pads kernel / 2 on each side, but not where windows
 * stand beside each other. */
int nsk_train_add(nsk_train_net *net, nsk_train_kind kind, int channels, int kernel, int stride);

/* Adds an ADD, a SCALE or a CONCAT of an earlier layer and the last; or a FROM or a LOWER of an
 * earlier one alone. */
int nsk_train_join(nsk_train_net *net, nsk_train_kind kind, int earlier);

/* Makes the working memory, and draws the weights: He et al. (2015), normal of variance 2 / fan-in,
 * from `seed`. Call once, after the last nsk_train_add. */
void nsk_train_ready(nsk_train_net *net, int shards, int shard_size, unsigned long long seed);

/* Runs a shard's `pictures` inputs through the net; returns the last layer's output. When
 * `training`, batch normalisation uses the batch's statistics, else the running ones. */
const float *nsk_train_forward(nsk_train_net *net, nsk_train_shard *shard, bool training);

/* Softmax cross-entropy on the last output with labels smoothed by `smoothing`, or, where a picture
 * may have several, the sum of each label's cross-entropy with a sigmoid; then gradients of
 * every parameter, as the mean over `total` pictures, into shard->gradients. Returns the sum of the
 * shard's losses. */
double nsk_train_backward(nsk_train_net *net, nsk_train_shard *shard, const int *labels,
                          double smoothing, int total);

/* How weights take a step: Nesterov momentum with weight decay; or, `adaptive`, each number by the
 * mean and deviation of its own gradients, decay apart (D. P. Kingma, J. Ba, 2015; I. Loshchilov,
 * F. Hutter, 2019). */
typedef struct nsk_train_rule {
    double rate, momentum, decay;
    bool adaptive;
} nsk_train_rule;

/* Adds up the shards' gradients and takes a step; moves the running statistics. */
void nsk_train_update(nsk_train_net *net, const nsk_train_rule *rule);

#endif
