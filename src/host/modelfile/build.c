/* From ranges to a model file. */
#include "modelfile/build.h"

#include <math.h>

#include "float/forward.h"
#include "modelfile/write.h"
#include "passes/schedule.h"

/* The input's range is what bytes can become, not what calibration happened to show: with one mean
 * and deviation the table from byte to level is then exact. */
static nsk_range input_range(const nsk_graph *graph, const nsk_input *input) {
    nsk_range range = {INFINITY, -INFINITY};
    for (size_t c = 0; c < (input->colour == NSK_COLOUR_GREY ? 1 : 3); c++) {
        double ends[2] = {nsk_prepared(graph, input, c, 0.0), nsk_prepared(graph, input, c, 255.0)};
        range.low = fminf(range.low, (float)fmin(ends[0], ends[1]));
        range.high = fmaxf(range.high, (float)fmax(ends[0], ends[1]));
    }
    return range;
}

/* Of a layer that ends in scores: units of 2^-30; or what is left of its input's, 22 bits finer. */
static bool scores_scale(const nsk_lowered_layer *l, const nsk_scale *scales, nsk_scale *scale) {
    *scale = (nsk_scale){l->shares || l->each ? 0x1p-30F : scales[l->in].scale * 0x1p-22F, 0};
    return l->kind == NSK_KIND_SCORES;
}

/* What a layer's output takes whatever calibration shows: a probability is 0/256 ... 255/256, and
 * so is a sigmoid; a hyperbolic tangent -128/128 ... 127/128. */
static bool known_scale(const nsk_lowered_layer *l, nsk_scale *scale) {
    static const nsk_scale share = {1.0F / 256.0F, -128};
    static const nsk_scale both_ways = {1.0F / 128.0F, 0};
    bool table = l->kind == NSK_KIND_LUT || l->kind == NSK_KIND_LUT_FINE;
    const nsk_program *p = table ? l->program : NULL;
    nsk_function last = p != NULL && p->count > 0 ? p->steps[p->count - 1].fn : NSK_FNS;
    *scale = last == NSK_FN_TANH ? both_ways : share;
    return l->kind == NSK_KIND_SOFTMAX || last == NSK_FN_SIGMOID || last == NSK_FN_TANH;
}

static void pin_scales(const nsk_graph *graph, const nsk_lowered *lowered, nsk_scale *scales) {
    for (int i = 0; i < (int)lowered->layers->len; i++) {
        const nsk_lowered_layer *l = nsk_lowered_layer_at(lowered, i);
        const nsk_value *v = nsk_graph_value(graph, nsk_lowered_tensor_at(lowered, l->out)->value);
        nsk_scale known;
        if (known_scale(l, &known) && (l->kind == NSK_KIND_SOFTMAX || !v->pinned)) {
            scales[l->out] = known;
        }
    }
    for (int i = 0; i < (int)lowered->tensors->len; i++) { /* from an earlier one */
        int shares = nsk_lowered_tensor_at(lowered, i)->shares;
        scales[i] = shares != NSK_NONE ? scales[shares] : scales[i];
    }
    for (int i = 0; i < (int)lowered->tensors->len; i++) { /* from a later one */
        bool slice = nsk_lowered_tensor_at(lowered, i)->slice;
        scales[i] = slice ? scales[nsk_lowered_tensor_root(lowered, i)] : scales[i];
    }
    for (int i = 0; i < (int)lowered->layers->len; i++) {
        const nsk_lowered_layer *l = nsk_lowered_layer_at(lowered, i);
        nsk_scale known;
        if (scores_scale(l, scales, &known)) {
            scales[l->out] = known;
        }
    }
}

/* Of int16 around 0, as logits are. */
static bool is_wide(const nsk_lowered_tensor *t) {
    return t->element == NSK_ELEMENT_16 && !t->fine;
}

/* The tensor whose scale this one takes over. */
static int scale_giver(const nsk_lowered *lowered, int tensor) {
    const nsk_lowered_tensor *t = nsk_lowered_tensor_at(lowered, tensor);
    return t->shares != NSK_NONE ? scale_giver(lowered, t->shares)
           : t->slice            ? scale_giver(lowered, t->alias_of)
                                 : tensor;
}

