#include "passes/equalise.h"

#include <math.h>

#include "float/forward.h"
#include "network/observe.h"
#include "passes/seam.h"

typedef struct seam {
    nsk_seam at;
    float *low, *high; /* of each channel of the first's output, on the images */
} seam;

static float most_of(const seam *s, int channel) {
    return fmaxf(fabsf(s->low[channel]), fabsf(s->high[channel]));
}

/* ---- what the channels take ---- */

static void observe(const nsk_graph *g, const nsk_pass *pass, const seam *s) {
    const nsk_value *v = nsk_graph_value(g, s->at.first->output);
    const float *x = nsk_pass_value(pass, s->at.first->output);
    size_t count = nsk_value_count(v);
    size_t each = count / (size_t)s->at.channels;
    for (size_t c = 0; c * each < count; c++, x += each) {
        float low = s->low[c];
        float high = s->high[c];
        for (size_t i = 0; i < each; i++) {
            low = x[i] < low ? x[i] : low; /* what is not a number changes nothing */
            high = x[i] > high ? x[i] : high;
        }
        s->low[c] = low;
        s->high[c] = high;
    }
}

static float *new_limits(int channels, float start) {
    float *limits = g_new(float, channels);
    for (int c = 0; c < channels; c++) {
        limits[c] = start;
    }
    return limits;
}

static seam *own_seams(const seam *seams, int count) {
    seam *own = g_new(seam, count + 1);
    for (int k = 0; k < count; k++) {
        int channels = seams[k].at.channels;
        own[k] =
            (seam){seams[k].at, new_limits(channels, INFINITY), new_limits(channels, -INFINITY)};
    }
    return own;
}

static void merge(const seam *all, const seam *own) {
    for (int c = 0; c < all->at.channels; c++) {
        all->low[c] = fminf(all->low[c], own->low[c]);
        all->high[c] = fmaxf(all->high[c], own->high[c]);
    }
    g_free(own->low);
    g_free(own->high);
}

static int looked_at(const nsk_images *images) {
    return MIN(nsk_images_count(images), NSK_ENOUGH_IMAGES);
}

/* Extremes are the same in whatever order the pictures come. */
static bool observe_all(const nsk_graph *g, const seam *seams, int count, const nsk_images *images,
                        nsk_error *error) {
    bool good = true;
#pragma omp parallel
    {
        nsk_error fault;
        nsk_pass *pass = nsk_pass_new(g, &fault);
        uint8_t *frame = g_malloc(nsk_images_frame_bytes(images));
        seam *own = own_seams(seams, count);
        bool fine = pass != NULL;
#pragma omp for schedule(dynamic, 4)
        for (int i = 0; i < looked_at(images); i++) {
            const int image = nsk_spread_image(images, looked_at(images), i);
            fine = fine && nsk_observe_image(g, pass, images, image, frame, &fault);
            for (int k = 0; k < count && fine; k++) {
                observe(g, pass, &own[k]);
            }
        }
#pragma omp critical
        {
            if (!fine && good) {
                good = false;
                nsk_error_copy(error, &fault);
            }
            for (int k = 0; k < count; k++) {
                merge(&seams[k], &own[k]);
            }
        }
        g_free(own);
        g_free(frame);
        nsk_pass_free(pass);
    }
    return good;
}

/* ---- what they can take, whatever the picture ---- */

typedef struct interval {
    double low, high;
} interval;

/* Of every number of a value: cut off by what computes it, or the camera's bytes. */
static interval interval_of(const nsk_graph *g, const nsk_input *input, int value) {
    interval i = {INFINITY, -INFINITY};
    const nsk_node *node = nsk_graph_producer(g, value);
    if (value == g->input) {
        for (size_t c = 0; c < (input->colour == NSK_COLOUR_GREY ? 1 : 3); c++) {
            double ends[2] = {nsk_prepared(g, input, c, 0.0), nsk_prepared(g, input, c, 255.0)};
            i.low = fmin(i.low, fmin(ends[0], ends[1]));
            i.high = fmax(i.high, fmax(ends[0], ends[1]));
        }
    } else if (node != NULL) {
        nsk_clamp_of(g, node, &i.low, &i.high);
    }
    return i;
}

