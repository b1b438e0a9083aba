/* The trainer: gradients against differences, learning, and what it exports. */
#include <math.h>
#include <stdio.h>
#include <string.h>

#include "../suites.h"
#include "../support.h"
#include "train/export.h"
#include "train/fit.h"

enum { SIZE = 6, PICTURES = 5, CLASSES = 3 };

static nsk_train_net *small_net(uint64_t seed) {
    nsk_train_net *net = nsk_train_net_new(SIZE, SIZE, 3);
    nsk_train_add(net, NSK_TRAIN_CONV, 4, 3, 2);
    nsk_train_add(net, NSK_TRAIN_BATCH_NORM, 0, 1, 1);
    nsk_train_add(net, NSK_TRAIN_RELU, 0, 1, 1);
    nsk_train_add(net, NSK_TRAIN_DEPTHWISE, 0, 3, 1);
    nsk_train_add(net, NSK_TRAIN_BATCH_NORM, 0, 1, 1);
    nsk_train_add(net, NSK_TRAIN_CONV, 6, 1, 1);
    nsk_train_add(net, NSK_TRAIN_MEAN_POOL, 0, 1, 1);
    nsk_train_add(net, NSK_TRAIN_DENSE, CLASSES, 1, 1);
    nsk_train_ready(net, 1, PICTURES, seed);
    return net;
}

/* With what chains lack: a block that widens, weighs its channels, narrows and adds. */
static nsk_train_net *gated_net(uint64_t seed) {
    nsk_train_net *net = nsk_train_net_new(SIZE, SIZE, 3);
    nsk_train_add(net, NSK_TRAIN_CONV, 4, 3, 2);
    int start = nsk_train_add(net, NSK_TRAIN_HARD_SWISH, 0, 1, 1);
    nsk_train_add(net, NSK_TRAIN_CONV, 6, 1, 1);
    nsk_train_add(net, NSK_TRAIN_BATCH_NORM, 0, 1, 1);
    int picture = nsk_train_add(net, NSK_TRAIN_HARD_SWISH, 0, 1, 1);
    nsk_train_add(net, NSK_TRAIN_MEAN_POOL, 0, 1, 1);
    nsk_train_add(net, NSK_TRAIN_DENSE, 3, 1, 1);
    nsk_train_add(net, NSK_TRAIN_RELU, 0, 1, 1);
    nsk_train_add(net, NSK_TRAIN_DENSE, 6, 1, 1);
    nsk_train_add(net, NSK_TRAIN_HARD_SIGMOID, 0, 1, 1);
    nsk_train_join(net, NSK_TRAIN_SCALE, picture);
    nsk_train_add(net, NSK_TRAIN_CONV, 4, 1, 1);
    nsk_train_join(net, NSK_TRAIN_ADD, start);
    nsk_train_add(net, NSK_TRAIN_MEAN_POOL, 0, 1, 1);
    nsk_train_add(net, NSK_TRAIN_DENSE, CLASSES, 1, 1);
    nsk_train_ready(net, 1, PICTURES, seed);
    return net;
}

/* Tokens that look at each other, and a class's token in front of them. */
static nsk_train_net *attending_net(uint64_t seed) {
    nsk_train_net *net = nsk_train_net_new(SIZE, SIZE, 3);
    nsk_train_add(net, NSK_TRAIN_CONV, 8, 2, 2);
    nsk_train_add(net, NSK_TRAIN_BIAS, 0, 1, 1);
    nsk_train_add(net, NSK_TRAIN_TOKENS, 0, 1, 1);
    nsk_train_add(net, NSK_TRAIN_CLASS_TOKEN, 0, 1, 1);
    int start = nsk_train_add(net, NSK_TRAIN_POSITION, 0, 1, 1);
    nsk_train_add(net, NSK_TRAIN_LAYER_NORM, 0, 1, 1);
    nsk_train_add(net, NSK_TRAIN_CONV, 24, 1, 1);
    nsk_train_add(net, NSK_TRAIN_BIAS, 0, 1, 1);
    nsk_train_add(net, NSK_TRAIN_ATTENTION, 0, 2, 1);
    nsk_train_add(net, NSK_TRAIN_CONV, 8, 1, 1);
    nsk_train_join(net, NSK_TRAIN_ADD, start);
    nsk_train_add(net, NSK_TRAIN_LAYER_NORM, 0, 1, 1);
    nsk_train_add(net, NSK_TRAIN_FIRST_TOKEN, 0, 1, 1);
    nsk_train_add(net, NSK_TRAIN_DENSE, CLASSES, 1, 1);
    nsk_train_ready(net, 1, PICTURES, seed);
    return net;
}