/* Widens what is too narrow for what makes it; whether any was. */
static bool widen_scales(const nsk_graph *graph, const nsk_lowered *lowered, nsk_scale *scales) {
    bool any = false;
    for (int i = 0; i < (int)lowered->layers->len; i++) {
        const nsk_lowered_layer *l = nsk_lowered_layer_at(lowered, i);
        const nsk_lowered_tensor *out = nsk_lowered_tensor_at(lowered, l->out);
        int giver = scale_giver(lowered, l->out);
        const nsk_value *v = nsk_graph_value(graph, nsk_lowered_tensor_at(lowered, giver)->value);
        bool pinned = is_wide(out) ? v->pinned_wide : v->pinned;
        double least = nsk_least_output_scale(l, out->channels, scales[l->in]);
        if (!pinned && least > (double)scales[giver].scale) {
            scales[giver].scale = (float)(least * (1.0 + 0x1p-20));
            any = true;
        }
    }
    return any;
}

nsk_scale *nsk_scales_of(const nsk_graph *graph, const nsk_lowered *lowered,
                         const nsk_range *ranges, const nsk_input *input) {
    int tensors = (int)lowered->tensors->len;
    nsk_scale *scales = g_new(nsk_scale, tensors);
    for (int i = 0; i < tensors; i++) {
        scales[i] = is_wide(nsk_lowered_tensor_at(lowered, i)) ? nsk_wide_scale_of(ranges[i])
                                                               : nsk_scale_of(ranges[i]);
    }
    scales[0] = nsk_scale_of(input_range(graph, input));
    for (int i = 0; i < tensors; i++) { /* the file's own levels */
        const nsk_value *v = nsk_graph_value(graph, nsk_lowered_tensor_at(lowered, i)->value);
        bool wide = is_wide(nsk_lowered_tensor_at(lowered, i));
        if (wide ? v->pinned_wide : v->pinned) {
            scales[i] = (nsk_scale){v->pinned_scale, v->pinned_zero};
        }
    }
    pin_scales(graph, lowered, scales);
    if (widen_scales(graph, lowered, scales)) {
        pin_scales(graph, lowered, scales);
    }
    return scales;
}

static nsk_integer_layer *make_layers(const nsk_lowered *lowered, const nsk_scale *scales,
                                      nsk_error *error) {
    int count = (int)lowered->layers->len;
    nsk_integer_layer *layers = g_new0(nsk_integer_layer, (gsize)count + 1);
    for (int i = 0; i < count; i++) {
        const nsk_lowered_layer *l = nsk_lowered_layer_at(lowered, i);
        const nsk_lowered_tensor *out = nsk_lowered_tensor_at(lowered, l->out);
        layers[i].channels = out->channels;
        layers[i].table_count = out->height + out->width;
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

nsk_model_file *nsk_model_build_on(const nsk_graph *graph, const nsk_lowered *lowered,
                                   const nsk_scale *scales, const char *const *facts,
                                   const nsk_labels *labels, const nsk_input *input,
                                   const nsk_schedule *schedule, const nsk_model *like,
                                   nsk_error *error) {
    nsk_integer_layer *layers = make_layers(lowered, scales, error);
    if (layers == NULL) {
        return NULL;
    }
    nsk_model_parts parts = {.labels = labels,
                             .input = input,
                             .graph = graph,
                             .lowered = lowered,
                             .scales = scales,
                             .layers = layers,
                             .schedule = schedule,
                             .like = like};
    for (int i = 0; i < NSK_FACTS; i++) {
        parts.facts[i] = facts[i];
    }
    nsk_model_file *file = nsk_model_write(&parts, error);
    for (int i = 0; i < (int)lowered->layers->len; i++) {
        nsk_integer_layer_clear(&layers[i]);
    }
    g_free(layers);
    return file;
}

nsk_model_file *nsk_model_build(const nsk_graph *graph, const nsk_lowered *lowered,
                                const nsk_scale *scales, const char *const *facts,
                                const nsk_labels *labels, const nsk_input *input,
                                const nsk_recipe *recipe, nsk_error *error) {
    nsk_recipe usual;
    nsk_recipe_init(&usual);
    nsk_schedule *schedule = nsk_schedule_make(lowered, recipe != NULL ? recipe : &usual);
    nsk_model_file *file =
        nsk_model_build_on(graph, lowered, scales, facts, labels, input, schedule, NULL, error);
    nsk_schedule_free(schedule);
    return file;
}
