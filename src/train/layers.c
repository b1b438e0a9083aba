#include "train/layers.h"

#include <cblas.h>
#include <math.h>
#include <string.h>

static const double NORM_EPSILON = 1e-5;

static size_t rows_of(const nsk_train_step *s) {
    return (size_t)s->pictures * (size_t)s->layer->height * (size_t)s->layer->width;
}

static size_t inputs_of(const nsk_train_step *s) {
    const nsk_train_layer *l = s->layer;
    return (size_t)s->pictures * (size_t)l->in_height * (size_t)l->in_width *
           (size_t)l->in_channels;
}

/* ---- convolution: unfold, then one matrix product ---- */

static bool is_pointwise(const nsk_train_layer *l) {
    return l->kernel == 1 && l->stride == 1;
}

/* Visits every tap of every output: copies input to columns, or adds columns back to the input. */
static void unfold(const nsk_train_step *s, float *columns, const float *input, float *fold_to) {
    const nsk_train_layer *l = s->layer;
    size_t c = (size_t)l->in_channels;
    for (int n = 0; n < s->pictures; n++) {
        for (int oy = 0; oy < l->height; oy++) {
            for (int ox = 0; ox < l->width; ox++) {
                for (int tap = 0; tap < l->kernel * l->kernel; tap++, columns += c) {
                    int y = oy * l->stride - l->pad + tap / l->kernel;
                    int x = ox * l->stride - l->pad + tap % l->kernel;
                    bool inside = y >= 0 && y < l->in_height && x >= 0 && x < l->in_width;
                    size_t at = inside ? (size_t)((n * l->in_height + y) * l->in_width + x) * c : 0;
                    if (fold_to == NULL && inside) {
                        memcpy(columns, input + at, c * sizeof *columns);
                    } else if (fold_to == NULL) {
                        memset(columns, 0, c * sizeof *columns);
                    } else if (inside) {
                        for (size_t i = 0; i < c; i++) {
                            fold_to[at + i] += columns[i];
                        }
                    }
                }
            }
        }
    }
}

static int taps_of(const nsk_train_layer *l) {
    return l->kernel * l->kernel * l->in_channels;
}

static void conv_forward(const nsk_train_step *s) {
    const nsk_train_layer *l = s->layer;
    const float *columns = s->input;
    if (!is_pointwise(l)) {
        unfold(s, s->cache->columns, s->input, NULL);
        columns = s->cache->columns;
    }
    int taps = taps_of(l);
    cblas_sgemm(CblasRowMajor, CblasNoTrans, CblasTrans, (int)rows_of(s), l->channels, taps, 1.0F,
                columns, taps, l->weight.value, taps, 0.0F, s->cache->output, l->channels);
}

static void conv_backward(const nsk_train_step *s) {
    const nsk_train_layer *l = s->layer;
    int rows = (int)rows_of(s);
    int taps = taps_of(l);
    const float *columns = is_pointwise(l) ? s->input : s->cache->columns;
    cblas_sgemm(CblasRowMajor, CblasTrans, CblasNoTrans, l->channels, taps, rows, 1.0F,
                s->cache->gradient, l->channels, columns, taps, 1.0F, s->gradients + l->weight.at,
                taps);
    if (s->input_gradient == NULL) {
        return;
    }
    bool direct = is_pointwise(l);
    float *to = direct ? s->input_gradient : s->cache->columns + rows_of(s) * (size_t)taps;
    cblas_sgemm(CblasRowMajor, CblasNoTrans, CblasNoTrans, rows, taps, l->channels, 1.0F,
                s->cache->gradient, l->channels, l->weight.value, taps, direct ? 1.0F : 0.0F, to,
                taps);
    if (!direct) {
        unfold(s, to, NULL, s->input_gradient);
    }
}

/* ---- depthwise convolution ---- */

static void depthwise_pixel(float *out, const float *in, const float *weight, int channels) {
    for (int c = 0; c < channels; c++) {
        out[c] += in[c] * weight[c];
    }
}

static void depthwise_pixel_back(const float *out, const float *in, const float *weight,
                                 float *in_gradient, float *weight_gradient, int channels) {
    for (int c = 0; c < channels; c++) {
        in_gradient[c] += out[c] * weight[c];
        weight_gradient[c] += out[c] * in[c];
    }
}

