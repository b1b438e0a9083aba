#include "bound.h"

#include <math.h>

typedef struct reach {
    double off;  /* how far its numbers may be from the float ones */
    double most; /* the largest magnitude of its numbers */
} reach;

static double largest(const float *numbers, size_t count) {
    double most = 0.0;
    for (size_t i = 0; i < count; i++) {
        most = fmax(most, fabs((double)numbers[i]));
    }
    return most;
}

/* The weights' sums decide how much of the input's error arrives, their rounding (half of 1/127 of
 * a channel's largest) meets the largest input. */
static double through_weights(const nsk_lowered_layer *l, int channels, reach in) {
    double worst = 0.0;
    for (int c = 0; c < channels; c++) {
        double sum = 0.0;
        double most = 0.0;
        for (int t = 0; t < l->taps; t++) {
            int at = l->kind == NSK_KIND_DEPTHWISE ? t * channels + c : c * l->taps + t;
            sum += fabs((double)l->weights[at]);
            most = fmax(most, fabs((double)l->weights[at]));
        }
        worst = fmax(worst, sum * in.off + l->taps * most / 254.0 * (in.most + in.off));
    }
    return worst;
}

/* The most that the function changes when its argument is off. */
static double through_function(const nsk_lowered_layer *l, nsk_scale in, double off) {
    double worst = 0.0;
    for (int q = -128; q < 128; q++) {
        double x = (double)in.scale * (q - in.zero);
        for (int k = -8; k <= 8; k++) {
            double y = x + off * k / 8.0;
            double here = l->program != NULL ? nsk_program_at(l->program, x) : x;
            double there = l->program != NULL ? nsk_program_at(l->program, y) : y;
            double change =
                fabs(fmin(fmax(here, l->low), l->high) - fmin(fmax(there, l->low), l->high));
            worst = isfinite(change) ? fmax(worst, change) : worst;
        }
    }
    return worst;
}

/* Without a lower bound of the deviation nothing can be said of what is next to none: that of two
 * levels is assumed. A change of the input arrives divided by it, and what it changes of the
 * deviation itself, times the number, which is sqrt(n) at the most. */
static double through_deviation(const nsk_lowered_layer *l, int channels, reach in,
                                nsk_scale scale) {
    double root = sqrt((double)l->block);
    double deviation = fmax(sqrt(l->variance), 2.0 * (double)scale.scale);
    double z = fmin(root, 2.0 * in.most / deviation);
    double gain = 0.0;
    for (int c = 0; c < channels; c++) {
        gain = fmax(gain, fabs((double)l->gains[c]));
    }
    return gain * ((2.0 + z) * in.off / deviation + z / 1024.0 + 1.0 / 1024.0);
}

static double through_layer(const nsk_lowered_layer *l, int channels, const reach *tensors,
                            const nsk_scale *scales) {
    reach in = tensors[l->in];
    reach second = tensors[l->second == NSK_NONE ? l->in : l->second];
    double area = (double)(l->window.kernel[0] * l->window.kernel[1]);
    switch (l->kind) {
    case NSK_KIND_CONV:
    case NSK_KIND_DEPTHWISE:
    case NSK_KIND_DENSE:
    case NSK_KIND_CONV_TRANSPOSE:
        return through_weights(l, channels, in);
    case NSK_KIND_AVERAGE_POOL:
        return l->total ? in.off * area : in.off;
    case NSK_KIND_ADD:
        return in.off + second.off;
    case NSK_KIND_MAX:
    case NSK_KIND_MIN:
        return fmax(in.off, second.off);
    case NSK_KIND_MATMUL: /* each of its products */
    case NSK_KIND_MULTIPLY:
        return in.most * second.off + second.most * in.off + in.off * second.off;
    case NSK_KIND_LUT:
        return through_function(l, scales[l->in], in.off);
    case NSK_KIND_SOFTMAX: /* its slope is p (1 - p) at most twice; the top score is 255/256 */
        return in.off / 2.0 + 1.0 / 256.0;
    case NSK_KIND_SCORES: /* their sum is cut to sixteen bits */
        return l->shares ? in.off / 2.0 + 0x1p-14 : l->each ? in.off / 4.0 + 0x1p-14 : in.off;
    case NSK_KIND_NORMALISE: /* by sqrt(n) deviations at the most, and by both at once */
    case NSK_KIND_NORMALISE_WHOLE:
    case NSK_KIND_NORMALISE_FINE:
        return through_deviation(l, channels, in, scales[l->in]);
    case NSK_KIND_CONSTANT:
        return 0.0;
    default:
        return in.off;
    }
}

double bound_of(const nsk_lowered *lowered, const nsk_scale *scales, const nsk_pass *pass,
                const nsk_graph *graph) {
    int count = (int)lowered->tensors->len;
    reach *tensors = g_new0(reach, count);
    for (int i = 0; i < count; i++) {
        int value = nsk_lowered_tensor_at(lowered, i)->value;
        tensors[i].most =
            largest(nsk_pass_value(pass, value), nsk_value_count(nsk_graph_value(graph, value)));
    }
    tensors[0].off = (double)scales[0].scale / 2.0;
    for (int i = 0; i < (int)lowered->layers->len; i++) {
        const nsk_lowered_layer *l = nsk_lowered_layer_at(lowered, i);
        for (int t = 0; t < count; t++) { /* other shapes of tensors that are known by now */
            int root = nsk_lowered_tensor_root(lowered, t);
            tensors[t].off = root != t ? tensors[root].off : tensors[t].off;
        }
        int channels = nsk_lowered_tensor_at(lowered, l->out)->channels;
        int products =
            l->kind == NSK_KIND_MATMUL ? nsk_lowered_tensor_at(lowered, l->in)->channels : 1;
        double factor = l->kind == NSK_KIND_MATMUL && l->factor > 0.0 ? l->factor : 1.0;
        double off = factor * products * through_layer(l, channels, tensors, scales) +
                     (double)scales[l->out].scale;
        tensors[l->out].off = fmax(tensors[l->out].off, off);
    }
    double off = tensors[nsk_lowered_tensor_root(lowered, lowered->output)].off;
    g_free(tensors);
    return off;
}
