/* train: trains a network of the kiln line and writes it as ONNX.
 *
 *     train --labels demo/labels.txt --check demo/images/held-out demo/training demo/kiln.onnx
 *
 * designs.c has the designs. Each can be made narrower, and for smaller pictures.
 */
#include <cblas.h>
#include <glib.h>
#include <stdio.h>
#include <stdlib.h>
#include <string.h>

#include "base/base.h"
#include "brief/labels.h"
#include "designs.h"
#include "netsuke/images.h"
#include "train/export.h"

enum { SIZE = 48, SHARDS = 2, SHARD_SIZE = 32 };

typedef struct loaded {
    nsk_train_set set;
    uint8_t *frames;
    int *labels;
} loaded;

/* A bit for each label that the picture has. */
static int bits_of(const nsk_images *images, int index) {
    unsigned bits = 0;
    for (int c = 0; c < nsk_images_labels(images)->count; c++) {
        bits |= (unsigned)nsk_images_has(images, index, c) << c;
    }
    return (int)bits;
}

static bool load(const char *folder, const nsk_labels *labels, int size, bool tolerant, loaded *to,
                 nsk_error *error) {
    const nsk_input input = {.width = size, .height = size, .deviation = {1, 1, 1}, .top = 1.0};
    nsk_images *images = nsk_images_open(folder, labels, &input, 0, tolerant, error);
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
        to->labels[i] =
            labels->thresholds != NULL ? bits_of(images, i) : nsk_images_label(images, i);
    }
    to->set =
        (nsk_train_set){count, to->frames, to->labels, {0.5F, 0.5F, 0.5F}, {0.25F, 0.25F, 0.25F}};
    nsk_images_free(images);
    return good;
}

/* Behind what is there, each picture so many times. */
static void add(loaded *to, const loaded *more, int times, size_t frame) {
    const size_t had = (size_t)to->set.count;
    const size_t each = (size_t)more->set.count;
    const size_t all = had + each * (size_t)times;
    to->frames = g_realloc(to->frames, all * frame);
    to->labels = g_renew(int, to->labels, all);
    for (size_t at = had; at < all; at += each) {
        memcpy(to->frames + at * frame, more->frames, each * frame);
        memcpy(to->labels + at, more->labels, each * sizeof *to->labels);
    }
    to->set.frames = to->frames;
    to->set.labels = to->labels;
    to->set.count = (int)all;
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
    bool good = load(folder, labels, net->height, false, &set, error);
    if (good) {
        fprintf(stderr, "%s: %.2f %% of %d pictures right\n", folder,
                100.0 * nsk_train_accuracy(net, &set.set), set.set.count);
    }
    clear(&set);
    return good;
}

/* What it is trained on. */
typedef struct lesson {
    char *folder, *labels;
    char *more;  /* further pictures, some classes of which may be missing; or NULL */
    int times;   /* that each of those counts */
    char *check; /* scored at the end, or NULL */
    int epochs;
} lesson;

static bool load_all(const lesson *of, const nsk_labels *labels, int size, loaded *set,
                     nsk_error *error) {
    loaded more = {0};
    bool good = load(of->folder, labels, size, false, set, error) &&
                (of->more == NULL || load(of->more, labels, size, true, &more, error));
    if (good && of->more != NULL) {
        add(set, &more, of->times, (size_t)3 * (size_t)size * (size_t)size);
    }
    clear(&more);
    return good;
}

static bool train(const design *made, design_form *f, const lesson *of, const char *result,
                  nsk_error *error) {
    nsk_labels labels;
    if (!nsk_labels_read(of->labels, &labels, error)) {
        return false;
    }
    if (f->several) { /* any threshold says that there may be several */
        labels.thresholds = g_new0(double, labels.count);
    }
    loaded set = {0};
    f->classes = labels.count;
    bool good = load_all(of, &labels, f->size, &set, error);
    if (good) {
        const nsk_train_plan plan = {.epochs = of->epochs,
                                     .warm_up = of->epochs > 1 ? 1 : 0,
                                     .rate = f->rate > 0.0 ? f->rate : made->rate,
                                     .momentum = 0.9,
                                     .decay = made->decay,
                                     .adaptive = made->adaptive,
                                     .smoothing = 0.03,
                                     .most_shift = 2,
                                     .mirror = 1,
                                     .most_gain = 0.12,
                                     .seed = 7};
        nsk_train_net *net = made->make(f);
        net->several = f->several;
        nsk_train_ready(net, SHARDS, SHARD_SIZE, 20261124);
        nsk_train_fit(net, &set.set, &plan, report);
        good = of->check == NULL || check(net, of->check, &labels, error);
        good = good && nsk_train_export(net, made->graph, result, error);
        nsk_train_net_free(net);
    }
    clear(&set);
    nsk_labels_clear(&labels);
    return good;
}

int main(int argc, char **argv) {
    gint size = SIZE;
    gint width = 100;
    gdouble rate = 0.0;
    gboolean several = FALSE;
    lesson of = {.times = 1, .epochs = 36};
    char *name = g_strdup("plain");
    const GOptionEntry entries[] = {
        {"epochs", 0, 0, G_OPTION_ARG_INT, &of.epochs, "Times over the pictures", "N"},
        {"design", 0, 0, G_OPTION_ARG_STRING, &name, "What kind of network", "NAME"},
        {"size", 0, 0, G_OPTION_ARG_INT, &size, "Pixels each way, 16 to 256", "N"},
        {"width", 0, 0, G_OPTION_ARG_INT, &width, "Channels, in hundredths of the design's", "N"},
        {"rate", 0, 0, G_OPTION_ARG_DOUBLE, &rate, "The highest; else the design's own", "R"},
        {"several", 0, 0, G_OPTION_ARG_NONE, &several, "A picture may have several labels", NULL},
        {"labels", 0, 0, G_OPTION_ARG_FILENAME, &of.labels, "One class a line", "FILE"},
        {"more", 0, 0, G_OPTION_ARG_FILENAME, &of.more, "Further pictures", "DIR"},
        {"times", 0, 0, G_OPTION_ARG_INT, &of.times, "Each of which counts so often", "N"},
        {"check", 0, 0, G_OPTION_ARG_FILENAME, &of.check, "Score this folder at the end", "DIR"},
        G_OPTION_ENTRY_NULL};
    GOptionContext *context = g_option_context_new("TRAINING-DIR RESULT.onnx");
    g_option_context_add_main_entries(context, entries, NULL);
    GError *reason = NULL;
    bool good = g_option_context_parse(context, &argc, &argv, &reason);
    g_option_context_free(context);
    const design *made = design_named(name);
    if (!good || argc != 3 || of.labels == NULL || of.epochs < 1 || of.times < 1 ||
        of.times > 100 || size < 16 || size > 256 || width < 10 || width > 400 || made == NULL) {
        if (good && made == NULL) {
            fprintf(stderr, "train: --design is one of %s\n", design_names());
            return 2;
        }
        fprintf(stderr, "train: %s\n",
                good ? "give --labels, a training folder and a result" : reason->message);
        return 2;
    }
    design_form f = {.size = size, .width = width, .rate = rate, .several = several != FALSE};
    openblas_set_num_threads(1); /* shards are the parallel part */
    nsk_error error;
    of.folder = argv[1];
    good = train(made, &f, &of, argv[2], &error);
    if (!good) {
        fprintf(stderr, "train: %s\n", error.text);
    }
    g_free(name);
    g_free(of.labels);
    g_free(of.more);
    g_free(of.check);
    return good ? 0 : 2;
}
