/* train: trains a network of the kiln line and writes it as ONNX.
 *
 *     train --labels demo/labels.txt --check demo/images/held-out demo/training demo/kiln.onnx
 *
 * There are two designs. `plain` is a chain of depthwise and 1x1 convolutions. `gated` has what
 * chains lack: blocks that widen, weigh their channels by a glance at the whole picture, narrow
 * again and add what they were given; and hard swish. Both can be made narrower, and for smaller
 * pictures.
 */
#include <cblas.h>
#include <glib.h>
#include <stdio.h>
#include <stdlib.h>
#include <string.h>

#include "base/base.h"
#include "brief/labels.h"
#include "netsuke/images.h"
#include "train/export.h"
#include "train/fit.h"

enum { SIZE = 48, SHARDS = 2, SHARD_SIZE = 32 };

/* What a design is made for. */
typedef struct form {
    int classes;
    int size;  /* of a picture: pixels each way */
    int width; /* channels, in hundredths of the design's own */
} form;

/* An even number. */
static int narrowed(const form *f, int channels) {
    return MAX(2, (channels * f->width + 100) / 200 * 2);
}

static void add_block(nsk_train_net *net, nsk_train_kind kind, int channels, int kernel,
                      int stride) {
    nsk_train_add(net, kind, channels, kernel, stride);
    nsk_train_add(net, NSK_TRAIN_BATCH_NORM, 0, 1, 1);
    nsk_train_add(net, NSK_TRAIN_RELU, 0, 1, 1);
}

static nsk_train_net *plain_net(const form *f) {
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

static nsk_train_net *gated_net(const form *f) {
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

static const struct design {
    const char *name, *graph;
    nsk_train_net *(*make)(const form *f);
} designs[] = {{"plain", "kiln", plain_net}, {"gated", "kiln-gated", gated_net}};

static const struct design *design_named(const char *name) {
    for (size_t i = 0; i < G_N_ELEMENTS(designs); i++) {
        if (strcmp(designs[i].name, name) == 0) {
            return &designs[i];
        }
    }
    return NULL;
}

typedef struct loaded {
    nsk_train_set set;
    uint8_t *frames;
    int *labels;
} loaded;

static bool load(const char *folder, const nsk_labels *labels, int size, loaded *to,
                 nsk_error *error) {
    const nsk_input input = {.width = size, .height = size, .deviation = {1, 1, 1}, .top = 1.0};
    nsk_images *images = nsk_images_open(folder, labels, &input, 0, false, error);
    if (images == NULL) {
        return false;
    }
    size_t bytes = nsk_images_frame_bytes(images);
    int count = nsk_images_count(images);
    to->frames = g_malloc(bytes * (size_t)count);
    to->labels = g_new(int, count);
    bool good = true;
    for (int i = 0; i < count && good; i++) {
        good = nsk_images_frame(images, i, to->frames + bytes * (size_t)i, error);
        to->labels[i] = nsk_images_label(images, i);
    }
    to->set =
        (nsk_train_set){count, to->frames, to->labels, {0.5F, 0.5F, 0.5F}, {0.25F, 0.25F, 0.25F}};
    nsk_images_free(images);
    return good;
}

static void clear(loaded *set) {
    g_free(set->frames);
    g_free(set->labels);
}

static void report(const nsk_train_epoch *epoch) {
    fprintf(stderr, "epoch %3d   rate %.4f   loss %.4f   training accuracy %.2f %%\n",
            epoch->epoch + 1, epoch->rate, epoch->loss, 100.0 * epoch->accuracy);
}

static bool check(nsk_train_net *net, const char *folder, const nsk_labels *labels,
                  nsk_error *error) {
    loaded set = {0};
    bool good = load(folder, labels, net->height, &set, error);
    if (good) {
        fprintf(stderr, "%s: %.2f %% of %d pictures right\n", folder,
                100.0 * nsk_train_accuracy(net, &set.set), set.set.count);
    }
    clear(&set);
    return good;
}

static bool train(const struct design *design, form *f, const char *folder, const char *labels_path,
                  const char *check_folder, int epochs, const char *result, nsk_error *error) {
    nsk_labels labels;
    if (!nsk_labels_read(labels_path, &labels, error)) {
        return false;
    }
    loaded set = {0};
    f->classes = labels.count;
    bool good = load(folder, &labels, f->size, &set, error);
    if (good) {
        const nsk_train_plan plan = {.epochs = epochs,
                                     .warm_up = epochs > 1 ? 1 : 0,
                                     .rate = 0.08,
                                     .momentum = 0.9,
                                     .decay = 2e-4,
                                     .smoothing = 0.03,
                                     .most_shift = 2,
                                     .mirror = 1,
                                     .most_gain = 0.12,
                                     .seed = 7};
        nsk_train_net *net = design->make(f);
        nsk_train_ready(net, SHARDS, SHARD_SIZE, 20261124);
        nsk_train_fit(net, &set.set, &plan, report);
        good = check_folder == NULL || check(net, check_folder, &labels, error);
        good = good && nsk_train_export(net, design->graph, result, error);
        nsk_train_net_free(net);
    }
    clear(&set);
    nsk_labels_clear(&labels);
    return good;
}

int main(int argc, char **argv) {
    gint epochs = 36;
    gint size = SIZE;
    gint width = 100;
    char *labels = NULL;
    char *check_folder = NULL;
    char *name = g_strdup("plain");
    const GOptionEntry entries[] = {
        {"epochs", 0, 0, G_OPTION_ARG_INT, &epochs, "Times over the pictures", "N"},
        {"design", 0, 0, G_OPTION_ARG_STRING, &name, "`plain` or `gated`", "NAME"},
        {"size", 0, 0, G_OPTION_ARG_INT, &size, "Pixels each way, 16 to 256", "N"},
        {"width", 0, 0, G_OPTION_ARG_INT, &width, "Channels, in hundredths of the design's", "N"},
        {"labels", 0, 0, G_OPTION_ARG_FILENAME, &labels, "One class a line", "FILE"},
        {"check", 0, 0, G_OPTION_ARG_FILENAME, &check_folder, "Score this folder at the end",
         "DIR"},
        G_OPTION_ENTRY_NULL};
    GOptionContext *context = g_option_context_new("TRAINING-DIR RESULT.onnx");
    g_option_context_add_main_entries(context, entries, NULL);
    GError *reason = NULL;
    bool good = g_option_context_parse(context, &argc, &argv, &reason);
    g_option_context_free(context);
    const struct design *design = design_named(name);
    if (!good || argc != 3 || labels == NULL || epochs < 1 || size < 16 || size > 256 ||
        width < 10 || width > 400 || design == NULL) {
        fprintf(stderr, "train: %s\n",
                !good            ? reason->message
                : design == NULL ? "--design is `plain` or `gated`"
                                 : "give --labels, a training folder and a result");
        return 2;
    }
    form f = {.size = size, .width = width};
    openblas_set_num_threads(1); /* shards are the parallel part */
    nsk_error error;
    good = train(design, &f, argv[1], labels, check_folder, epochs, argv[2], &error);
    if (!good) {
        fprintf(stderr, "train: %s\n", error.text);
    }
    g_free(name);
    g_free(labels);
    g_free(check_folder);
    return good ? 0 : 2;
}
