#include "quantise/equalise.h"

#include <math.h>

#include "float/forward.h"

/* Two layers and the channels between them. */
typedef struct seam {
    nsk_node *first, *second;
    int channels;
    float *most; /* the largest magnitude of each channel on the images */
} seam;

/* ---- the weights of a layer, by channel ---- */

/* Weights of a Conv as [out][in of the group][taps]; of a Gemm as [out][in], or turned over. */
typedef struct weights {
    nsk_value *value;
    int outputs, inputs, taps, groups; /* inputs of a group */
    bool turned;
} weights;

static bool weights_of(const nsk_graph *g, const nsk_node *node, weights *w) {
    bool conv = node->op == NSK_OP_CONV;
    if ((!conv && node->op != NSK_OP_GEMM) || node->inputs < 2 ||
        !nsk_graph_is_constant(g, node->input[1])) {
        return false;
    }
    w->value = nsk_graph_value(g, node->input[1]);
    const int64_t *dims = w->value->dims;
    w->turned = !conv && !node->attributes.transpose_b;
    w->outputs = (int)dims[w->turned ? 1 : 0];
    w->inputs = (int)dims[w->turned ? 0 : 1];
    w->groups = conv ? (int)node->attributes.window.groups : 1;
    w->taps = (int)(nsk_value_count(w->value) / ((size_t)w->outputs * (size_t)w->inputs));
    return nsk_graph_readers(g, node->input[1]) == 1 && w->value->steps == NULL &&
           w->value->data != NULL && (conv || !node->attributes.transpose_a);
}

static float *weight_at(const weights *w, int output, int input, int tap) {
    size_t at = w->turned ? (size_t)input * (size_t)w->outputs + (size_t)output
                          : ((size_t)output * (size_t)w->inputs + (size_t)input) * (size_t)w->taps +
                                (size_t)tap;
    return &w->value->data[at];
}

/* The channel of the layer's input that an output's input stands for. */
static int channel_of(const weights *w, int output, int input) {
    return output / (w->outputs / w->groups) * w->inputs + input;
}

/* ---- finding seams ---- */

/* Multiplying its input by a positive number multiplies its output, channel by channel. */
static bool passes_channels(const nsk_graph *g, const nsk_node *node) {
    switch (node->op) {
    case NSK_OP_MAX_POOL:
    case NSK_OP_AVERAGE_POOL:
    case NSK_OP_GLOBAL_AVERAGE_POOL:
    case NSK_OP_GLOBAL_MAX_POOL:
    case NSK_OP_RELU:
        return true;
    case NSK_OP_FLATTEN:
    case NSK_OP_RESHAPE: { /* of one pixel */
        const nsk_value *in = nsk_node_input(g, node, 0);
        return in->rank == 4 && in->dims[2] == 1 && in->dims[3] == 1;
    }
    default:
        return false;
    }
}

/* A clamp at nothing but zero stays where it is. */
static bool scales_freely(const nsk_node *node) {
    return isinf(node->high) && (isinf(node->low) || fabs(node->low) <= 0.0);
}

static nsk_node *only_reader(const nsk_graph *g, int value) {
    nsk_node *found = NULL;
    if (nsk_graph_readers(g, value) != 1 || value == g->output) {
        return NULL;
    }
    for (int i = 0; i < (int)g->nodes->len; i++) {
        nsk_node *node = nsk_graph_node(g, i);
        if (!node->dead && node->input[0] == value) {
            found = node;
        }
    }
    return found;
}

static bool bias_is_own(const nsk_graph *g, const nsk_node *node) {
    return node->inputs < 3 || node->input[2] == NSK_NONE ||
           (nsk_graph_is_constant(g, node->input[2]) && nsk_graph_readers(g, node->input[2]) == 1);
}

static bool find_seam(const nsk_graph *g, nsk_node *first, seam *s) {
    weights a;
    weights b;
    if (first->dead || !weights_of(g, first, &a) || !bias_is_own(g, first) ||
        !scales_freely(first) || nsk_graph_value(g, first->output)->pinned) {
        return false;
    }
    nsk_node *next = only_reader(g, first->output);
    while (next != NULL && passes_channels(g, next) && scales_freely(next)) {
        next = only_reader(g, next->output);
    }
    if (next == NULL || !weights_of(g, next, &b) || a.outputs != b.inputs * b.groups) {
        return false;
    }
    s->first = first;
    s->second = next;
    s->channels = a.outputs;
    s->most = NULL;
    return true;
}

/* ---- what the channels take ---- */