/* What channels of the first's output can be, before anything is cut off. */
static void find_bounds(const nsk_graph *g, const seam *s, const nsk_input *input,
                        interval *bounds) {
    nsk_seam_weights a;
    interval in = interval_of(g, input, s->at.first->input[0]);
    bool biased = s->at.first->inputs > 2 && s->at.first->input[2] != NSK_NONE;
    const nsk_value *bias = biased ? nsk_graph_value(g, s->at.first->input[2]) : NULL;
    nsk_seam_weights_of(g, s->at.first, &a);
    in.low = fmin(in.low, 0.0); /* margins */
    in.high = fmax(in.high, 0.0);
    for (int o = 0; o < a.outputs; o++) {
        double own = bias != NULL ? (double)bias->data[nsk_value_count(bias) > 1 ? o : 0] : 0.0;
        bounds[o] = (interval){own, own};
        for (int i = 0; i < a.inputs * a.taps; i++) {
            double w = (double)*nsk_seam_weight(&a, o, i / a.taps, i % a.taps);
            bounds[o].low += w > 0.0 ? w * in.low : w < 0.0 ? w * in.high : 0.0;
            bounds[o].high += w > 0.0 ? w * in.high : w < 0.0 ? w * in.low : 0.0;
        }
    }
}

/* ---- biases that keep a channel far from zero ---- */

static bool is_plain(const nsk_node *node) {
    const nsk_attributes *a = &node->attributes;
    return node->op != NSK_OP_GEMM || (fabs(a->alpha - 1.0) <= 0.0 && fabs(a->beta - 1.0) <= 0.0);
}

/* How far a channel can be moved towards zero. Where nothing is cut off, to its middle, if zero is
 * not among what it takes; where what is below zero is, as far as it can be shown never to come. */
static float shift_of(const seam *s, int channel, const interval *bounds) {
    if (isinf(s->at.floor)) {
        bool far = s->low[channel] > 0.0F || s->high[channel] < 0.0F;
        return far ? 0.5F * (s->low[channel] + s->high[channel]) : 0.0F;
    }
    return (float)fmax(bounds[channel].low, 0.0);
}

/* The second layer adds what the first lacks then. */
static void absorb(nsk_graph *g, const seam *s, const interval *bounds) {
    nsk_seam_weights b;
    nsk_seam_weights_of(g, s->at.second, &b);
    if (s->at.padded || !isinf(s->at.clip) || !is_plain(s->at.first) || !is_plain(s->at.second)) {
        return;
    }
    float *own = nsk_seam_biases(g, s->at.first, s->at.channels);
    float *next = nsk_seam_biases(g, s->at.second, b.outputs);
    for (int c = 0; c < s->at.channels && own != NULL && next != NULL; c++) {
        float shift = shift_of(s, c, bounds);
        own[c] -= shift;
        s->low[c] -= shift;
        s->high[c] -= shift;
        for (int o = 0; o < b.outputs && fabsf(shift) > 0.0F; o++) {
            for (int i = 0; i < b.inputs; i++) {
                for (int t = 0; nsk_seam_channel(&b, o, i) == c && t < b.taps; t++) {
                    next[o] += *nsk_seam_weight(&b, o, i, t) * shift;
                }
            }
        }
    }
}

/* ---- evening out ---- */

/* How much of an output's largest share a channel makes up, in the output where that is most:
 * shares are weight times what the channel takes. */
static void weigh_channels(const nsk_graph *g, const seam *s, float *share) {
    nsk_seam_weights b;
    nsk_seam_weights_of(g, s->at.second, &b);
    for (int o = 0; o < b.outputs; o++) {
        float largest = 0.0F;
        for (int pass = 0; pass < 2; pass++) {
            for (int i = 0; i < b.inputs; i++) {
                int c = nsk_seam_channel(&b, o, i);
                for (int t = 0; t < b.taps; t++) {
                    float part = fabsf(*nsk_seam_weight(&b, o, i, t)) * most_of(s, c);
                    largest = pass == 0 ? fmaxf(largest, part) : largest;
                    share[c] =
                        pass == 1 && largest > 0.0F ? fmaxf(share[c], part / largest) : share[c];
                }
            }
        }
    }
}

