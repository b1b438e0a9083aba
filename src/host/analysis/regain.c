#include "analysis/regain.h"

#include <math.h>
#include <string.h>

#include "float/forward.h"
#include "lowered/integer.h"
#include "network/network.h"
#include "pipeline/pipeline.h"
#include "run/runner.h"
#include "run/said.h"

/* One way of running: through the float network, whose answers are kept, or through the imitation,
 * one node's output perhaps left as it is. */
typedef struct way {
    const nsk_network *network;
    int whole;   /* value that is not rounded, or NSK_NONE */
    float *said; /* [image][class]: the float network's */
    nsk_regained *result;
} way;

static bool is_rounded(const nsk_value *v) {
    return v->pinned || v->pinned_wide;
}

static void round_value(const void *context, int value, float *numbers, size_t count) {
    const way *w = context;
    const nsk_value *v = nsk_graph_value(w->network->graph, value);
    const nsk_scale s = {v->pinned_scale, v->pinned_zero};
    if (v->pinned && v->fine && value != w->whole) {
        nsk_round_to_wide_levels(numbers, count, nsk_fine_scale(s));
    } else if (v->pinned && value != w->whole) {
        nsk_round_to_levels(numbers, count, s);
    } else if (v->pinned_wide && value != w->whole) {
        nsk_round_to_wide_levels(numbers, count, s);
    }
}

static void judge(const way *w, const nsk_runner *r, int image, const float *said) {
    int classes = nsk_network_classes(w->network);
    const float *wanted = w->said + (size_t)image * (size_t)classes;
    double apart = 0.0;
    double odds = nsk_odds_apart(wanted, said, classes);
    for (int c = 0; c < classes; c++) {
        apart += 0.5 * fabs((double)said[c] - (double)wanted[c]);
    }
#pragma omp critical(nsk_regain_count)
    {
        w->result->right += nsk_is_right(r->images, image, said);
        w->result->agree += nsk_say_the_same(nsk_images_labels(r->images), said, wanted);
        w->result->apart += llround(apart * NSK_REGAIN_APART); /* integers: in whatever order */
        w->result->odds += llround(odds * odds * NSK_REGAIN_APART);
    }
}

static bool run_float(const nsk_runner *r, int image, void *context, nsk_error *error) {
    const way *w = context;
    size_t classes = (size_t)nsk_network_classes(w->network);
    const float *said = nsk_runner_float(r);
    (void)error;
    memcpy(w->said + (size_t)image * classes, said, classes * sizeof *said);
    judge(w, r, image, said);
    return true;
}

static bool run_rounded(const nsk_runner *r, int image, void *context, nsk_error *error) {
    const way *w = context;
    (void)error;
    nsk_float_prepare(w->network->graph, nsk_images_input(r->images), r->frame,
                      nsk_pass_input(r->pass));
    nsk_pass_run_changed(r->pass, round_value, w);
    judge(w, r, image, nsk_pass_value(r->pass, w->network->graph->output));
    return true;
}

static const nsk_node *node_named(const nsk_graph *graph, const char *name) {
    for (int i = 0; i < (int)graph->nodes->len; i++) {
        const nsk_node *node = nsk_graph_node(graph, i);
        if (!node->dead && strcmp(node->name, name) == 0) {
            return node;
        }
    }
    return NULL;
}

/* Swaps the constants that two nodes of one name read, where they are of one size. */
static void swap_constants(const nsk_graph *graph, const nsk_node *node, const nsk_graph *others,
                           const nsk_node *other) {
    for (int k = 1; k < MIN(node->inputs, other->inputs); k++) {
        if (node->input[k] == NSK_NONE || other->input[k] == NSK_NONE) {
            continue;
        }
        nsk_value *a = nsk_graph_value(graph, node->input[k]);
        nsk_value *b = nsk_graph_value(others, other->input[k]);
        if (a->data != NULL && b->data != NULL && nsk_value_count(a) == nsk_value_count(b)) {
            float *kept = a->data;
            a->data = b->data;
            b->data = kept;
        }
    }
}

static int by_gain(const void *a, const void *b) {
    const nsk_regained *x = a;
    const nsk_regained *y = b;
    return x->right != y->right   ? y->right - x->right
           : x->apart != y->apart ? (x->apart > y->apart) - (x->apart < y->apart)
                                  : 0;
}

nsk_regain *nsk_regain_of(const nsk_network *network, const nsk_network *rounded,
                          const nsk_images *images, nsk_progress progress, void *context,
                          nsk_error *error) {
    const nsk_graph *graph = rounded->graph;
    nsk_regain *r = g_new0(nsk_regain, 1);
    int count = (int)graph->nodes->len;
    r->images = nsk_images_count(images);
    r->layer = g_new0(nsk_regained, count);
    float *said = g_new0(float, (gsize)r->images *(gsize)nsk_network_classes(network));
    way exact = {network, NSK_NONE, said, &r->exact};
    way w = {rounded, NSK_NONE, said, &r->rounded};
    bool good = nsk_run_images(network, NULL, NULL, images, run_float, &exact, NULL, NULL, error) &&
                nsk_run_images(rounded, NULL, NULL, images, run_rounded, &w, NULL, NULL, error);
    for (int i = 0; i < count && good; i++) {
        const nsk_node *node = nsk_graph_node(graph, i);
        const nsk_node *other = node->dead ? NULL : node_named(network->graph, node->name);
        if (other != NULL && is_rounded(nsk_graph_value(graph, node->output))) {
            w.result = &r->layer[r->layers++];
            w.result->name = g_strdup(node->name);
            w.whole = node->output;
            swap_constants(graph, node, network->graph, other);
            good = nsk_run_images(rounded, NULL, NULL, images, run_rounded, &w, NULL, NULL, error);
            swap_constants(graph, node, network->graph, other);
        }
        if (progress != NULL) {
            progress(context, i + 1, count);
        }
    }
    g_free(said);
    if (!good) {
        nsk_regain_free(r);
        return NULL;
    }
    qsort(r->layer, (size_t)r->layers, sizeof *r->layer, by_gain);
    return r;
}

nsk_regain *nsk_regain_measure(const nsk_network *network, const nsk_images *calibration,
                               const nsk_recipe *recipe, const nsk_images *images,
                               nsk_progress progress, void *context, nsk_error *error) {
    nsk_network *equalised =
        recipe->equalise ? nsk_network_equalised(network, calibration, error) : NULL;
    nsk_network *rounded = recipe->equalise && equalised == NULL
                               ? NULL
                               : nsk_network_rounded(network, calibration, recipe, error);
    nsk_regain *r = rounded != NULL ? nsk_regain_of(equalised != NULL ? equalised : network,
                                                    rounded, images, progress, context, error)
                                    : NULL;
    nsk_network_free(equalised);
    nsk_network_free(rounded);
    return r;
}

double nsk_regain_closer(const nsk_regain *r, const nsk_regained *layer) {
    double all = fmax((double)r->rounded.apart, 1.0);
    return 100.0 * ((double)r->rounded.apart - (double)layer->apart) / all;
}

double nsk_regain_quieter(const nsk_regain *r, const nsk_regained *layer) {
    double all = fmax((double)r->rounded.odds, 1.0);
    return 100.0 * ((double)r->rounded.odds - (double)layer->odds) / all;
}

void nsk_regain_free(nsk_regain *regain) {
    if (regain != NULL) {
        for (int i = 0; i < regain->layers; i++) {
            g_free(regain->layer[i].name);
        }
        g_free(regain->layer);
        g_free(regain);
    }
}
