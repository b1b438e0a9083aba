/* What each stage of quantising gained. */
#include "netsuke/ablation.h"

#include "base/base.h"
#include "netsuke/compare.h"
#include "netsuke/drift.h"

enum { EVERY = 5 };

static bool judge(const nsk_network *network, const nsk_network *equalised,
                  const nsk_model_file *file, const nsk_images *judging, nsk_stage_gain *gain,
                  nsk_error *error) {
    nsk_drift *d = nsk_drift_measure(equalised, file, judging, NULL, NULL, error);
    nsk_comparison *c = d != NULL ? nsk_compare(network, file, judging, NULL, NULL, error) : NULL;
    if (c != NULL) {
        gain->output_db = d->layer[d->layers - 1].sqnr_db;
        gain->agree = c->agree;
    }
    bool good = c != NULL;
    nsk_comparison_free(c);
    nsk_drift_free(d);
    return good;
}

/* A model of that recipe, fitted to some images and judged on judging. */
static bool measure(const nsk_network *network, const nsk_recipe *recipe, const nsk_images *fitted,
                    const nsk_images *judging, nsk_stage_gain *gain, nsk_error *error) {
    nsk_network *equalised =
        recipe->equalise ? nsk_network_equalised(network, fitted, error) : NULL;
    nsk_model_file *file =
        recipe->equalise && equalised == NULL ? NULL : nsk_quantise(network, fitted, recipe, error);
    bool good = file != NULL &&
                judge(network, equalised != NULL ? equalised : network, file, judging, gain, error);
    nsk_model_file_free(file);
    nsk_network_free(equalised);
    return good;
}

static bool measure_all(const nsk_network *network, const nsk_recipe *whole,
                        const nsk_images *fitted, const nsk_images *judging, nsk_ablation *ablation,
                        nsk_error *error) {
    static const char *const names[NSK_STAGES] = {"ranges alone", "channels evened out",
                                                  "rounding fitted", "biases settled",
                                                  "weights refined"};
    nsk_recipe recipe = *whole;
    const bool asked[NSK_STAGES] = {true, whole->equalise, whole->rounding, whole->biases,
                                    whole->refine != NULL};
    bool *const on[NSK_STAGES] = {NULL, &recipe.equalise, &recipe.rounding, &recipe.biases, NULL};
    recipe.equalise = recipe.rounding = recipe.biases = false;
    recipe.refine = NULL;
    recipe.streaming = NSK_STREAMING_NEVER;
    for (int i = 0; i < NSK_STAGES; i++) {
        if (!asked[i]) {
            continue;
        }
        if (on[i] != NULL) {
            *on[i] = true;
        }
        recipe.refine = i == NSK_STAGES - 1 ? whole->refine : NULL;
        nsk_stage_gain *gain = &ablation->stage[ablation->count++];
        gain->name = names[i];
        if (!measure(network, &recipe, fitted, judging, gain, error)) {
            return false;
        }
    }
    return true;
}

bool nsk_ablate(const nsk_network *network, const nsk_recipe *recipe, nsk_images *fitted,
                nsk_images *judging, nsk_ablation *ablation, nsk_error *error) {
    nsk_images_keep(fitted, EVERY, false);
    nsk_images_keep(judging, EVERY, true);
    *ablation =
        (nsk_ablation){.fitted = nsk_images_count(fitted), .judged = nsk_images_count(judging)};
    if (ablation->judged == 0) {
        return nsk_fail(error, "%d calibration images of a class at least are wanted", EVERY);
    }
    return measure_all(network, recipe, fitted, judging, ablation, error);
}