/* Tokens mixed by products along them; a block on pictures with channels last before. */
static nsk_train_net *mixing_net(uint64_t seed) {
    nsk_train_net *net = nsk_train_net_new(SIZE, SIZE, 3);
    int stem = nsk_train_add(net, NSK_TRAIN_CONV, 6, 3, 2);
    nsk_train_add(net, NSK_TRAIN_DEPTHWISE, 0, 3, 1);
    nsk_train_add(net, NSK_TRAIN_LAYER_NORM, 0, 1, 1);
    nsk_train_add(net, NSK_TRAIN_CONV, 8, 1, 1);
    nsk_train_add(net, NSK_TRAIN_BIAS, 0, 1, 1);
    nsk_train_add(net, NSK_TRAIN_GELU, 0, 1, 1);
    nsk_train_add(net, NSK_TRAIN_CONV, 6, 1, 1);
    nsk_train_join(net, NSK_TRAIN_ADD, stem);
    int start = nsk_train_add(net, NSK_TRAIN_TOKENS, 0, 1, 1);
    nsk_train_add(net, NSK_TRAIN_LAYER_NORM, 0, 1, 1);
    nsk_train_add(net, NSK_TRAIN_TURN, 0, 1, 1);
    nsk_train_add(net, NSK_TRAIN_CONV, 5, 1, 1);
    nsk_train_add(net, NSK_TRAIN_GELU, 0, 1, 1);
    nsk_train_add(net, NSK_TRAIN_CONV, 9, 1, 1);
    nsk_train_add(net, NSK_TRAIN_TURN, 0, 1, 1);
    nsk_train_join(net, NSK_TRAIN_ADD, start);
    nsk_train_add(net, NSK_TRAIN_MEAN_POOL, 0, 1, 1);
    nsk_train_add(net, NSK_TRAIN_DENSE, CLASSES, 1, 1);
    nsk_train_ready(net, 1, PICTURES, seed);
    return net;
}

/* Branches: halves that take turns, two convolutions side by side, a shortcut. */
static nsk_train_net *branching_net(uint64_t seed) {
    nsk_train_net *net = nsk_train_net_new(SIZE, SIZE, 3);
    int whole = nsk_train_add(net, NSK_TRAIN_CONV, 8, 3, 2);
    nsk_train_add(net, NSK_TRAIN_UPPER, 0, 1, 1);
    int made = nsk_train_add(net, NSK_TRAIN_CONV, 4, 1, 1);
    nsk_train_join(net, NSK_TRAIN_LOWER, whole);
    nsk_train_join(net, NSK_TRAIN_CONCAT, made);
    int start = nsk_train_add(net, NSK_TRAIN_SHUFFLE, 0, 1, 1);
    int one = nsk_train_add(net, NSK_TRAIN_CONV, 4, 1, 1);
    nsk_train_join(net, NSK_TRAIN_FROM, start);
    nsk_train_add(net, NSK_TRAIN_CONV, 3, 3, 1);
    nsk_train_join(net, NSK_TRAIN_CONCAT, one);
    nsk_train_add(net, NSK_TRAIN_RELU, 0, 1, 1);
    nsk_train_add(net, NSK_TRAIN_MEAN_POOL, 0, 1, 1);
    nsk_train_add(net, NSK_TRAIN_DENSE, CLASSES, 1, 1);
    nsk_train_ready(net, 1, PICTURES, seed);
    return net;
}

static const int labels[PICTURES] = {0, 1, 2, 1, 0};

static double loss_of(nsk_train_net *net) {
    nsk_train_forward(net, &net->shard[0], true);
    return nsk_train_backward(net, &net->shard[0], labels, 0.1, PICTURES) / PICTURES;
}

