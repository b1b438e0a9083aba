#include "passes/ranges.h"

#include <math.h>
#include <string.h>

#include "float/forward.h"
#include "lowered/integer.h"
#include "network/observe.h"

static const double TAIL = 5e-5; /* what a percentile leaves out at either end */

/* ---- observing ---- */

typedef struct observation {
    const nsk_graph *graph;
    const int *values;
    int count;
    const nsk_images *images;
} observation;

static nsk_histogram *new_histograms(int count) {
    nsk_histogram *all = g_new(nsk_histogram, count);
    for (int i = 0; i < count; i++) {
        nsk_histogram_start(&all[i]);
    }
    return all;
}

static void observe(const observation *o, const nsk_pass *pass, nsk_histogram *to) {
    for (int i = 0; i < o->count; i++) {
        size_t count = nsk_value_count(nsk_graph_value(o->graph, o->values[i]));
        nsk_histogram_add(&to[i], nsk_pass_value(pass, o->values[i]), count);
    }
}

static bool all_finite(const observation *o, const nsk_histogram *all, nsk_error *error) {
    for (int i = 0; i < o->count; i++) {
        if (!isfinite(all[i].low) || !isfinite(all[i].high)) {
            return nsk_fail(error,
                            "tensor '%s' takes numbers that are not finite; check the "
                            "preparation and the weights",
                            nsk_graph_value(o->graph, o->values[i])->name);
        }
    }
    return true;
}

nsk_histogram *nsk_ranges_observe(const nsk_graph *graph, const int *values, int count,
                                  const nsk_images *images, nsk_error *error) {
    const observation o = {graph, values, count, images};
    nsk_histogram *total = new_histograms(count);
    bool good = true;
#pragma omp parallel
    {
        nsk_error fault;
        nsk_pass *pass = nsk_pass_new(graph, &fault);
        uint8_t *frame = g_malloc(nsk_images_frame_bytes(images));
        nsk_histogram *own = new_histograms(count);
        bool fine = pass != NULL;
#pragma omp for schedule(dynamic, 4)
        for (int i = 0; i < nsk_images_count(images); i++) {
            fine = fine && nsk_observe_image(graph, pass, images, i, frame, &fault);
            if (fine) {
                observe(&o, pass, own);
            }
        }
#pragma omp critical
        {
            if (!fine && good) {
                good = false;
                nsk_error_copy(error, &fault);
            }
            for (int i = 0; i < count; i++) {
                nsk_histogram_merge(&total[i], &own[i]);
            }
        }
        nsk_pass_free(pass);
        g_free(frame);
        g_free(own);
    }
    if (!good || !all_finite(&o, total, error)) {
        g_free(total);
        return NULL;
    }
    return total;
}

/* ---- choosing ---- */

enum { CANDIDATES = 4, TRIED_IMAGES = 24 };

static nsk_range range_by(const nsk_histogram *h, nsk_range_method method,
                          const nsk_lowered_layer *reader) {
    switch (method) {
    case NSK_RANGE_METHOD_PERCENTILE:
        return nsk_range_percentile(h, TAIL);
    case NSK_RANGE_METHOD_SQUARED_ERROR:
        return nsk_range_squared_error(h, reader);
    case NSK_RANGE_METHOD_DIVERGENCE:
        return nsk_range_divergence(h);
    default:
        return nsk_range_extremes(h);
    }
}

/* One thread's trying. */
typedef struct trial {
    const observation *o;
    nsk_pass *pass;
    int scores;      /* the value that softmax takes, or the output */
    float *expected; /* the scores of the image at hand */
    float *kept;     /* the numbers of the tensor at hand */
    double *errors;  /* [value][candidate], summed over images */
} trial;

static int scores_of(const nsk_graph *graph) {
    const nsk_node *last = nsk_graph_producer(graph, graph->output);
    return last != NULL && last->op == NSK_OP_SOFTMAX ? last->input[0] : graph->output;
}

static void round_to(float *numbers, size_t count, nsk_range range) {
    nsk_scale scale = nsk_scale_of(range);
    for (size_t i = 0; i < count; i++) {
        float level = floorf(numbers[i] / scale.scale + 0.5F) + (float)scale.zero;
        level = level < -128.0F ? -128.0F : level > 127.0F ? 127.0F : level;
        numbers[i] = scale.scale * (level - (float)scale.zero);
    }
}

static double moved_by(const trial *t) {
    const float *now = nsk_pass_value(t->pass, t->scores);
    size_t count = nsk_value_count(nsk_graph_value(t->o->graph, t->scores));
    double sum = 0.0;
    for (size_t i = 0; i < count; i++) {
        double by = (double)now[i] - (double)t->expected[i];
        sum += by * by;
    }
    return sum;
}