static void depthwise(const nsk_train_step *s, bool back) {
    const nsk_train_layer *l = s->layer;
    int channels = l->channels;
    size_t at = 0;
    for (int n = 0; n < s->pictures; n++) {
        for (int oy = 0; oy < l->height; oy++) {
            for (int ox = 0; ox < l->width; ox++, at += (size_t)channels) {
                for (int tap = 0; tap < l->kernel * l->kernel; tap++) {
                    int y = oy * l->stride - l->pad + tap / l->kernel;
                    int x = ox * l->stride - l->pad + tap % l->kernel;
                    if (y < 0 || y >= l->in_height || x < 0 || x >= l->in_width) {
                        continue;
                    }
                    size_t from =
                        (size_t)((n * l->in_height + y) * l->in_width + x) * (size_t)channels;
                    size_t w = (size_t)(tap * channels);
                    if (back) {
                        depthwise_pixel_back(s->cache->gradient + at, s->input + from,
                                             l->weight.value + w, s->input_gradient + from,
                                             s->gradients + l->weight.at + w, channels);
                    } else {
                        depthwise_pixel(s->cache->output + at, s->input + from, l->weight.value + w,
                                        channels);
                    }
                }
            }
        }
    }
}

static void depthwise_forward(const nsk_train_step *s) {
    memset(s->cache->output, 0, rows_of(s) * (size_t)s->layer->channels * sizeof(float));
    depthwise(s, false);
}

static void depthwise_backward(const nsk_train_step *s) {
    depthwise(s, true);
}

/* ---- batch normalisation: S. Ioffe, C. Szegedy, 2015 ---- */

static void batch_statistics(const nsk_train_step *s) {
    int channels = s->layer->channels;
    size_t rows = rows_of(s);
    double sum[1024] = {0};
    double square[1024] = {0};
    const float *in = s->input;
    for (size_t row = 0; row < rows; row++, in += channels) {
        for (int c = 0; c < channels; c++) {
            sum[c] += (double)in[c];
            square[c] += (double)in[c] * (double)in[c];
        }
    }
    for (int c = 0; c < channels; c++) {
        double mean = sum[c] / (double)rows;
        double variance = fmax(square[c] / (double)rows - mean * mean, 0.0);
        s->cache->mean[c] = (float)mean;
        s->cache->inverse[c] = (float)(1.0 / sqrt(variance + NORM_EPSILON));
    }
}

static void norm_forward(const nsk_train_step *s) {
    const nsk_train_layer *l = s->layer;
    int channels = l->channels;
    if (s->training) {
        batch_statistics(s);
    } else {
        for (int c = 0; c < channels; c++) {
            s->cache->mean[c] = l->running_mean[c];
            s->cache->inverse[c] =
                (float)(1.0 / sqrt((double)l->running_variance[c] + NORM_EPSILON));
        }
    }
    const float *in = s->input;
    float *out = s->cache->output;
    for (size_t row = rows_of(s); row > 0; row--, in += channels, out += channels) {
        for (int c = 0; c < channels; c++) {
            out[c] = (in[c] - s->cache->mean[c]) * s->cache->inverse[c] * l->weight.value[c] +
                     l->bias.value[c];
        }
    }
}

static void norm_backward(const nsk_train_step *s) {
    const nsk_train_layer *l = s->layer;
    int channels = l->channels;
    size_t rows = rows_of(s);
    const float *mean = s->cache->mean;
    const float *inverse = s->cache->inverse;
    double offset_sum[1024] = {0};
    double gain_sum[1024] = {0};
    const float *in = s->input;
    const float *out = s->cache->gradient;
    for (size_t row = 0; row < rows; row++, in += channels, out += channels) {
        for (int c = 0; c < channels; c++) {
            offset_sum[c] += (double)out[c];
            gain_sum[c] += (double)out[c] * (double)((in[c] - mean[c]) * inverse[c]);
        }
    }
    float offset[1024];
    float gain[1024];
    for (int c = 0; c < channels; c++) {
        s->gradients[l->bias.at + (size_t)c] += (float)offset_sum[c];
        s->gradients[l->weight.at + (size_t)c] += (float)gain_sum[c];
        offset[c] = (float)(offset_sum[c] / (double)rows);
        gain[c] = (float)(gain_sum[c] / (double)rows);
    }
    in = s->input;
    out = s->cache->gradient;
    float *to = s->input_gradient;
    for (size_t row = 0; row < rows; row++, in += channels, out += channels, to += channels) {
        for (int c = 0; c < channels; c++) {
            float normal = (in[c] - mean[c]) * inverse[c];
            to[c] += l->weight.value[c] * inverse[c] * (out[c] - offset[c] - normal * gain[c]);
        }
    }
}

