#include "analysis/regain.h"

#include <math.h>
#include <string.h>

#include "float/forward.h"
#include "lowered/integer.h"
#include "network/network.h"
#include "pipeline/pipeline.h"
#include "run/runner.h"
#include "run/said.h"

/* A layer that is left as it is: where it stands, and what it reads in the place of its constants.
 */
typedef struct spared {
    int node, output;
    int constants[NSK_MOST_INPUTS];
    const float *numbers[NSK_MOST_INPUTS];
    int count;
    nsk_regained *result;
} spared;

/* The imitation, and what the float network says. */
typedef struct way {
    const nsk_network *network;
    float *said; /* [image][class]: the float network's */
    nsk_regained *result;
    const spared *layers;
    int layer_count;
} way;

/* What a pass rounds. */
typedef struct rounding {
    const nsk_graph *graph;
    int whole; /* value that is not rounded, or NSK_NONE */
} rounding;

static bool is_rounded(const nsk_value *v) {
    return v->pinned || v->pinned_wide;
}

static void round_value(const void *context, int value, float *numbers, size_t count) {
    const rounding *w = context;
    const nsk_value *v = nsk_graph_value(w->graph, value);
    const nsk_scale s = {v->pinned_scale, v->pinned_zero};
    if (v->pinned && v->fine && value != w->whole) {
        nsk_round_to_wide_levels(numbers, count, nsk_fine_scale(s));
    } else if (v->pinned && value != w->whole) {
        nsk_round_to_levels(numbers, count, s);
    } else if (v->pinned_wide && value != w->whole) {
        nsk_round_to_wide_levels(numbers, count, s);
    }
}

static void judge(const way *w, nsk_regained *result, const nsk_runner *r, int image,
                  const float *said) {
    int classes = nsk_network_classes(w->network);
    const float *wanted = w->said + (size_t)image * (size_t)classes;
    double apart = 0.0;
    double odds = nsk_odds_apart(wanted, said, classes);
    for (int c = 0; c < classes; c++) {
        apart += 0.5 * fabs((double)said[c] - (double)wanted[c]);
    }
#pragma omp critical(nsk_regain_count)
    {
        result->right += nsk_is_right(r->images, image, said);
        result->agree += nsk_say_the_same(nsk_images_labels(r->images), said, wanted);
        result->apart += llround(apart * NSK_REGAIN_APART); /* integers: in whatever order */
        result->odds += llround(odds * odds * NSK_REGAIN_APART);
    }
}

static bool run_float(const nsk_runner *r, int image, void *context, nsk_error *error) {
    const way *w = context;
    size_t classes = (size_t)nsk_network_classes(w->network);
    const float *said = nsk_runner_float(r);
    (void)error;
    memcpy(w->said + (size_t)image * classes, said, classes * sizeof *said);
    judge(w, w->result, r, image, said);
    return true;
}

static void lend(const nsk_runner *r, const spared *s, bool back) {
    for (int i = 0; i < s->count; i++) {
        nsk_pass_lend(r->pass, s->constants[i], back ? NULL : s->numbers[i]);
    }
}

/* All rounded; then with one layer spared, from it to the end, the last one first: so what stands
 * before it is what all rounded has there. */
static bool run_rounded(const nsk_runner *r, int image, void *context, nsk_error *error) {
    const way *w = context;
    const nsk_graph *graph = w->network->graph;
    rounding how = {graph, NSK_NONE};
    (void)error;
    nsk_float_prepare(graph, nsk_images_input(r->images), r->frame, nsk_pass_input(r->pass));
    nsk_pass_run_changed(r->pass, round_value, &how);
    judge(w, w->result, r, image, nsk_pass_value(r->pass, graph->output));
    for (int i = w->layer_count - 1; i >= 0; i--) {
        const spared *s = &w->layers[i];
        how.whole = s->output;
        lend(r, s, false);
        nsk_pass_run_from(r->pass, s->node, round_value, &how);
        lend(r, s, true);
        judge(w, s->result, r, image, nsk_pass_value(r->pass, graph->output));
    }
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

/* The constants that the same node reads in the other graph, where they are of one size. */
static void spare_constants(const nsk_graph *graph, const nsk_node *node, const nsk_graph *others,
                            const nsk_node *other, spared *s) {
    for (int k = 1; k < MIN(node->inputs, other->inputs); k++) {
        if (node->input[k] == NSK_NONE || other->input[k] == NSK_NONE) {
            continue;
        }
        const nsk_value *a = nsk_graph_value(graph, node->input[k]);
        const nsk_value *b = nsk_graph_value(others, other->input[k]);
        if (a->data != NULL && b->data != NULL && nsk_value_count(a) == nsk_value_count(b)) {
            s->constants[s->count] = node->input[k];
            s->numbers[s->count++] = b->data;
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

/* How many there are; each has its result. */
static int find_layers(const nsk_graph *graph, const nsk_graph *rounded, spared *layers,
                       nsk_regained *results) {
    int found = 0;
    for (int i = 0; i < (int)rounded->nodes->len; i++) {
        const nsk_node *node = nsk_graph_node(rounded, i);
        const nsk_node *other = node->dead ? NULL : node_named(graph, node->name);
        if (other != NULL && is_rounded(nsk_graph_value(rounded, node->output))) {
            results[found].name = g_strdup(node->name);
            layers[found] = (spared){.node = i, .output = node->output, .result = &results[found]};
            spare_constants(rounded, node, graph, other, &layers[found]);
            found++;
        }
    }
    return found;
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
    spared *layers = g_new0(spared, count);
    r->layers = find_layers(network->graph, graph, layers, r->layer);
    way exact = {.network = network, .said = said, .result = &r->exact};
    way w = {rounded, said, &r->rounded, layers, r->layers};
    bool good =
        nsk_run_images(network, NULL, NULL, images, run_float, &exact, NULL, NULL, error) &&
        nsk_run_images(rounded, NULL, NULL, images, run_rounded, &w, progress, context, error);
    g_free(layers);
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