/* Rounds one tensor in each way and adds how far the scores move. */
static void try_value(const trial *t, int index, const nsk_range *candidates) {
    int value = t->o->values[index];
    float *numbers = nsk_pass_memory(t->pass, value);
    size_t count = nsk_value_count(nsk_graph_value(t->o->graph, value));
    if (numbers == NULL) {
        return;
    }
    memcpy(t->kept, numbers, count * sizeof *numbers);
    for (int c = 0; c < CANDIDATES; c++) {
        round_to(numbers, count, candidates[c]);
        nsk_pass_run_behind(t->pass, value);
        t->errors[index * CANDIDATES + c] += moved_by(t);
        memcpy(numbers, t->kept, count * sizeof *numbers);
    }
    nsk_pass_run_behind(t->pass, value);
}

static void try_image(trial *t, const nsk_range *candidates, const bool *wanted) {
    size_t scores = nsk_value_count(nsk_graph_value(t->o->graph, t->scores));
    memcpy(t->expected, nsk_pass_value(t->pass, t->scores), scores * sizeof *t->expected);
    for (int i = 0; i < t->o->count; i++) {
        if (wanted[i]) {
            try_value(t, i, candidates + i * CANDIDATES);
        }
    }
}

static size_t largest_value(const nsk_graph *graph) {
    size_t most = 1;
    for (int i = 0; i < (int)graph->values->len; i++) {
        const nsk_value *v = nsk_graph_value(graph, i);
        most = v->shaped ? MAX(most, nsk_value_count(v)) : most;
    }
    return most;
}

/* The errors of every candidate over some images, spread over the set. */
static bool try_all(const observation *o, const nsk_range *candidates, const bool *wanted,
                    double *errors, nsk_error *error) {
    int images = nsk_images_count(o->images);
    int tried = MIN(images, TRIED_IMAGES);
    size_t each = (size_t)o->count * CANDIDATES;
    double *by_image = g_new0(double, each *(size_t)tried);
    bool good = true;
#pragma omp parallel
    {
        nsk_error fault;
        trial t = {.o = o, .scores = scores_of(o->graph)};
        t.pass = nsk_pass_new(o->graph, &fault);
        t.kept = g_new(float, largest_value(o->graph));
        t.expected = g_new(float, largest_value(o->graph));
        uint8_t *frame = g_malloc(nsk_images_frame_bytes(o->images));
        bool fine = t.pass != NULL;
#pragma omp for schedule(dynamic, 1)
        for (int k = 0; k < tried; k++) {
            t.errors = by_image + (size_t)k * each;
            fine = fine && nsk_observe_image(o->graph, t.pass, o->images,
                                             (int)((int64_t)k * images / tried), frame, &fault);
            if (fine) {
                try_image(&t, candidates, wanted);
            }
        }
#pragma omp critical
        if (!fine && good) {
            good = false;
            nsk_error_copy(error, &fault);
        }
        nsk_pass_free(t.pass);
        g_free(t.kept);
        g_free(t.expected);
        g_free(frame);
    }
    for (int k = 0; k < tried; k++) { /* in their order, so that sums are the same each time */
        for (size_t i = 0; i < each; i++) {
            errors[i] += by_image[(size_t)k * each + i];
        }
    }
    g_free(by_image);
    return good;
}

nsk_range *nsk_ranges_choose(const nsk_graph *graph, const int *values, int count,
                             const nsk_range_method *methods,
                             const nsk_lowered_layer *const *readers, const nsk_images *images,
                             nsk_error *error) {
    const observation o = {graph, values, count, images};
    nsk_histogram *observed = nsk_ranges_observe(graph, values, count, images, error);
    if (observed == NULL) {
        return NULL;
    }
    nsk_range *candidates = g_new0(nsk_range, (gsize)count * CANDIDATES);
    nsk_range *ranges = g_new0(nsk_range, count);
    double *errors = g_new0(double, (gsize)count *CANDIDATES);
    bool *wanted = g_new0(bool, count);
    bool any = false;
#pragma omp parallel for schedule(dynamic, 1)
    for (int i = 0; i < count; i++) {
        ranges[i] = range_by(&observed[i], methods[i], readers[i]);
        wanted[i] = methods[i] == NSK_RANGE_METHOD_AUTO;
        for (int c = 0; wanted[i] && c < CANDIDATES; c++) {
            candidates[i * CANDIDATES + c] = range_by(
                &observed[i], (nsk_range_method)(NSK_RANGE_METHOD_EXTREMES + c), readers[i]);
        }
    }
    for (int i = 0; i < count; i++) {
        any = any || wanted[i];
    }
    bool good = !any || try_all(&o, candidates, wanted, errors, error);
    for (int i = 0; i < count; i++) {
        int best = 0;
        for (int c = 1; c < CANDIDATES; c++) {
            best = errors[i * CANDIDATES + c] < errors[i * CANDIDATES + best] ? c : best;
        }
        ranges[i] = wanted[i] ? candidates[i * CANDIDATES + best] : ranges[i];
    }
    g_free(observed);
    g_free(candidates);
    g_free(errors);
    g_free(wanted);
    if (!good) {
        g_free(ranges);
        return NULL;
    }
    return ranges;
}
