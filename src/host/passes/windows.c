#include "passes/windows.h"

#include "lower/views.h"

enum { MOST_TAPS = 1280, MOST_WINDOWS = 48 };

/* Whether the value's elements can be found for the tensor's. */
static bool is_known(const nsk_graph *g, const nsk_lowered_tensor *t) {
    nsk_lowered_tensor plain;
    if (t->value == NSK_NONE || t->order == NSK_ORDER_OTHER) {
        return false;
    }
    const nsk_value *v = nsk_graph_value(g, t->value);
    return t->order == NSK_ORDER_OF_ONNX ||
           (nsk_plain_layout(v, &plain) && plain.height == t->height && plain.width == t->width &&
            plain.channels == t->channels);
}

/* A dense layer that was a convolution of the whole picture still has its window. */
static bool has_window(const nsk_lowered_layer *l) {
    return l->window.kernel[0] > 0;
}

static int groups_of(const nsk_graph *graph, const nsk_lowered_layer *l,
                     const nsk_lowered_tensor *in) {
    bool conv = l->kind == NSK_KIND_CONV || l->kind == NSK_KIND_CONV_FINE;
    bool fits = (conv || nsk_lowered_is_depthwise(l) || l->kind == NSK_KIND_DENSE) &&
                l->steps == NULL && l->taps <= MOST_TAPS && is_known(graph, in) &&
                (l->kind != NSK_KIND_DENSE || in->height * in->width == 1 || has_window(l));
    return !fits                         ? 0
           : conv                        ? (int)l->window.groups
           : nsk_lowered_is_depthwise(l) ? in->channels
                                         : 1;
}

/* The pixels of the window of output pixel `at`. */
static void find_places(const nsk_lowered_layer *l, const nsk_lowered_tensor *in,
                        const nsk_lowered_tensor *out, int at, int32_t *pixel) {
    const nsk_window_attributes *w = &l->window;
    for (int ky = 0; ky < (int)w->kernel[0]; ky++) {
        for (int kx = 0; kx < (int)w->kernel[1]; kx++) {
            int64_t row = at / out->width * w->stride[0] - w->pad_before[0] + ky * w->dilation[0];
            int64_t column =
                at % out->width * w->stride[1] - w->pad_before[1] + kx * w->dilation[1];
            bool inside = row >= 0 && row < in->height && column >= 0 && column < in->width;
            *pixel++ = inside ? (int32_t)(row * in->width + column) : NSK_NONE;
        }
    }
}

void nsk_windows_of(const nsk_graph *graph, const nsk_lowered *lowered, int layer,
                    nsk_windows *to) {
    const nsk_lowered_layer *l = nsk_lowered_layer_at(lowered, layer);
    const nsk_lowered_tensor *in = nsk_lowered_tensor_at(lowered, l->in);
    const nsk_lowered_tensor *out = nsk_lowered_tensor_at(lowered, l->out);
    *to = (nsk_windows){.groups = groups_of(graph, l, in)};
    if (to->groups == 0) {
        return;
    }
    int all = out->height * out->width;
    to->channels = in->channels / to->groups;
    to->places = has_window(l) ? (int)(l->window.kernel[0] * l->window.kernel[1]) : 1;
    to->taps = to->places * to->channels;
    to->count = l->kind == NSK_KIND_DENSE ? 1 : MIN(all, MOST_WINDOWS);
    bool last = in->order == NSK_ORDER_OF_ONNX ||
                nsk_plain_planes(nsk_graph_value(graph, in->value)).planes == 1;
    to->channel_step = last ? 1 : in->height * in->width;
    to->pixel_step = last ? in->channels : 1;
    to->pixel = g_new0(int32_t, (gsize)to->count * (gsize)to->places);
    for (int i = 0; i < to->count && has_window(l); i++) {
        int at = (int)((int64_t)i * all / to->count);
        find_places(l, in, out, at, to->pixel + (size_t)i * (size_t)to->places);
    }
}

void nsk_windows_clear(nsk_windows *windows) {
    g_free(windows->pixel);
    windows->pixel = NULL;
}
