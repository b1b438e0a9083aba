/* From a graph to layers whose tensors have scales. */
#include "pipeline/pipeline.h"

#include <string.h>

#include "channels/channels.h"
#include "images/moved.h"
#include "lower/lower.h"
#include "modelfile/build.h"
#include "modelfile/check.h"
#include "network/network.h"
#include "passes/bits.h"
#include "passes/equalise.h"
#include "passes/join.h"
#include "passes/ranges.h"

nsk_lowered *nsk_lower_and_join(const nsk_graph *graph, nsk_error *error) {
    nsk_lowered *lowered = nsk_lower(graph, error);
    if (lowered != NULL) {
        nsk_join_concatenations(lowered, graph);
    }
    return lowered;
}

/* The method of each tensor: the recipe's, or that of an exception for the layer that writes it.
 */
static nsk_range_method *methods_of(const nsk_lowered *lowered, const nsk_recipe *recipe,
                                    nsk_error *error) {
    nsk_range_method *methods = g_new(nsk_range_method, lowered->tensors->len);
    for (guint i = 0; i < lowered->tensors->len; i++) {
        methods[i] = recipe->ranges;
    }
    for (int k = 0; k < recipe->excepted; k++) {
        bool found = false;
        for (int i = 0; i < (int)lowered->layers->len; i++) {
            const nsk_lowered_layer *l = nsk_lowered_layer_at(lowered, i);
            if (strcmp(l->name, recipe->exceptions[k].layer) == 0) {
                methods[nsk_lowered_tensor_root(lowered, l->out)] = recipe->exceptions[k].method;
                found = true;
            }
        }
        if (!found) {
            nsk_fail(error, "[ranges] %s: no layer has this name; 'netsuke outline' lists them",
                     recipe->exceptions[k].layer);
            g_free(methods);
            return NULL;
        }
    }
    return methods;
}

static nsk_scale *choose_scales(const nsk_network *network, const nsk_lowered *lowered,
                                const nsk_images *calibration, const nsk_recipe *recipe, int *moved,
                                nsk_error *error) {
    int tensors = (int)lowered->tensors->len;
    int *values = g_new(int, tensors);
    for (int i = 0; i < tensors; i++) {
        values[i] = nsk_lowered_tensor_at(lowered, i)->value;
    }
    const nsk_lowered_layer **readers = g_new(const nsk_lowered_layer *, tensors);
    for (int i = 0; i < tensors; i++) {
        readers[i] = nsk_lowered_reader(lowered, i);
    }
    nsk_images *seen = nsk_images_with_moved(calibration);
    nsk_range_method *methods = methods_of(lowered, recipe, error);
    nsk_range *ranges = methods != NULL ? nsk_ranges_choose(network->graph, values, tensors,
                                                            methods, readers, seen, error)
                                        : NULL;
    *moved = nsk_images_count(seen) - nsk_images_count(calibration);
    nsk_images_free(seen);
    g_free(methods);
    g_free(readers);
    g_free(values);
    nsk_scale *scales = ranges != NULL ? nsk_scales_of(network->graph, lowered, ranges,
                                                       nsk_images_input(calibration))
                                       : NULL;
    g_free(ranges);
    return scales;
}

nsk_network *nsk_network_equalised(const nsk_network *network, const nsk_images *calibration,
                                   nsk_error *error) {
    nsk_network *copy = nsk_network_copy(network);
    if (nsk_graph_equalise(copy->graph, calibration, error) < 0) {
        nsk_network_free(copy);
        return NULL;
    }
    return copy;
}

/* Whether what refining learns is to come back as a float network. */
static bool wants_learned(const nsk_recipe *recipe) {
    return recipe->refine != NULL && recipe->refine->learned != NULL;
}

bool nsk_pipeline_start(nsk_pipeline *m, const nsk_network *network, const nsk_images *calibration,
                        const nsk_recipe *recipe, nsk_error *error) {
    const bool learned = wants_learned(recipe);
    *m = (nsk_pipeline){.network = network};
    if (!nsk_network_takes(network, calibration, error)) {
        return false;
    }
    if (recipe->equalise || learned) {
        m->own = recipe->equalise ? nsk_network_equalised(network, calibration, error)
                                  : nsk_network_copy(network);
        if (m->own == NULL) {
            return false;
        }
        m->network = m->own;
    }
    if (learned) {
        nsk_graph_own_constants(m->own->graph);
    }
    m->lowered = nsk_lower_and_join(m->network->graph, error);
    if (m->lowered == NULL) {
        nsk_fail_in(error, "%s", m->network->path);
        return false;
    }
    if (!nsk_bits_assign(m->lowered, recipe, error)) {
        return false;
    }
    m->scales = choose_scales(m->network, m->lowered, calibration, recipe, &m->moved, error);
    return m->scales != NULL;
}

void nsk_pipeline_clear(nsk_pipeline *m) {
    g_free(m->scales);
    nsk_lowered_free(m->lowered);
    nsk_network_free(m->own);
}
