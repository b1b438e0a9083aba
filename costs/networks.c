#include "networks.h"

#include <math.h>
#include <stdlib.h>
#include <string.h>

#include "base/random.h"
#include "grid.h"

const cost_network cost_networks[] = {
    {"tiny chain", "16x1 c3/1:8 m2/2 c3/1:16 m2/2 f:10 f:2 s"},
    {"digits", "28x1 c5/1:6 m2/2 c5/1:16 m2/2 f:120 f:84 f:2 s"},
    {"wide chain", "32x3 c3/1:32 c3/1:32 m2/2 c3/1:64 c3/1:64 m2/2 c3/1:96 g f:2 s"},
    {"five by five", "32x3 c5/1:32 m3/2 c5/1:32 a3/2 c5/1:64 a3/2 f:64 f:2 s"},
    {"separable 64", "64x3 c3/2:8 d3/1 c1/1:16 d3/2 c1/1:32 d3/1 c1/1:32 d3/2 c1/1:64 d3/1 c1/1:64 "
                     "d3/2 c1/1:128 d3/1 c1/1:128 g f:2 s"},
    {"separable 96", "96x1 c3/2:8 d3/1 c1/1:16 d3/2 c1/1:32 d3/1 c1/1:32 d3/2 c1/1:64 d3/1 c1/1:64 "
                     "d3/2 c1/1:128 d3/1 c1/1:128 d3/1 c1/1:128 d3/2 c1/1:256 g f:2 s"},
    {"narrow separable", "40x3 c3/2:6 d3/1 c1/1:10 d3/2 c1/1:18 d3/1 c1/1:18 d3/2 c1/1:30 g f:2 s"},
    {"sums", "32x3 c3/1:16 c3/1:16 c3/1:16 +2 c3/2:32 c3/1:32 c3/1:32 +2 c3/2:64 c3/1:64 c3/1:64 "
             "+2 g f:2 s"},
    {"bottlenecks", "48x3 c3/2:16 c1/1:48 d3/1 c1/1:16 +3 c1/1:96 d3/2 c1/1:24 c1/1:144 d3/1 "
                    "c1/1:24 +3 c1/1:144 d5/2 c1/1:40 g f:2 s"},
    {"swished", "32x3 c3/2:16 t d3/1 t c1/1:24 d5/2 t c1/1:40 t d5/1 t c1/1:40 g f:64 t f:2 s"},
    {"pointwise deep",
     "16x3 c3/1:24 c1/1:64 c1/1:64 c1/1:64 m2/2 c1/1:128 c1/1:128 c1/1:96 g f:2 s"},
    {"odd sizes", "37x3 c3/2:13 d3/1 c1/1:27 d5/2 c1/1:45 c3/1:31 a2/2 f:19 f:2 s"},
    {"dense only", "12x3 f:96 f:64 f:32 f:2 s"},
    {"big windows", "30x3 c7/2:20 d7/1 c1/1:40 d7/2 c1/1:56 g f:2 s"},
};
const int cost_network_count = G_N_ELEMENTS(cost_networks);

enum { MOST_LAYERS = 64 };

static const struct {
    char letter;
    nsk_kind kind;
} letters[] = {{'c', NSK_KIND_CONV},         {'d', NSK_KIND_DEPTHWISE},    {'m', NSK_KIND_MAX_POOL},
               {'a', NSK_KIND_AVERAGE_POOL}, {'g', NSK_KIND_AVERAGE_POOL}, {'f', NSK_KIND_DENSE},
               {'t', NSK_KIND_LUT},          {'+', NSK_KIND_ADD},          {'s', NSK_KIND_SCORES}};

static nsk_kind kind_of(char letter) {
    for (size_t i = 0; i < G_N_ELEMENTS(letters); i++) {
        if (letters[i].letter == letter) {
            return letters[i].kind;
        }
    }
    return NSK_KINDS;
}

/* Reads "3/2:16" behind the letter. */
static grid_shape shape_of(const char *word, const nsk_lowered_tensor *in) {
    grid_shape s = {kind_of(*word), in->height, in->channels, in->channels, 1, 1};
    char *rest = (char *)word + 1;
    if (*word == 'g') {
        s.kernel = in->height;
    } else if (*word != '+' && *rest >= '0' && *rest <= '9') {
        s.kernel = (int)strtol(rest, &rest, 10);
    }
    if (*rest == '/') {
        s.stride = (int)strtol(rest + 1, &rest, 10);
    }
    if (*rest == ':') {
        s.channels = (int)strtol(rest + 1, &rest, 10);
    }
    return s;
}

/* `outputs` holds the tensor that each layer so far has written. */
static void add_word(nsk_lowered *net, const char *word, int *outputs, int layer, random_state *r) {
    const grid_shape shape = shape_of(word, nsk_lowered_tensor_at(net, outputs[layer]));
    grid_add_layer(net, &shape, word, r);
    outputs[layer + 1] = (int)net->tensors->len - 1;
    if (*word == '+') {
        int back = (int)strtol(word + 1, NULL, 10);
        nsk_lowered_layer_at(net, layer)->second = outputs[layer - back];
    }
}

nsk_model_file *cost_network_model(const cost_network *network, nsk_error *error) {
    random_state r = {99};
    nsk_lowered net;
    int outputs[MOST_LAYERS + 1] = {0};
    char **words = g_strsplit(network->layers, " ", MOST_LAYERS);
    char *rest;
    int size = (int)strtol(words[0], &rest, 10);
    grid_begin(&net, size, (int)strtol(rest + 1, NULL, 10));
    for (int i = 0; words[i + 1] != NULL; i++) {
        add_word(&net, words[i + 1], outputs, i, &r);
    }
    nsk_model_file *file = grid_finish(&net, 0, false, error);
    g_strfreev(words);
    return file;
}
