#include "quantise/ranges.h"

#include <math.h>

#include "float/forward.h"

static void extremes_start(void *state) {
    *(nsk_range *)state = (nsk_range){INFINITY, -INFINITY};
}

static void extremes_observe(void *state, const float *values, size_t count) {
    nsk_range range = *(nsk_range *)state;
    for (size_t i = 0; i < count; i++) {
        range.low = values[i] < range.low ? values[i] : range.low;
        range.high = values[i] > range.high ? values[i] : range.high;
    }
    *(nsk_range *)state = range;
}

static void extremes_merge(void *state, const void *other) {
    nsk_range *range = state;
    const nsk_range *more = other;
    range->low = fminf(range->low, more->low);
    range->high = fmaxf(range->high, more->high);
}

static nsk_range extremes_result(const void *state) {
    return *(const nsk_range *)state;
}

const nsk_range_method nsk_range_extremes = {
    "extremes",       sizeof(nsk_range), extremes_start,
    extremes_observe, extremes_merge,    extremes_result,
};

typedef struct observation {
    const nsk_graph *graph;
    const int *values;
    int count;
    const nsk_images *images;
    const nsk_range_method *method;
} observation;

static uint8_t *new_states(const observation *o) {
    uint8_t *states = g_malloc((size_t)o->count * o->method->state_bytes);
    for (int i = 0; i < o->count; i++) {
        o->method->start(states + (size_t)i * o->method->state_bytes);
    }
    return states;
}

static bool observe_image(const observation *o, nsk_pass *pass, int image, uint8_t *frame,
                          uint8_t *states, nsk_error *error) {
    if (!nsk_images_frame(o->images, image, frame, error)) {
        return false;
    }
    nsk_float_prepare(o->graph, nsk_images_input(o->images), frame, nsk_pass_input(pass));
    nsk_pass_run(pass);
    for (int i = 0; i < o->count; i++) {
        size_t count = nsk_value_count(nsk_graph_value(o->graph, o->values[i]));
        o->method->observe(states + (size_t)i * o->method->state_bytes,
                           nsk_pass_value(pass, o->values[i]), count);
    }
    return true;
}

nsk_range *nsk_ranges_observe(const nsk_graph *graph, const int *values, int count,
                              const nsk_images *images, const nsk_range_method *method,
                              nsk_error *error) {
    observation o = {graph, values, count, images, method};
    uint8_t *total = new_states(&o);
    bool good = true;
#pragma omp parallel
    {
        nsk_error trouble;
        nsk_pass *pass = nsk_pass_new(graph, &trouble);
        uint8_t *frame = g_malloc(nsk_images_frame_bytes(images));
        uint8_t *states = new_states(&o);
        bool fine = pass != NULL;
#pragma omp for schedule(dynamic, 4)
        for (int i = 0; i < nsk_images_count(images); i++) {
            fine = fine && observe_image(&o, pass, i, frame, states, &trouble);
        }
#pragma omp critical
        {
            if (!fine && good) {
                good = false;
                *error = trouble;
            }
            for (int i = 0; i < count; i++) {
                size_t at = (size_t)i * method->state_bytes;
                method->merge(total + at, states + at);
            }
        }
        nsk_pass_free(pass);
        g_free(frame);
        g_free(states);
    }
    nsk_range *ranges = g_new0(nsk_range, count);
    for (int i = 0; i < count && good; i++) {
        ranges[i] = method->result(total + (size_t)i * method->state_bytes);
        good = (isfinite(ranges[i].low) && isfinite(ranges[i].high)) ||
               nsk_fail(error,
                        "tensor '%s' takes numbers that are not finite; check the "
                        "preparation and the weights",
                        nsk_graph_value(graph, values[i])->name);
    }
    g_free(total);
    if (!good) {
        g_free(ranges);
        return NULL;
    }
    return ranges;
}