static void observe(const nsk_graph *g, const nsk_pass *pass, const seam *s) {
    const nsk_value *v = nsk_graph_value(g, s->first->output);
    const float *x = nsk_pass_value(pass, s->first->output);
    size_t count = nsk_value_count(v);
    size_t each = count / (size_t)s->channels;
    for (size_t i = 0; i < count; i++) {
        float *most = &s->most[i / each];
        *most = fmaxf(*most, fabsf(x[i]));
    }
}

static bool observe_all(const nsk_graph *g, const seam *seams, int count, const nsk_images *images,
                        nsk_error *error) {
    nsk_pass *pass = nsk_pass_new(g, error);
    if (pass == NULL) {
        return false;
    }
    uint8_t *frame = g_malloc(nsk_images_frame_bytes(images));
    bool good = true;
    for (int i = 0; i < nsk_images_count(images) && good; i++) {
        good = nsk_images_frame(images, i, frame, error);
        if (good) {
            nsk_float_prepare(g, nsk_images_input(images), frame, nsk_pass_input(pass));
            nsk_pass_run(pass);
        }
        for (int k = 0; k < count && good; k++) {
            observe(g, pass, &seams[k]);
        }
    }
    g_free(frame);
    nsk_pass_free(pass);
    return good;
}

/* ---- evening out ---- */

/* How much of an output's largest share a channel makes up, in the output where that is most:
 * shares are weight times what the channel takes. */
static void weigh_channels(const nsk_graph *g, const seam *s, float *share) {
    weights b;
    weights_of(g, s->second, &b);
    for (int o = 0; o < b.outputs; o++) {
        float largest = 0.0F;
        for (int pass = 0; pass < 2; pass++) {
            for (int i = 0; i < b.inputs; i++) {
                int c = channel_of(&b, o, i);
                for (int t = 0; t < b.taps; t++) {
                    float part = fabsf(*weight_at(&b, o, i, t)) * s->most[c];
                    largest = pass == 0 ? fmaxf(largest, part) : largest;
                    share[c] =
                        pass == 1 && largest > 0.0F ? fmaxf(share[c], part / largest) : share[c];
                }
            }
        }
    }
}

static void multiply(const nsk_graph *g, const seam *s, const float *factor) {
    weights a;
    weights b;
    weights_of(g, s->first, &a);
    weights_of(g, s->second, &b);
    for (int o = 0; o < a.outputs; o++) {
        for (int i = 0; i < a.inputs; i++) {
            for (int t = 0; t < a.taps; t++) {
                *weight_at(&a, o, i, t) *= factor[o];
            }
        }
    }
    if (s->first->inputs > 2 && s->first->input[2] != NSK_NONE) {
        nsk_value *bias = nsk_graph_value(g, s->first->input[2]);
        for (int o = 0; o < a.outputs; o++) {
            bias->data[o] *= factor[o];
        }
    }
    for (int o = 0; o < b.outputs; o++) {
        for (int i = 0; i < b.inputs; i++) {
            for (int t = 0; t < b.taps; t++) {
                *weight_at(&b, o, i, t) /= factor[channel_of(&b, o, i)];
            }
        }
    }
}

/* The fewer images, the less is known of what a channel takes at most, and a channel that is evened
 * out has no room left: so many images count half. */
static const float HALF_KNOWN = 8.0F;

static void equalise(const nsk_graph *g, const seam *s, int images) {
    const float known = (float)images / ((float)images + HALF_KNOWN);
    float *share = g_new0(float, s->channels);
    float *factor = g_new0(float, s->channels);
    weigh_channels(g, s, share);
    for (int c = 0; c < s->channels; c++) {
        bool alive = s->most[c] > 1e-12F && share[c] > 1e-12F;
        factor[c] = alive ? powf(sqrtf(share[c]) / s->most[c], known) : 1.0F;
    }
    multiply(g, s, factor);
    g_free(share);
    g_free(factor);
}

int nsk_graph_equalise(nsk_graph *graph, const nsk_images *images, nsk_error *error) {
    seam *seams = g_new0(seam, graph->nodes->len + 1);
    int count = 0;
    for (int i = 0; i < (int)graph->nodes->len; i++) {
        if (find_seam(graph, nsk_graph_node(graph, i), &seams[count])) {
            seams[count].most = g_new0(float, seams[count].channels);
            count++;
        }
    }
    bool good = observe_all(graph, seams, count, images, error);
    for (int i = 0; i < count; i++) {
        if (good) {
            equalise(graph, &seams[i], nsk_images_count(images));
        }
        g_free(seams[i].most);
    }
    g_free(seams);
    return good ? count : -1;
}
