/* Each design makes a network for pictures of some size, some classes, as wide as is wanted.
 *
 * - plain: a chain of depthwise and 1x1 convolutions.
 * - gated: blocks that widen, weigh their channels by a glance at the whole picture, narrow again
 *   and add what they were given; and hard swish.
 * - residual: twenty layers, each two added to what they were given.
 * - concatenating: each convolution stands beside all that came before.
 * - shuffling: half of the channels at a time, which take turns.
 * - fire: few channels, which two convolutions side by side make many of.
 * - large: convolutions, then 7x7 depthwise ones with layer normalisation and Gelu, added.
 * - transformer: convolutions, then attention of what they leave, a class's token in front of it.
 * - mixer: convolutions, then products along the tokens that they leave, and along channels.
 */
#include "designs.h"

#include <glib.h>
#include <string.h>

/* An even number. */
static int narrowed(const design_form *f, int channels) {
    return MAX(2, (channels * f->width + 100) / 200 * 2);
}

static void add_block(nsk_train_net *net, nsk_train_kind kind, int channels, int kernel,
                      int stride) {
    nsk_train_add(net, kind, channels, kernel, stride);
    nsk_train_add(net, NSK_TRAIN_BATCH_NORM, 0, 1, 1);
    nsk_train_add(net, NSK_TRAIN_RELU, 0, 1, 1);
}

static nsk_train_net *plain_net(const design_form *f) {
    static const struct {
        int channels, stride;
    } pairs[] = {{32, 1}, {64, 2}, {64, 1}, {128, 2}, {128, 1}};
    nsk_train_net *net = nsk_train_net_new(f->size, f->size, 3);
    add_block(net, NSK_TRAIN_CONV, narrowed(f, 16), 3, 2);
    for (size_t i = 0; i < G_N_ELEMENTS(pairs); i++) {
        add_block(net, NSK_TRAIN_DEPTHWISE, 0, 3, pairs[i].stride);
        add_block(net, NSK_TRAIN_CONV, narrowed(f, pairs[i].channels), 1, 1);
    }
    nsk_train_add(net, NSK_TRAIN_MEAN_POOL, 0, 1, 1);
    nsk_train_add(net, NSK_TRAIN_DENSE, f->classes, 1, 1);
    return net;
}

/* A 1x1 convolution to `wide` channels, a depthwise one, channels weighed, a 1x1 one to `channels`;
 * the block's input added where it has that size. */
static void add_gated_block(nsk_train_net *net, int wide, int channels, int stride) {
    const nsk_train_layer before = net->layer[net->layers - 1];
    int start = net->layers - 1;
    nsk_train_add(net, NSK_TRAIN_CONV, wide, 1, 1);
    nsk_train_add(net, NSK_TRAIN_BATCH_NORM, 0, 1, 1);
    nsk_train_add(net, NSK_TRAIN_HARD_SWISH, 0, 1, 1);
    nsk_train_add(net, NSK_TRAIN_DEPTHWISE, 0, 3, stride);
    nsk_train_add(net, NSK_TRAIN_BATCH_NORM, 0, 1, 1);
    int picture = nsk_train_add(net, NSK_TRAIN_HARD_SWISH, 0, 1, 1);
    nsk_train_add(net, NSK_TRAIN_MEAN_POOL, 0, 1, 1);
    nsk_train_add(net, NSK_TRAIN_DENSE, wide / 4, 1, 1);
    nsk_train_add(net, NSK_TRAIN_RELU, 0, 1, 1);
    nsk_train_add(net, NSK_TRAIN_DENSE, wide, 1, 1);
    nsk_train_add(net, NSK_TRAIN_HARD_SIGMOID, 0, 1, 1);
    nsk_train_join(net, NSK_TRAIN_SCALE, picture);
    nsk_train_add(net, NSK_TRAIN_CONV, channels, 1, 1);
    nsk_train_add(net, NSK_TRAIN_BATCH_NORM, 0, 1, 1);
    if (stride == 1 && before.channels == channels) {
        nsk_train_join(net, NSK_TRAIN_ADD, start);
    }
}