static void multiply(const nsk_graph *g, const seam *s, const float *factor) {
    nsk_seam_weights a;
    nsk_seam_weights b;
    nsk_seam_weights_of(g, s->at.first, &a);
    nsk_seam_weights_of(g, s->at.second, &b);
    for (int o = 0; o < a.outputs; o++) {
        for (int i = 0; i < a.inputs; i++) {
            for (int t = 0; t < a.taps; t++) {
                *nsk_seam_weight(&a, o, i, t) *= factor[o];
            }
        }
    }
    if (s->at.first->inputs > 2 && s->at.first->input[2] != NSK_NONE) {
        nsk_value *bias = nsk_graph_value(g, s->at.first->input[2]);
        for (int o = 0; o < a.outputs; o++) {
            bias->data[o] *= factor[o];
        }
    }
    for (int o = 0; o < b.outputs; o++) {
        for (int i = 0; i < b.inputs; i++) {
            for (int t = 0; t < b.taps; t++) {
                *nsk_seam_weight(&b, o, i, t) /= factor[nsk_seam_channel(&b, o, i)];
            }
        }
    }
}

/* The fewer images, the less is known of what a channel takes at most, and a channel that is
 * equalised out has no room left: so many images count half. */
static const float HALF_KNOWN = 8.0F;

/* A channel that may be cut off above keeps its size; one that cannot may grow as far as that. */
static float allowed(const seam *s, int channel, const interval *bounds, float factor) {
    if (isinf(s->at.clip)) {
        return factor;
    }
    double high = fmax(bounds[channel].high, 1e-12);
    return high < s->at.clip ? (float)fmin((double)factor, s->at.clip / high) : 1.0F;
}

static void equalise(const nsk_graph *g, const seam *s, const interval *bounds, int images) {
    const float known = (float)images / ((float)images + HALF_KNOWN);
    float *share = g_new0(float, s->at.channels);
    float *factor = g_new0(float, s->at.channels);
    weigh_channels(g, s, share);
    for (int c = 0; c < s->at.channels; c++) {
        float most = most_of(s, c);
        bool alive = most > 1e-12F && share[c] > 1e-12F;
        factor[c] = alive ? powf(sqrtf(share[c]) / most, known) : 1.0F;
        factor[c] = allowed(s, c, bounds, factor[c]);
    }
    multiply(g, s, factor);
    g_free(share);
    g_free(factor);
}

static void rewrite(nsk_graph *g, const seam *s, const nsk_images *images) {
    interval *bounds = g_new0(interval, s->at.channels);
    find_bounds(g, s, nsk_images_input(images), bounds);
    absorb(g, s, bounds);
    find_bounds(g, s, nsk_images_input(images), bounds);
    equalise(g, s, bounds, looked_at(images));
    g_free(bounds);
}

int nsk_graph_equalise(nsk_graph *graph, const nsk_images *images, nsk_error *error) {
    seam *seams = g_new0(seam, graph->nodes->len + 1);
    int count = 0;
    for (int i = 0; i < (int)graph->nodes->len; i++) {
        seam *s = &seams[count];
        if (nsk_seam_find(graph, nsk_graph_node(graph, i), &s->at)) {
            s->low = new_limits(s->at.channels, INFINITY);
            s->high = new_limits(s->at.channels, -INFINITY);
            count++;
        }
    }
    bool good = observe_all(graph, seams, count, images, error);
    for (int i = 0; i < count; i++) {
        if (good) {
            rewrite(graph, &seams[i], images);
        }
        g_free(seams[i].low);
        g_free(seams[i].high);
    }
    g_free(seams);
    return good ? count : -1;
}
