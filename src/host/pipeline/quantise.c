/* nsk_quantise: the steps in order. */
#include "export/export.h"
#include "modelfile/build.h"
#include "network/network.h"
#include "passes/rounding.h"
#include "pipeline/homes.h"
#include "pipeline/pipeline.h"
#include "refine/refine.h"
#include "refine/settle.h"

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

/* Refining; the network becomes what was learned, where that is asked for. */
static bool refine(nsk_pipeline *m, nsk_refine_subject *subject, const nsk_recipe *recipe,
                   nsk_error *error) {
    if (recipe->refine == NULL || recipe->refine->learned == NULL) {
        return recipe->refine == NULL || nsk_refine(subject, recipe->refine, error);
    }
    nsk_homes *homes = nsk_homes_find(m->own->graph, error);
    subject->still = homes != NULL ? nsk_homes_none(homes) : NULL;
    const bool good = homes != NULL && nsk_refine(subject, recipe->refine, error);
    if (good) {
        nsk_homes_bring_back(homes, m->lowered, m->own->graph);
        nsk_network_free(*recipe->refine->learned);
        *recipe->refine->learned = nsk_network_copy(m->own);
    }
    nsk_homes_free(homes);
    return good;
}

/* Everything up to the integers themselves. */
static bool prepare(nsk_pipeline *m, const nsk_network *network, const nsk_images *calibration,
                    const nsk_recipe *recipe, nsk_error *error) {
    if (!nsk_pipeline_start(m, network, calibration, recipe, error)) {
        return false;
    }
    nsk_refine_subject subject = {network, m->lowered, m->network->graph, m->scales, NULL};
    return fit(m, &subject, calibration, recipe, error) && refine(m, &subject, recipe, error);
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
