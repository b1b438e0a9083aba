/* nsk_quantise: the steps in order. */
#include <math.h>

#include "quantise/check.h"
#include "quantise/plan.h"
#include "quantise/write.h"

/* The input's range is what bytes can become, not what calibration happened to show: with one mean
 * and deviation the table from byte to level is then exact. */
static nsk_range input_range(const nsk_input *input) {
    nsk_range range = {INFINITY, -INFINITY};
    for (int c = 0; c < (input->colour == NSK_GREY ? 1 : 3); c++) {
        double ends[2] = {-input->mean[c] / input->deviation[c],
                          (input->top - input->mean[c]) / input->deviation[c]};
        range.low = fminf(range.low, (float)fmin(ends[0], ends[1]));
        range.high = fmaxf(range.high, (float)fmax(ends[0], ends[1]));
    }
    return range;
}

/* Probabilities are 0/256 ... 255/256, whatever calibration shows. */
static void pin_scales(const nsk_lowered *lowered, const nsk_input *input, nsk_scale *scales) {
    scales[0] = nsk_scale_of(input_range(input));
    for (int i = 0; i < (int)lowered->layers->len; i++) {
        const nsk_low_layer *l = nsk_low_layer_at(lowered, i);
        if (l->kind == NSK_SOFTMAX) {
            scales[l->out] = (nsk_scale){1.0F / 256.0F, -128};
        }
        int shares = nsk_low_tensor_at(lowered, l->out)->shares;
        if (shares != NSK_NONE) {
            scales[l->out] = scales[shares];
        }
    }
}

static nsk_scale *choose_scales(const nsk_network *network, const nsk_lowered *lowered,
                                const nsk_images *calibration, nsk_error *error) {
    int tensors = (int)lowered->tensors->len;
    int *values = g_new(int, tensors);
    for (int i = 0; i < tensors; i++) {
        values[i] = nsk_low_tensor_at(lowered, i)->value;
    }
    nsk_range *ranges = nsk_ranges_observe(network->graph, values, tensors, calibration,
                                           &nsk_range_extremes, error);
    g_free(values);
    if (ranges == NULL) {
        return NULL;
    }
    nsk_scale *scales = g_new(nsk_scale, tensors);
    for (int i = 0; i < tensors; i++) {
        scales[i] = nsk_scale_of(ranges[i]);
    }
    g_free(ranges);
    pin_scales(lowered, nsk_images_input(calibration), scales);
    return scales;
}

static nsk_integer_layer *make_layers(const nsk_lowered *lowered, const nsk_scale *scales,
                                      nsk_error *error) {
    int count = (int)lowered->layers->len;
    nsk_integer_layer *layers = g_new0(nsk_integer_layer, (gsize)count + 1);
    for (int i = 0; i < count; i++) {
        const nsk_low_layer *l = nsk_low_layer_at(lowered, i);
        layers[i].channels = nsk_low_tensor_at(lowered, l->out)->channels;
        nsk_scale second = scales[l->second == NSK_NONE ? l->in : l->second];
        if (!nsk_integer_layer_make(l, scales[l->in], second, scales[l->out], &layers[i], error)) {
            for (int k = 0; k <= i; k++) {
                nsk_integer_layer_clear(&layers[k]);
            }
            g_free(layers);
            return NULL;
        }
    }
    return layers;
}

/* A tensor lives from the layer that writes it to the last that reads it; the input from before the
 * first layer, the output to behind the last. */
static nsk_buffer *make_buffers(const nsk_lowered *lowered) {
    int tensors = (int)lowered->tensors->len;
    int layers = (int)lowered->layers->len;
    nsk_buffer *buffers = g_new0(nsk_buffer, tensors);
    for (int i = 0; i < tensors; i++) {
        const nsk_low_tensor *t = nsk_low_tensor_at(lowered, i);
        buffers[i].bytes = (uint32_t)(t->height * t->width * t->channels);
    }
    for (int i = 0; i < layers; i++) {
        const nsk_low_layer *l = nsk_low_layer_at(lowered, i);
        buffers[l->in].last = i + 1;
        if (l->second != NSK_NONE) {
            buffers[l->second].last = i + 1;
        }
        buffers[l->out].first = buffers[l->out].last = i + 1;
    }
    buffers[lowered->output].last = layers + 1;
    return buffers;
}

static nsk_model_file *build(const nsk_network *network, const nsk_lowered *lowered,
                             const nsk_images *calibration, nsk_error *error) {
    nsk_scale *scales = choose_scales(network, lowered, calibration, error);
    nsk_integer_layer *layers = scales != NULL ? make_layers(lowered, scales, error) : NULL;
    nsk_model_file *file = NULL;
    if (layers != NULL) {
        int tensors = (int)lowered->tensors->len;
        nsk_buffer *buffers = make_buffers(lowered);
        uint32_t workspace = nsk_plan_place(buffers, tensors);
        uint32_t *places = g_new(uint32_t, tensors);
        for (int i = 0; i < tensors; i++) {
            places[i] = buffers[i].place;
        }
        char *name = nsk_stem(network->path);
        const nsk_model_parts parts = {.name = name,
                                       .labels = nsk_images_labels(calibration),
                                       .input = nsk_images_input(calibration),
                                       .lowered = lowered,
                                       .scales = scales,
                                       .layers = layers,
                                       .places = places,
                                       .workspace = workspace,
                                       .lower_bound = nsk_plan_lower_bound(buffers, tensors)};
        file = nsk_model_write(&parts, error);
        for (int i = 0; i < (int)lowered->layers->len; i++) {
            nsk_integer_layer_clear(&layers[i]);
        }
        g_free(name);
        g_free(places);
        g_free(buffers);
    }
    g_free(layers);
    g_free(scales);
    return file;
}

nsk_model_file *nsk_quantise(const nsk_network *network, const nsk_images *calibration,
                             nsk_error *error) {
    if (!nsk_network_takes(network, calibration, error)) {
        return NULL;
    }
    nsk_lowered *lowered = nsk_lower(network->graph, error);
    if (lowered == NULL) {
        nsk_fail_in(error, "%s", network->path);
        return NULL;
    }
    nsk_model_file *file = build(network, lowered, calibration, error);
    nsk_lowered_free(lowered);
    return file;
}
