/* A copy of the graph is lowered whose weights are numbers that count them all: what a layer has
 * then says where it came from, whatever lowering did to the order. */
#include "pipeline/homes.h"

#include <math.h>

#include "base/base.h"
#include "channels/channels.h"
#include "pipeline/pipeline.h"

/* Whole numbers that a float tells apart. */
enum { MOST = 1 << 24 };

/* Of one layer, where in the count of all its numbers are; NULL: not known. */
typedef struct home {
    int *weights, *biases;
    size_t weight_count, bias_count;
} home;

struct nsk_homes {
    int layers;
    home *home;
    bool *none;
    int values;
    int *first; /* of each value, the number of its first element */
    int count;
};

static bool is_weight(const nsk_graph *g, const nsk_node *node, int input) {
    return !node->dead && nsk_channels_are_born(g, node) && (input == 1 || input == 2) &&
           input < node->inputs && node->input[input] != NSK_NONE &&
           nsk_graph_value(g, node->input[input])->data != NULL;
}

/* Counts through weights and biases, and writes the count in their place. */
static bool number_all(nsk_homes *h, const nsk_graph *g) {
    for (int i = 0; i < (int)g->nodes->len; i++) {
        const nsk_node *node = nsk_graph_node(g, i);
        for (int input = 1; input <= 2; input++) {
            if (!is_weight(g, node, input)) {
                continue;
            }
            nsk_value *v = nsk_graph_value(g, node->input[input]);
            const size_t count = nsk_value_count(v);
            if (count > (size_t)(MOST - h->count)) {
                return false;
            }
            h->first[node->input[input]] = h->count;
            for (size_t k = 0; k < count; k++) {
                v->data[k] = (float)h->count++;
            }
        }
    }
    return true;
}

/* What the numbers say; NULL where they are none, or one is there twice. g_free. */
static int *read_numbers(const nsk_homes *h, const float *numbers, size_t count) {
    bool *seen = g_new0(bool, (gsize)h->count + 1);
    int *places = g_new(int, count + 1);
    bool good = true;
    for (size_t i = 0; i < count && good; i++) {
        const float n = numbers[i];
        good = n >= 1.0F && n < (float)h->count && !(fabsf(n - floorf(n)) > 0.0F) && !seen[(int)n];
        if (good) {
            places[i] = (int)n;
            seen[places[i]] = true;
        }
    }
    g_free(seen);
    if (!good) {
        g_clear_pointer(&places, g_free);
    }
    return places;
}

static void read_layer(nsk_homes *h, const nsk_lowered *lowered, int layer) {
    const nsk_lowered_layer *l = nsk_lowered_layer_at(lowered, layer);
    home *to = &h->home[layer];
    if (l->weights == NULL || l->bias == NULL) {
        return;
    }
    to->bias_count = (size_t)nsk_lowered_tensor_at(lowered, l->out)->channels;
    to->weight_count = to->bias_count * (size_t)l->taps;
    to->weights = read_numbers(h, l->weights, to->weight_count);
    to->biases = read_numbers(h, l->bias, to->bias_count);
    h->none[layer] = to->weights == NULL || to->biases == NULL;
}

nsk_homes *nsk_homes_find(const nsk_graph *graph, nsk_error *error) {
    nsk_graph *numbered = nsk_graph_copy(graph);
    nsk_homes *h = g_new0(nsk_homes, 1);
    h->values = (int)graph->values->len;
    h->first = g_new0(int, h->values);
    h->count = 1; /* 0 is what lowering makes up */
    const bool few = number_all(h, numbered) ||
                     nsk_fail(error,
                              "it has more than %d weights, which is more than can be "
                              "learned here",
                              MOST);
    nsk_lowered *lowered = few ? nsk_lower_and_join(numbered, error) : NULL;
    if (lowered != NULL) {
        h->layers = (int)lowered->layers->len;
        h->home = g_new0(home, h->layers);
        h->none = g_new0(bool, h->layers);
        for (int i = 0; i < h->layers; i++) {
            read_layer(h, lowered, i);
        }
    }
    nsk_lowered_free(lowered);
    nsk_graph_free(numbered);
    if (lowered == NULL) {
        g_clear_pointer(&h, nsk_homes_free);
    }
    return h;
}

void nsk_homes_free(nsk_homes *h) {
    for (int i = 0; h != NULL && i < h->layers; i++) {
        g_free(h->home[i].weights);
        g_free(h->home[i].biases);
    }
    if (h != NULL) {
        g_free(h->home);
        g_free(h->none);
        g_free(h->first);
        g_free(h);
    }
}

const bool *nsk_homes_none(const nsk_homes *h) {
    return h->none;
}

void nsk_homes_bring_back(const nsk_homes *h, const nsk_lowered *lowered, nsk_graph *graph) {
    float *all = g_new0(float, h->count);
    bool *known = g_new0(bool, h->count);
    for (int i = 0; i < h->layers; i++) {
        const nsk_lowered_layer *l = nsk_lowered_layer_at(lowered, i);
        const home *from = &h->home[i];
        for (size_t k = 0; k < from->weight_count && !h->none[i]; k++) {
            all[from->weights[k]] = l->weights[k];
            known[from->weights[k]] = true;
        }
        for (size_t k = 0; k < from->bias_count && !h->none[i]; k++) {
            all[from->biases[k]] = l->bias[k];
            known[from->biases[k]] = true;
        }
    }
    for (int v = 0; v < h->values; v++) {
        nsk_value *to = nsk_graph_value(graph, v);
        for (size_t k = 0; h->first[v] > 0 && k < nsk_value_count(to); k++) {
            const size_t number = (size_t)h->first[v] + k;
            to->data[k] = known[number] ? all[number] : to->data[k];
        }
    }
    g_free(all);
    g_free(known);
}