/* Central differences of the loss by some numbers of every parameter. */
static void check_gradients(nsk_train_net *net) {
    random_state r = {61};
    nsk_train_shard *shard = &net->shard[0];
    double worst = 0.0;
    shard->pictures = PICTURES;
    for (int i = 0; i < PICTURES * SIZE * SIZE * 3; i++) {
        shard->input[i] = (float)random_normal(&r);
    }
    for (int l = 0; l < net->layers; l++) {
        nsk_parameter *both[2] = {&net->layer[l].weight, &net->layer[l].bias};
        for (int p = 0; p < 2; p++) {
            for (size_t i = 0; i < both[p]->count; i += 1 + both[p]->count / 7) {
                const float step = 4e-3F;
                float kept = both[p]->value[i];
                loss_of(net);
                double gradient = (double)shard->gradients[both[p]->at + i];
                both[p]->value[i] = kept + step;
                double above = loss_of(net);
                both[p]->value[i] = kept - step;
                double below = loss_of(net);
                both[p]->value[i] = kept;
                double slope = (above - below) / (2.0 * (double)step);
                worst = fmax(worst, fabs(slope - gradient) / (0.02 + fabs(slope)));
            }
        }
    }
    CU_ASSERT(worst < 0.05);
    nsk_train_net_free(net);
}

static void gradients_are_the_slopes(void) {
    check_gradients(small_net(5));
    check_gradients(gated_net(8));
    check_gradients(attending_net(10));
    check_gradients(mixing_net(11));
    check_gradients(branching_net(14));
}

static double first_loss;
static double last_loss;

static void keep_loss(const nsk_train_epoch *epoch) {
    first_loss = epoch->epoch == 0 ? epoch->loss : first_loss;
    last_loss = epoch->loss;
}

/* Pictures whose brightest channel is the class: learnt quickly, exported, read back. */
static void learn_and_export(nsk_train_net *net, bool adaptive) {
    enum { COUNT = 150, BYTES = SIZE * SIZE * 3 };
    static uint8_t frames[COUNT * BYTES];
    static int truths[COUNT];
    random_state r = {62};
    for (int i = 0; i < COUNT; i++) {
        truths[i] = i % CLASSES;
        for (int b = 0; b < BYTES; b++) {
            frames[i * BYTES + b] =
                (uint8_t)(random_below(&r, 120) + (b % 3 == truths[i] ? 100 : 0));
        }
    }
    const nsk_train_set set = {COUNT, frames, truths, {0.5F, 0.5F, 0.5F}, {0.25F, 0.25F, 0.25F}};
    const nsk_train_plan plan = {.epochs = 12,
                                 .warm_up = 1,
                                 .rate = adaptive ? 0.01 : 0.05,
                                 .adaptive = adaptive,
                                 .momentum = 0.9,
                                 .most_shift = 1,
                                 .mirror = 1,
                                 .most_gain = 0.05,
                                 .seed = 1};
    nsk_train_fit(net, &set, &plan, keep_loss);
    CU_ASSERT(last_loss < 0.5 * first_loss);
    CU_ASSERT(nsk_train_accuracy(net, &set) > 0.95);

    char *folder = scratch_new();
    char *path = scratch_path(folder, "t.onnx");
    nsk_error error = {.text = ""};
    nsk_input input = {.mean = {0.5, 0.5, 0.5}, .deviation = {0.25, 0.25, 0.25}, .top = 1.0};
    CU_ASSERT(nsk_train_export(net, "test", path, &error));
    nsk_network *network = nsk_network_read(path, &input, NULL, &error);
    assert_error(&error, "");
    CU_ASSERT_PTR_NOT_NULL_FATAL(network);
    int right = 0;
    for (int i = 0; i < COUNT; i++) {
        float p[CLASSES];
        CU_ASSERT(nsk_network_score(network, &input, frames + i * BYTES, p, &error));
        int best = p[1] > p[0] ? 1 : 0;
        best = p[2] > p[best] ? 2 : best;
        right += best == truths[i];
    }
    CU_ASSERT_DOUBLE_EQUAL((double)right / COUNT, nsk_train_accuracy(net, &set), 1e-9);
    nsk_network_free(network);
    nsk_train_net_free(net);
    g_free(path);
    scratch_remove(folder);
}

static void it_learns_and_exports(void) {
    learn_and_export(small_net(6), false);
    learn_and_export(gated_net(9), false);
    learn_and_export(attending_net(12), true);
    learn_and_export(mixing_net(13), true);
    learn_and_export(branching_net(15), false);
}

CU_TestInfo train_tests[] = {
    {"gradients are the slopes", gradients_are_the_slopes},
    {"it learns, and what it exports scores the same", it_learns_and_exports},
    CU_TEST_INFO_NULL,
};