/* ---- the rest ---- */

static void relu_forward(const nsk_train_step *s) {
    size_t count = inputs_of(s);
    for (size_t i = 0; i < count; i++) {
        s->cache->output[i] = s->input[i] > 0.0F ? s->input[i] : 0.0F;
    }
}

static void relu_backward(const nsk_train_step *s) {
    size_t count = inputs_of(s);
    for (size_t i = 0; i < count; i++) {
        s->input_gradient[i] += s->input[i] > 0.0F ? s->cache->gradient[i] : 0.0F;
    }
}

static float within_six(float x) {
    return x < 0.0F ? 0.0F : x > 6.0F ? 6.0F : x;
}

static void hard_swish_forward(const nsk_train_step *s) {
    size_t count = inputs_of(s);
    for (size_t i = 0; i < count; i++) {
        s->cache->output[i] = s->input[i] * within_six(s->input[i] + 3.0F) / 6.0F;
    }
}

static void hard_swish_backward(const nsk_train_step *s) {
    size_t count = inputs_of(s);
    for (size_t i = 0; i < count; i++) {
        float x = s->input[i];
        float slope = x <= -3.0F ? 0.0F : x >= 3.0F ? 1.0F : (2.0F * x + 3.0F) / 6.0F;
        s->input_gradient[i] += slope * s->cache->gradient[i];
    }
}

static void hard_sigmoid_forward(const nsk_train_step *s) {
    size_t count = inputs_of(s);
    for (size_t i = 0; i < count; i++) {
        s->cache->output[i] = within_six(s->input[i] + 3.0F) / 6.0F;
    }
}

static void hard_sigmoid_backward(const nsk_train_step *s) {
    size_t count = inputs_of(s);
    for (size_t i = 0; i < count; i++) {
        bool slopes = s->input[i] > -3.0F && s->input[i] < 3.0F;
        s->input_gradient[i] += slopes ? s->cache->gradient[i] / 6.0F : 0.0F;
    }
}

static void mean_forward(const nsk_train_step *s) {
    const nsk_train_layer *l = s->layer;
    int pixels = l->in_height * l->in_width;
    memset(s->cache->output, 0, (size_t)(s->pictures * l->channels) * sizeof(float));
    const float *in = s->input;
    for (int n = 0; n < s->pictures; n++) {
        float *out = s->cache->output + n * l->channels;
        for (int i = 0; i < pixels; i++, in += l->channels) {
            for (int c = 0; c < l->channels; c++) {
                out[c] += in[c] / (float)pixels;
            }
        }
    }
}

static void mean_backward(const nsk_train_step *s) {
    const nsk_train_layer *l = s->layer;
    int pixels = l->in_height * l->in_width;
    float *to = s->input_gradient;
    for (int n = 0; n < s->pictures; n++) {
        const float *out = s->cache->gradient + n * l->channels;
        for (int i = 0; i < pixels; i++, to += l->channels) {
            for (int c = 0; c < l->channels; c++) {
                to[c] += out[c] / (float)pixels;
            }
        }
    }
}

static void dense_forward(const nsk_train_step *s) {
    const nsk_train_layer *l = s->layer;
    int inputs = (int)(inputs_of(s) / (size_t)s->pictures);
    for (int n = 0; n < s->pictures; n++) {
        memcpy(s->cache->output + n * l->channels, l->bias.value,
               (size_t)l->channels * sizeof(float));
    }
    cblas_sgemm(CblasRowMajor, CblasNoTrans, CblasTrans, s->pictures, l->channels, inputs, 1.0F,
                s->input, inputs, l->weight.value, inputs, 1.0F, s->cache->output, l->channels);
}

static void dense_backward(const nsk_train_step *s) {
    const nsk_train_layer *l = s->layer;
    int inputs = (int)(inputs_of(s) / (size_t)s->pictures);
    for (int n = 0; n < s->pictures; n++) {
        for (int c = 0; c < l->channels; c++) {
            s->gradients[l->bias.at + (size_t)c] += s->cache->gradient[n * l->channels + c];
        }
    }
    cblas_sgemm(CblasRowMajor, CblasTrans, CblasNoTrans, l->channels, inputs, s->pictures, 1.0F,
                s->cache->gradient, l->channels, s->input, inputs, 1.0F,
                s->gradients + l->weight.at, inputs);
    cblas_sgemm(CblasRowMajor, CblasNoTrans, CblasNoTrans, s->pictures, inputs, l->channels, 1.0F,
                s->cache->gradient, l->channels, l->weight.value, inputs, 1.0F, s->input_gradient,
                inputs);
}