static nsk_train_net *gated_net(const design_form *f) {
    static const struct {
        int wide, channels, stride;
    } blocks[] = {{32, 16, 1}, {48, 24, 2}, {72, 24, 1}, {96, 40, 2}, {120, 40, 1}};
    nsk_train_net *net = nsk_train_net_new(f->size, f->size, 3);
    nsk_train_add(net, NSK_TRAIN_CONV, narrowed(f, 16), 3, 2);
    nsk_train_add(net, NSK_TRAIN_BATCH_NORM, 0, 1, 1);
    nsk_train_add(net, NSK_TRAIN_HARD_SWISH, 0, 1, 1);
    for (size_t i = 0; i < G_N_ELEMENTS(blocks); i++) {
        add_gated_block(net, narrowed(f, blocks[i].wide), narrowed(f, blocks[i].channels),
                        blocks[i].stride);
    }
    nsk_train_add(net, NSK_TRAIN_CONV, narrowed(f, 128), 1, 1);
    nsk_train_add(net, NSK_TRAIN_BATCH_NORM, 0, 1, 1);
    nsk_train_add(net, NSK_TRAIN_HARD_SWISH, 0, 1, 1);
    nsk_train_add(net, NSK_TRAIN_MEAN_POOL, 0, 1, 1);
    nsk_train_add(net, NSK_TRAIN_DENSE, f->classes, 1, 1);
    return net;
}

/* ---- branches ---- */

static int last_layer(const nsk_train_net *net) {
    return net->layers - 1;
}

static void add_head(nsk_train_net *net, const design_form *f) {
    nsk_train_add(net, NSK_TRAIN_MEAN_POOL, 0, 1, 1);
    nsk_train_add(net, NSK_TRAIN_DENSE, f->classes, 1, 1);
}

static void add_norm_conv(nsk_train_net *net, int channels, int kernel, int stride) {
    nsk_train_add(net, NSK_TRAIN_CONV, channels, kernel, stride);
    nsk_train_add(net, NSK_TRAIN_BATCH_NORM, 0, 1, 1);
}

/* Twenty layers: a 3x3 convolution, nine blocks of two, a dense one. Where a block halves the
 * picture, what it is added to is brought there by a 1x1 convolution. */
static nsk_train_net *residual_net(const design_form *f) {
    static const int widths[] = {8, 16, 32};
    nsk_train_net *net = nsk_train_net_new(f->size, f->size, 3);
    add_block(net, NSK_TRAIN_CONV, narrowed(f, widths[0]), 3, 2);
    for (int k = 0; k < 9; k++) {
        const int channels = narrowed(f, widths[k / 3]);
        const int stride = k > 0 && k % 3 == 0 ? 2 : 1;
        int start = last_layer(net);
        if (stride == 2) {
            add_norm_conv(net, channels, 1, 2);
            const int brought = last_layer(net);
            nsk_train_join(net, NSK_TRAIN_FROM, start);
            start = brought;
        }
        add_block(net, NSK_TRAIN_CONV, channels, 3, stride);
        add_norm_conv(net, channels, 3, 1);
        nsk_train_join(net, NSK_TRAIN_ADD, start);
        nsk_train_add(net, NSK_TRAIN_RELU, 0, 1, 1);
    }
    add_head(net, f);
    return net;
}

/* Each block's convolution stands beside all that came before. */
static nsk_train_net *concatenating_net(const design_form *f) {
    enum { STAGES = 3, BLOCKS = 4 };
    nsk_train_net *net = nsk_train_net_new(f->size, f->size, 3);
    add_block(net, NSK_TRAIN_CONV, narrowed(f, 16), 3, 2);
    for (int stage = 0; stage < STAGES; stage++) {
        for (int k = 0; k < BLOCKS; k++) {
            const int before = last_layer(net);
            add_block(net, NSK_TRAIN_CONV, narrowed(f, 16), 1, 1);
            add_block(net, NSK_TRAIN_CONV, narrowed(f, 8), 3, 1);
            nsk_train_join(net, NSK_TRAIN_CONCAT, before);
        }
        add_block(net, NSK_TRAIN_CONV, narrowed(f, 32 + 16 * stage), 1, 1);
        if (stage + 1 < STAGES) {
            add_block(net, NSK_TRAIN_DEPTHWISE, 0, 3, 2);
        }
    }
    add_head(net, f);
    return net;
}

