#include "refine/gradient.h"

#include <math.h>
#include <string.h>

#include "base/element.h"
#include "device/layer.h"
#include "refine/backward.h"

struct nsk_gradient {
    const nsk_lowered *lowered;
    const nsk_scale *scales;
    const nsk_learned *learned;
    nsk_backward_tensor *tensors;
    float **weights, **biases; /* one a layer */
    float *scratch;
    int8_t *workspace;
    uint32_t workspace_bytes;
    const int32_t *scores; /* of the last frame, in the workspace */
};

bool nsk_gradient_can(const nsk_lowered *lowered, nsk_error *error) {
    const nsk_lowered_layer *last = nsk_lowered_layer_at(lowered, (int)lowered->layers->len - 1);
    return (last->kind == NSK_KIND_SCORES && (last->shares || last->each)) ||
           nsk_fail(error,
                    "layer '%s': only networks that end in a softmax or in sigmoids can be refined",
                    last->name);
}

nsk_gradient *nsk_gradient_new(const nsk_lowered *lowered, const nsk_scale *scales,
                               const nsk_learned *learned) {
    int layers = (int)lowered->layers->len;
    size_t scratch = 1;
    nsk_gradient *g = g_new0(nsk_gradient, 1);
    g->lowered = lowered;
    g->scales = scales;
    g->learned = learned;
    g->tensors = nsk_backward_tensors_new(lowered);
    g->weights = g_new0(float *, layers);
    g->biases = g_new0(float *, layers);
    for (int i = 0; i < layers; i++) {
        const nsk_lowered_layer *l = nsk_lowered_layer_at(lowered, i);
        g->weights[i] = g_new0(float, learned[i].weights + 1);
        g->biases[i] = g_new0(float, learned[i].channels + 1);
        scratch = MAX(scratch, nsk_backward_scratch(l, &g->tensors[l->out]));
    }
    g->scratch = g_new0(float, scratch);
    return g;
}

void nsk_gradient_free(nsk_gradient *g) {
    if (g == NULL) {
        return;
    }
    nsk_backward_tensors_free(g->lowered, g->tensors);
    for (int i = 0; i < (int)g->lowered->layers->len; i++) {
        g_free(g->weights[i]);
        g_free(g->biases[i]);
    }
    g_free(g->weights);
    g_free(g->biases);
    g_free(g->scratch);
    g_free(g->workspace);
    g_free(g);
}

void nsk_gradient_clear(nsk_gradient *g) {
    for (int i = 0; i < (int)g->lowered->layers->len; i++) {
        memset(g->weights[i], 0, g->learned[i].weights * sizeof(float));
        memset(g->biases[i], 0, (size_t)g->learned[i].channels * sizeof(float));
    }
}

const float *nsk_gradient_weights(const nsk_gradient *g, int layer) {
    return g->weights[layer];
}

const float *nsk_gradient_biases(const nsk_gradient *g, int layer) {
    return g->biases[layer];
}

void nsk_gradient_changes(const nsk_gradient *g, int tensor, double *changes) {
    const nsk_backward_tensor *t = &g->tensors[tensor];
    for (int c = 0; c < t->channels; c++) {
        changes[c] = 0.0;
    }
    for (int p = 0; p < t->height * t->width; p++) {
        const ptrdiff_t at = (ptrdiff_t)p * t->step;
        for (int c = 0; c < t->channels; c++) {
            changes[c] += (double)t->value[at + c] * (double)t->gradient[at + c];
        }
    }
}

const int32_t *nsk_gradient_scores(const nsk_gradient *g) {
    return g->scores;
}

/* ---- forward ---- */

/* What the device has of a tensor of bytes. */
static void keep_bytes(const nsk_backward_tensor *to, const nsk_tensor *from, const int8_t *at,
                       nsk_scale s) {
    const size_t pixels = (size_t)to->height * (size_t)to->width;
    for (size_t p = 0; p < pixels; p++) {
        const int8_t *restrict pixel = at + p * (size_t)from->pixel_stride;
        int8_t *restrict level = to->level + p * (size_t)to->step;
        float *restrict value = to->value + p * (size_t)to->step;
        memcpy(level, pixel, (size_t)to->channels);
#pragma omp simd
        for (int c = 0; c < to->channels; c++) {
            value[c] = s.scale * (float)(pixel[c] - s.zero);
        }
    }
}

/* The same of wider elements; of parts, the level that they are of. */
static void keep_wide(const nsk_backward_tensor *to, const nsk_tensor *from, const int8_t *at,
                      nsk_scale s) {
    const size_t pixels = (size_t)to->height * (size_t)to->width;
    for (size_t p = 0; p < pixels; p++) {
        for (size_t c = 0; c < (size_t)to->channels; c++) {
            int32_t level = nsk_element_at(at + p * (size_t)from->pixel_stride + c * from->element,
                                           from->element);
            to->level[p * (size_t)to->step + c] = (int8_t)(from->fraction > 0 ? level >> 8 : level);
            to->value[p * (size_t)to->step + c] = s.scale * (float)(level - s.zero);
        }
    }
}

