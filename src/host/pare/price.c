/* A budget does not ask what weights are, so a model of nothing but zeroes is made, with scales
 * that were found before: nothing need be run for it. */
#include "pare/price.h"

#include <math.h>
#include <string.h>

#include "modelfile/build.h"
#include "network/network.h"
#include "passes/bits.h"

double nsk_price_taken(const nsk_budget *b, int limit) {
    return limit == NSK_LIMIT_LATENCY ? fmax(b->seconds_high, b->seconds) : b->limits[limit].value;
}

static void forget_weights(nsk_lowered *lowered) {
    for (int i = 0; i < (int)lowered->layers->len; i++) {
        nsk_lowered_layer *l = nsk_lowered_layer_at(lowered, i);
        const size_t channels = (size_t)nsk_lowered_tensor_at(lowered, l->out)->channels;
        if (l->weights != NULL && l->bias != NULL) {
            memset(l->weights, 0, channels * (size_t)l->taps * sizeof *l->weights);
            memset(l->bias, 0, channels * sizeof *l->bias);
        }
    }
}

nsk_scale *nsk_price_scales(const nsk_pipeline *p) {
    nsk_scale *scales = g_new0(nsk_scale, p->network->graph->values->len);
    for (int i = 0; i < (int)p->lowered->tensors->len; i++) {
        scales[nsk_lowered_tensor_at(p->lowered, i)->value] = p->scales[i];
    }
    return scales;
}

static nsk_model_file *build(const nsk_pare_ground *g, const nsk_graph *graph,
                             const nsk_scale *scales, nsk_lowered *lowered) {
    static const nsk_scale usual = {1.0F / 256.0F, -128};
    nsk_scale *of_tensors = g_new(nsk_scale, lowered->tensors->len);
    for (int i = 0; i < (int)lowered->tensors->len; i++) {
        const nsk_scale known = scales[nsk_lowered_tensor_at(lowered, i)->value];
        of_tensors[i] = known.scale > 0.0F ? known : usual;
    }
    const char *facts[NSK_FACTS];
    for (int i = 0; i < NSK_FACTS; i++) {
        facts[i] = nsk_network_fact(g->network, (nsk_fact)i);
    }
    forget_weights(lowered);
    nsk_model_file *file =
        nsk_model_build(graph, lowered, of_tensors, facts, nsk_images_labels(g->calibration),
                        nsk_images_input(g->calibration), g->recipe, g->error);
    g_free(of_tensors);
    return file;
}

bool nsk_price_of(const nsk_pare_ground *g, const nsk_graph *graph, const nsk_scale *scales,
                  nsk_price *price) {
    nsk_lowered *lowered = nsk_lower_and_join(graph, g->error);
    bool good = lowered != NULL && nsk_bits_assign(lowered, g->recipe, g->error);
    nsk_model_file *file = good ? build(g, graph, scales, lowered) : NULL;
    nsk_budget *b =
        file != NULL ? nsk_budget_make(file, g->board, g->product, g->limits, g->error) : NULL;
    for (int i = 0; b != NULL && i < NSK_BUDGET_LIMITS; i++) {
        price->of[i] = nsk_price_taken(b, i);
    }
    good = b != NULL;
    nsk_budget_free(b);
    nsk_model_file_free(file);
    nsk_lowered_free(lowered);
    return good;
}

bool nsk_price_without(const nsk_pare_ground *g, const nsk_graph *graph, const nsk_scale *scales,
                       const nsk_channels *channels, const bool *gone, nsk_price *price) {
    nsk_graph *cut = nsk_graph_copy(graph);
    nsk_graph_cut(cut, channels, gone);
    const bool good = nsk_price_of(g, cut, scales, price);
    nsk_graph_free(cut);
    return good;
}