/* Half of the channels goes through a block, and both halves take turns behind it. */
static nsk_train_net *shuffling_net(const design_form *f) {
    static const int widths[] = {24, 48, 96};
    nsk_train_net *net = nsk_train_net_new(f->size, f->size, 3);
    add_block(net, NSK_TRAIN_CONV, narrowed(f, widths[0]) / 2 * 2, 3, 2);
    for (int k = 0; k < 9; k++) {
        if (k > 0 && k % 3 == 0) {
            add_block(net, NSK_TRAIN_DEPTHWISE, 0, 3, 2);
            add_block(net, NSK_TRAIN_CONV, narrowed(f, widths[k / 3]) / 2 * 2, 1, 1);
        }
        const int whole = last_layer(net);
        const int half = net->layer[whole].channels / 2;
        nsk_train_add(net, NSK_TRAIN_UPPER, 0, 1, 1);
        add_block(net, NSK_TRAIN_CONV, half, 1, 1);
        nsk_train_add(net, NSK_TRAIN_DEPTHWISE, 0, 3, 1);
        nsk_train_add(net, NSK_TRAIN_BATCH_NORM, 0, 1, 1);
        add_block(net, NSK_TRAIN_CONV, half, 1, 1);
        const int made = last_layer(net);
        nsk_train_join(net, NSK_TRAIN_LOWER, whole);
        nsk_train_join(net, NSK_TRAIN_CONCAT, made);
        nsk_train_add(net, NSK_TRAIN_SHUFFLE, 0, 1, 1);
    }
    add_head(net, f);
    return net;
}

/* Fire modules: few channels, which two convolutions, 1x1 and 3x3, make many of side by side. */
static nsk_train_net *fire_net(const design_form *f) {
    static const struct {
        int few, many, stride;
    } modules[] = {{8, 16, 1}, {8, 16, 1}, {16, 32, 2}, {16, 32, 1}, {24, 48, 2}, {24, 48, 1}};
    nsk_train_net *net = nsk_train_net_new(f->size, f->size, 3);
    add_block(net, NSK_TRAIN_CONV, narrowed(f, 24), 3, 2);
    for (size_t i = 0; i < G_N_ELEMENTS(modules); i++) {
        add_block(net, NSK_TRAIN_CONV, narrowed(f, modules[i].few), modules[i].stride == 2 ? 3 : 1,
                  modules[i].stride);
        const int few = last_layer(net);
        add_block(net, NSK_TRAIN_CONV, narrowed(f, modules[i].many), 1, 1);
        const int one = last_layer(net);
        nsk_train_join(net, NSK_TRAIN_FROM, few);
        add_block(net, NSK_TRAIN_CONV, narrowed(f, modules[i].many), 3, 1);
        nsk_train_join(net, NSK_TRAIN_CONCAT, one);
    }
    add_head(net, f);
    return net;
}

/* ---- today's ---- */

/* A product, and a number for each of its channels. */
static void add_linear(nsk_train_net *net, int channels) {
    nsk_train_add(net, NSK_TRAIN_CONV, channels, 1, 1);
    nsk_train_add(net, NSK_TRAIN_BIAS, 0, 1, 1);
}

/* Two products of what is normalised, wide between, back to as many channels. */
static void add_two(nsk_train_net *net, int wide) {
    const int channels = net->layer[last_layer(net)].channels;
    add_linear(net, wide);
    nsk_train_add(net, NSK_TRAIN_GELU, 0, 1, 1);
    add_linear(net, channels);
}

/* What convolutions leave of 48 x 48 pixels: 12 x 12 of them. */
static nsk_train_net *stem(const design_form *f, int channels) {
    nsk_train_net *net = nsk_train_net_new(f->size, f->size, 3);
    add_block(net, NSK_TRAIN_CONV, narrowed(f, 16), 3, 2);
    add_block(net, NSK_TRAIN_DEPTHWISE, 0, 3, 1);
    add_block(net, NSK_TRAIN_CONV, narrowed(f, 32), 1, 1);
    add_block(net, NSK_TRAIN_DEPTHWISE, 0, 3, 2);
    add_block(net, NSK_TRAIN_CONV, channels, 1, 1);
    return net;
}

static nsk_train_net *large_net(const design_form *f) {
    static const int blocks[] = {1, 2};
    nsk_train_net *net = stem(f, narrowed(f, 48));
    for (size_t s = 0; s < G_N_ELEMENTS(blocks); s++) {
        if (s > 0) {
            nsk_train_add(net, NSK_TRAIN_LAYER_NORM, 0, 1, 1);
            nsk_train_add(net, NSK_TRAIN_CONV, narrowed(f, 64), 2, 2);
            nsk_train_add(net, NSK_TRAIN_BIAS, 0, 1, 1);
        }
        for (int k = 0; k < blocks[s]; k++) {
            const int start = last_layer(net);
            nsk_train_add(net, NSK_TRAIN_DEPTHWISE, 0, 7, 1);
            nsk_train_add(net, NSK_TRAIN_BIAS, 0, 1, 1);
            nsk_train_add(net, NSK_TRAIN_LAYER_NORM, 0, 1, 1);
            add_two(net, 3 * net->layer[start].channels);
            nsk_train_join(net, NSK_TRAIN_ADD, start);
        }
    }
    nsk_train_add(net, NSK_TRAIN_MEAN_POOL, 0, 1, 1);
    nsk_train_add(net, NSK_TRAIN_LAYER_NORM, 0, 1, 1);
    nsk_train_add(net, NSK_TRAIN_DENSE, f->classes, 1, 1);
    return net;
}