static void keep(const nsk_gradient *g, int tensor, const nsk_tensor *from) {
    const nsk_scale s = from->fraction > 0 ? nsk_fine_scale(g->scales[tensor]) : g->scales[tensor];
    (from->element == 1 ? keep_bytes : keep_wide)(&g->tensors[tensor], from,
                                                  g->workspace + from->offset, s);
}

static void after_layer(void *context, const nsk_model *model, unsigned layer) {
    const nsk_gradient *g = context;
    nsk_tensor out = nsk_tensor_at(model, nsk_layer_output(model, layer));
    keep(g, nsk_lowered_layer_at(g->lowered, (int)layer)->out, &out);
}

static void forward(nsk_gradient *g, const nsk_model *model, const uint8_t *frame) {
    const nsk_observer observer = {NULL, after_layer, g};
    if (g->workspace_bytes < model->workspace_bytes) {
        g->workspace = g_realloc(g->workspace, model->workspace_bytes);
        g->workspace_bytes = model->workspace_bytes;
    }
    nsk_prepare(model, frame, (size_t)model->width * model->channels, g->workspace);
    nsk_tensor in = nsk_tensor_at(model, model->input);
    keep(g, 0, &in);
    nsk_run(model, g->workspace, &observer);
    g->scores = nsk_scores(model, g->workspace);
}

/* ---- the loss ---- */

/* Cross-entropy of softmax(x) with the target, and its gradient by x: softmax(x) - target. */
static double find_loss(const nsk_backward_tensor *x, const float *target) {
    double most = -INFINITY;
    double sum = 0.0;
    double loss = 0.0;
    for (int c = 0; c < x->channels; c++) {
        most = fmax(most, (double)x->value[c]);
    }
    for (int c = 0; c < x->channels; c++) {
        sum += exp((double)x->value[c] - most);
    }
    for (int c = 0; c < x->channels; c++) {
        double log_share = (double)x->value[c] - most - log(sum);
        loss -= (double)target[c] * log_share;
        x->gradient[c] = (float)(exp(log_share) - (double)target[c]);
    }
    return loss;
}

/* The same of a sigmoid each: every label is a question for itself, and the gradient by x again
 * what is said less what should be. */
static double find_losses(const nsk_backward_tensor *x, const float *target) {
    double loss = 0.0;
    for (int c = 0; c < x->channels; c++) {
        double z = (double)x->value[c];
        double t = (double)target[c];
        loss += fmax(z, 0.0) - z * t + log1p(exp(-fabs(z)));
        x->gradient[c] = (float)(1.0 / (1.0 + exp(-z)) - t);
    }
    return loss;
}

/* ---- backward ---- */

static nsk_backward_step step_of(const nsk_gradient *g, const nsk_model *model, int layer) {
    const nsk_lowered_layer *l = nsk_lowered_layer_at(g->lowered, layer);
    bool pair = l->second != NSK_NONE && !nsk_lowered_has_scratch(l);
    nsk_layer decoded;
    nsk_layer_decode(model, (unsigned)layer, &decoded);
    return (nsk_backward_step){.layer = l,
                               .in = &g->tensors[l->in],
                               .second = pair ? &g->tensors[l->second] : NULL,
                               .out = &g->tensors[l->out],
                               .in_scale = g->scales[l->in],
                               .low = decoded.low,
                               .high = decoded.high,
                               .weight = g->learned[layer].weight,
                               .weight_gradient = g->weights[layer],
                               .bias_gradient = g->biases[layer],
                               .scratch = g->scratch,
                               .input_counts = nsk_lowered_tensor_root(g->lowered, l->in) != 0};
}

static void backward(nsk_gradient *g, const nsk_model *model) {
    for (int i = (int)g->lowered->layers->len - 2; i >= 0; i--) {
        nsk_backward_step step = step_of(g, model, i);
        nsk_backward(&step);
    }
}

double nsk_gradient_add(nsk_gradient *g, const nsk_model *model, const uint8_t *frame,
                        const float *target, bool learn) {
    const nsk_lowered_layer *last =
        nsk_lowered_layer_at(g->lowered, (int)g->lowered->layers->len - 1);
    forward(g, model, frame);
    for (int i = 0; learn && i < (int)g->lowered->tensors->len; i++) {
        const nsk_backward_tensor *t = &g->tensors[i];
        if (nsk_lowered_tensor_root(g->lowered, i) == i) {
            memset(t->gradient, 0,
                   (size_t)t->height * (size_t)t->width * (size_t)t->channels * sizeof(float));
        }
    }
    double loss = (last->shares ? find_loss : find_losses)(&g->tensors[last->in], target);
    if (learn) {
        backward(g, model);
    }
    return loss;
}