static void add_forward(const nsk_train_step *s) {
    size_t count = inputs_of(s);
    for (size_t i = 0; i < count; i++) {
        s->cache->output[i] = s->input[i] + s->earlier[i];
    }
}

static void add_backward(const nsk_train_step *s) {
    size_t count = inputs_of(s);
    for (size_t i = 0; i < count; i++) {
        s->input_gradient[i] += s->cache->gradient[i];
        s->earlier_gradient[i] += s->cache->gradient[i];
    }
}

static void scale_forward(const nsk_train_step *s) {
    size_t channels = (size_t)s->layer->channels;
    size_t each = rows_of(s) / (size_t)s->pictures * channels;
    for (size_t n = 0; n < (size_t)s->pictures; n++) {
        for (size_t i = 0; i < each; i++) {
            s->cache->output[n * each + i] =
                s->earlier[n * each + i] * s->input[n * channels + i % channels];
        }
    }
}

static void scale_backward(const nsk_train_step *s) {
    size_t channels = (size_t)s->layer->channels;
    size_t each = rows_of(s) / (size_t)s->pictures * channels;
    for (size_t n = 0; n < (size_t)s->pictures; n++) {
        for (size_t i = 0; i < each; i++) {
            size_t from = n * channels + i % channels;
            float gradient = s->cache->gradient[n * each + i];
            s->earlier_gradient[n * each + i] += gradient * s->input[from];
            s->input_gradient[from] += gradient * s->earlier[n * each + i];
        }
    }
}

const nsk_train_operation nsk_train_operations[NSK_TRAIN_KINDS] = {
    [NSK_TRAIN_CONV] = {conv_forward, conv_backward},
    [NSK_TRAIN_DEPTHWISE] = {depthwise_forward, depthwise_backward},
    [NSK_TRAIN_BATCH_NORM] = {norm_forward, norm_backward},
    [NSK_TRAIN_RELU] = {relu_forward, relu_backward},
    [NSK_TRAIN_HARD_SWISH] = {hard_swish_forward, hard_swish_backward},
    [NSK_TRAIN_HARD_SIGMOID] = {hard_sigmoid_forward, hard_sigmoid_backward},
    [NSK_TRAIN_MEAN_POOL] = {mean_forward, mean_backward},
    [NSK_TRAIN_DENSE] = {dense_forward, dense_backward},
    [NSK_TRAIN_ADD] = {add_forward, add_backward},
    [NSK_TRAIN_SCALE] = {scale_forward, scale_backward},
    [NSK_TRAIN_FROM] = {nsk_train_from_forward, nsk_train_from_backward},
    [NSK_TRAIN_CONCAT] = {nsk_train_concat_forward, nsk_train_concat_backward},
    [NSK_TRAIN_UPPER] = {nsk_train_half_forward, nsk_train_half_backward},
    [NSK_TRAIN_LOWER] = {nsk_train_half_forward, nsk_train_half_backward},
    [NSK_TRAIN_SHUFFLE] = {nsk_train_shuffle_forward, nsk_train_shuffle_backward},
    [NSK_TRAIN_LAYER_NORM] = {nsk_train_layer_norm_forward, nsk_train_layer_norm_backward},
    [NSK_TRAIN_GELU] = {nsk_train_gelu_forward, nsk_train_gelu_backward},
    [NSK_TRAIN_BIAS] = {nsk_train_offset_forward, nsk_train_offset_backward},
    [NSK_TRAIN_POSITION] = {nsk_train_offset_forward, nsk_train_offset_backward},
    [NSK_TRAIN_TOKENS] = {nsk_train_same_forward, nsk_train_same_backward},
    [NSK_TRAIN_TURN] = {nsk_train_turn_forward, nsk_train_turn_backward},
    [NSK_TRAIN_CLASS_TOKEN] = {nsk_train_token_forward, nsk_train_token_backward},
    [NSK_TRAIN_FIRST_TOKEN] = {nsk_train_first_forward, nsk_train_first_backward},
    [NSK_TRAIN_ATTENTION] = {nsk_train_attention_forward, nsk_train_attention_backward},
};