/* 6 x 6 tokens of it. */
static nsk_train_net *tokens(const design_form *f, int channels) {
    nsk_train_net *net = stem(f, channels);
    nsk_train_add(net, NSK_TRAIN_DEPTHWISE, 0, 3, 2);
    nsk_train_add(net, NSK_TRAIN_BATCH_NORM, 0, 1, 1);
    add_linear(net, channels);
    nsk_train_add(net, NSK_TRAIN_TOKENS, 0, 1, 1);
    return net;
}

static nsk_train_net *transformer_net(const design_form *f) {
    enum { BLOCKS = 3, HEADS = 4 };
    const int channels = narrowed(f, 64) / (2 * HEADS) * (2 * HEADS);
    nsk_train_net *net = tokens(f, channels);
    nsk_train_add(net, NSK_TRAIN_CLASS_TOKEN, 0, 1, 1);
    nsk_train_add(net, NSK_TRAIN_POSITION, 0, 1, 1);
    for (int k = 0; k < BLOCKS; k++) {
        int start = last_layer(net);
        nsk_train_add(net, NSK_TRAIN_LAYER_NORM, 0, 1, 1);
        add_linear(net, 3 * channels);
        nsk_train_add(net, NSK_TRAIN_ATTENTION, 0, HEADS, 1);
        add_linear(net, channels);
        start = nsk_train_join(net, NSK_TRAIN_ADD, start);
        nsk_train_add(net, NSK_TRAIN_LAYER_NORM, 0, 1, 1);
        add_two(net, 2 * channels);
        nsk_train_join(net, NSK_TRAIN_ADD, start);
    }
    nsk_train_add(net, NSK_TRAIN_LAYER_NORM, 0, 1, 1);
    nsk_train_add(net, NSK_TRAIN_FIRST_TOKEN, 0, 1, 1);
    nsk_train_add(net, NSK_TRAIN_DENSE, f->classes, 1, 1);
    return net;
}

static nsk_train_net *mixer_net(const design_form *f) {
    enum { BLOCKS = 3 };
    const int channels = narrowed(f, 64);
    nsk_train_net *net = tokens(f, channels);
    for (int k = 0; k < BLOCKS; k++) {
        int start = last_layer(net);
        nsk_train_add(net, NSK_TRAIN_LAYER_NORM, 0, 1, 1);
        nsk_train_add(net, NSK_TRAIN_TURN, 0, 1, 1);
        add_two(net, 64);
        nsk_train_add(net, NSK_TRAIN_TURN, 0, 1, 1);
        start = nsk_train_join(net, NSK_TRAIN_ADD, start);
        nsk_train_add(net, NSK_TRAIN_LAYER_NORM, 0, 1, 1);
        add_two(net, 2 * channels);
        nsk_train_join(net, NSK_TRAIN_ADD, start);
    }
    nsk_train_add(net, NSK_TRAIN_LAYER_NORM, 0, 1, 1);
    nsk_train_add(net, NSK_TRAIN_MEAN_POOL, 0, 1, 1);
    nsk_train_add(net, NSK_TRAIN_DENSE, f->classes, 1, 1);
    return net;
}

static const design designs[] = {
    {"plain", "kiln", plain_net, 0.08, 2e-4, false},
    {"gated", "kiln-gated", gated_net, 0.08, 2e-4, false},
    {"residual", "kiln-residual", residual_net, 0.08, 2e-4, false},
    {"concatenating", "kiln-concatenating", concatenating_net, 0.08, 2e-4, false},
    {"shuffling", "kiln-shuffling", shuffling_net, 0.08, 2e-4, false},
    {"fire", "kiln-fire", fire_net, 0.08, 2e-4, false},
    {"large", "kiln-large", large_net, 4e-3, 0.02, true},
    {"transformer", "kiln-transformer", transformer_net, 4e-3, 0.02, true},
    {"mixer", "kiln-mixer", mixer_net, 4e-3, 0.02, true},
};

const char *design_names(void) {
    return "plain, gated, residual, concatenating, shuffling, fire, large, transformer, mixer";
}

const design *design_named(const char *name) {
    for (size_t i = 0; i < G_N_ELEMENTS(designs); i++) {
        if (strcmp(designs[i].name, name) == 0) {
            return &designs[i];
        }
    }
    return NULL;
}
