/* Where a loss comes from: what the device's preparation costs, then its weights, then the rest. */
#include <math.h>
#include <string.h>

#include "lowered/integer.h"
#include "modelfile/check.h"
#include "netsuke/compare.h"
#include "network/network.h"
#include "pipeline/pipeline.h"
#include "run/runner.h"
#include "run/said.h"

typedef struct splitter {
    nsk_scale input; /* the device's */
    bool senses;     /* pictures go through a sensor */
    int stored;
    int exact, prepared;
} splitter;

/* What the device makes of the input. */
static void round_input(const splitter *s, const nsk_runner *r) {
    float *x = nsk_pass_input(r->pass);
    const nsk_value *value = nsk_graph_value(r->network->graph, r->network->graph->input);
    nsk_round_to_levels(x, nsk_value_count(value), s->input);
}

static bool is_right(const nsk_runner *r, int image) {
    nsk_pass_run(r->pass);
    const float *scores = nsk_pass_value(r->pass, r->network->graph->output);
    return nsk_is_right(r->images, image, scores);
}

/* The picture without its sensor, where there is one. */
static bool count_stored(splitter *s, const nsk_runner *r, int image, nsk_error *error) {
    uint8_t *frame = g_malloc(nsk_images_frame_bytes(r->images));
    const bool good = nsk_images_stored_frame(r->images, image, frame, error);
    if (good) {
        nsk_float_prepare(r->network->graph, nsk_images_input(r->images), frame,
                          nsk_pass_input(r->pass));
        const bool right = is_right(r, image);
#pragma omp critical(nsk_split_count)
        s->stored += right;
    }
    g_free(frame);
    return good;
}

static bool split_image(const nsk_runner *r, int image, void *context, nsk_error *error) {
    splitter *s = context;
    if (s->senses && !count_stored(s, r, image, error)) {
        return false;
    }
    nsk_float_prepare(r->network->graph, nsk_images_input(r->images), r->frame,
                      nsk_pass_input(r->pass));
    bool exact = is_right(r, image);
    round_input(s, r);
    bool prepared = is_right(r, image);
#pragma omp critical(nsk_split_count)
    {
        s->exact += exact;
        s->prepared += prepared;
    }
    return true;
}

bool nsk_split_loss(const nsk_network *network, const nsk_images *calibration,
                    const nsk_recipe *recipe, const nsk_model_file *file, const nsk_images *images,
                    nsk_loss_split *split, nsk_progress progress, void *context, nsk_error *error) {
    nsk_model model;
    if (!nsk_model_open_for(network, file, images, &model, error)) {
        return false;
    }
    nsk_tensor in = nsk_tensor_at(&model, model.input);
    splitter own = {.input = nsk_scale_of_tensor(&in)};
    splitter rounded = own;
    own.senses = !nsk_sensor_is_plain(&nsk_images_input(images)->sensor);
    nsk_network *other = nsk_network_rounded(network, calibration, recipe, error);
    bool good = other != NULL &&
                nsk_run_images(network, &model, NULL, images, split_image, &own, progress, context,
                               error) &&
                nsk_run_images(other, &model, NULL, images, split_image, &rounded, progress,
                               context, error);
    split->exact = own.exact;
    split->stored = own.senses ? own.stored : own.exact;
    split->prepared = own.prepared;
    split->weights = rounded.prepared;
    nsk_network_free(other);
    return good;
}
