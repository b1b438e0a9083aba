/* nsk_quantise: the steps in order. */
#include <math.h>
#include <string.h>

#include "export/export.h"
#include "images/moved.h"
#include "lower/lower.h"
#include "modelfile/build.h"
#include "modelfile/check.h"
#include "network/network.h"
#include "passes/bits.h"
#include "passes/equalise.h"
#include "passes/join.h"
#include "passes/rounding.h"
#include "passes/schedule.h"
#include "pipeline/pipeline.h"
#include "refine/refine.h"
#include "refine/settle.h"

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

void nsk_pipeline_clear(nsk_pipeline *m) {
    g_free(m->scales);
    nsk_lowered_free(m->lowered);
    nsk_network_free(m->own);
}

/* Levels of the weights, and biases. */
static bool fit(nsk_pipeline *m, const nsk_refine_subject *subject, const nsk_images *calibration,
                const nsk_recipe *recipe, nsk_error *error) {
    if (!recipe->rounding && !recipe->biases) {
        return true;
    }
    m->fitted = nsk_settle_images(subject->lowered, calibration);
    nsk_moments *moments = nsk_moments_observe(subject->graph, subject->lowered, calibration,
                                               m->fitted, recipe, error);
    if (moments == NULL) {
        return false;
    }
    nsk_fit_rounding(subject->lowered, subject->scales, moments, recipe->rounding);
    bool good = !recipe->biases || nsk_settle_biases(subject, moments, calibration, error);
    nsk_moments_free(moments);
    return good;
}

bool nsk_pipeline_start(nsk_pipeline *m, const nsk_network *network, const nsk_images *calibration,
                        const nsk_recipe *recipe, nsk_error *error) {
    *m = (nsk_pipeline){.network = network};
    if (!nsk_network_takes(network, calibration, error)) {
        return false;
    }
    if (recipe->equalise) {
        m->own = nsk_network_equalised(network, calibration, error);
        if (m->own == NULL) {
            return false;
        }
        m->network = m->own;
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

/* Everything up to the integers themselves. */
static bool prepare(nsk_pipeline *m, const nsk_network *network, const nsk_images *calibration,
                    const nsk_recipe *recipe, nsk_error *error) {
    if (!nsk_pipeline_start(m, network, calibration, recipe, error)) {
        return false;
    }
    const nsk_refine_subject subject = {network, m->lowered, m->network->graph, m->scales, NULL};
    return fit(m, &subject, calibration, recipe, error) &&
           (recipe->refine == NULL || nsk_refine(&subject, recipe->refine, error));
}

nsk_model_file *nsk_quantise(const nsk_network *network, const nsk_images *calibration,
                             const nsk_recipe *recipe, nsk_error *error) {
    nsk_pipeline m;
    nsk_recipe usual;
    nsk_recipe_init(&usual);
    recipe = recipe != NULL ? recipe : &usual;
    nsk_model_file *file = NULL;
    if (prepare(&m, network, calibration, recipe, error)) {
        const char *facts[NSK_FACTS];
        for (int i = 0; i < NSK_FACTS; i++) {
            facts[i] = nsk_network_fact(network, (nsk_fact)i);
        }
        file = nsk_model_build(m.network->graph, m.lowered, m.scales, facts,
                               nsk_images_labels(calibration), nsk_images_input(calibration),
                               recipe, error);
    }
    if (file != NULL) {
        file->fitted = m.fitted;
        file->moved = m.moved;
    }
    nsk_pipeline_clear(&m);
    return file;
}

/* The integer network as the bytes of an ONNX file; g_free. */
static uint8_t *export_bytes(const nsk_network *network, const nsk_images *calibration,
                             const nsk_recipe *recipe, size_t *size, nsk_error *error) {
    nsk_pipeline p;
    nsk_recipe usual;
    nsk_recipe_init(&usual);
    recipe = recipe != NULL ? recipe : &usual;
    uint8_t *bytes = prepare(&p, network, calibration, recipe, error)
                         ? nsk_onnx_export(p.network, p.lowered, p.scales, size, error)
                         : NULL;
    nsk_pipeline_clear(&p);
    return bytes;
}

bool nsk_quantise_onnx(const nsk_network *network, const nsk_images *calibration,
                       const nsk_recipe *recipe, const char *path, nsk_error *error) {
    size_t size = 0;
    uint8_t *bytes = export_bytes(network, calibration, recipe, &size, error);
    bool good = bytes != NULL && nsk_file_write(path, bytes, size, error);
    g_free(bytes);
    return good;
}

nsk_network *nsk_network_rounded(const nsk_network *network, const nsk_images *calibration,
                                 const nsk_recipe *recipe, nsk_error *error) {
    size_t size = 0;
    uint8_t *bytes = export_bytes(network, calibration, recipe, &size, error);
    nsk_input input = *nsk_images_input(calibration);
    nsk_network *rounded =
        bytes != NULL ? nsk_network_from(bytes, size, network->path, &input, NULL, error) : NULL;
    g_free(bytes);
    return rounded;
}
