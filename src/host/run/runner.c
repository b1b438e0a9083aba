#include "run/runner.h"

#include "network/network.h"

int nsk_best_share(const float *probabilities, int classes) {
    int best = 0;
    for (int c = 1; c < classes; c++) {
        best = probabilities[c] > probabilities[best] ? c : best;
    }
    return best;
}

static bool start(nsk_runner *r, const nsk_network *network, const nsk_model *model,
                  const nsk_elsewhere *elsewhere, const nsk_images *images, nsk_error *error) {
    *r = (nsk_runner){.network = network, .model = model, .elsewhere = elsewhere, .images = images};
    r->pass = nsk_pass_new(network->graph, error);
    r->frame = g_malloc(nsk_images_frame_bytes(images));
    r->workspace = model != NULL ? g_malloc(model->workspace_bytes) : NULL;
    r->probabilities = g_new(float, nsk_network_classes(network));
    return r->pass != NULL;
}

static void clear(nsk_runner *r) {
    nsk_pass_free(r->pass);
    g_free(r->frame);
    g_free(r->workspace);
    g_free(r->probabilities);
}

const float *nsk_runner_float(const nsk_runner *r) {
    nsk_float_prepare(r->network->graph, nsk_images_input(r->images), r->frame,
                      nsk_pass_input(r->pass));
    nsk_pass_run(r->pass);
    return nsk_pass_value(r->pass, r->network->graph->output);
}

const int32_t *nsk_runner_integers(const nsk_runner *r, nsk_error *error) {
    const nsk_model *m = r->model;
    bool good = true;
    nsk_prepare(m, r->frame, (size_t)m->width * m->channels, r->workspace);
    nsk_run(m, r->workspace, NULL);
    int32_t *scores = (int32_t *)(void *)nsk_scores(m, r->workspace);
    if (r->elsewhere != NULL) {
#pragma omp critical(nsk_runner_elsewhere)
        good = r->elsewhere->run(r->elsewhere->context, r->frame, scores, error);
    }
    return good ? scores : NULL;
}

bool nsk_run_images(const nsk_network *network, const nsk_model *model,
                    const nsk_elsewhere *elsewhere, const nsk_images *images, nsk_image_step *step,
                    void *context, nsk_progress progress, void *progress_context,
                    nsk_error *error) {
    int total = nsk_images_count(images);
    int done = 0;
    bool good = true;
#pragma omp parallel
    {
        nsk_error fault;
        nsk_runner r;
        bool fine = start(&r, network, model, elsewhere, images, &fault);
#pragma omp for schedule(dynamic, 4)
        for (int i = 0; i < total; i++) {
            fine = fine && nsk_images_frame(images, i, r.frame, &fault) &&
                   step(&r, i, context, &fault);
            if (progress != NULL) {
#pragma omp critical(nsk_runner_progress)
                progress(progress_context, ++done, total);
            }
        }
        if (!fine) {
#pragma omp critical(nsk_runner_failure)
            {
                good = false;
                nsk_error_copy(error, &fault);
            }
        }
        clear(&r);
    }
    return good;
}
