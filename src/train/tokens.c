/* Layers of transformers and mixers: tokens are pixels, whatever row they stand in. */
#include <cblas.h>
#include <math.h>
#include <string.h>

#include "train/layers.h"

static const double NORM_EPSILON = 1e-5;

static size_t tokens_of(const nsk_train_layer *l) {
    return (size_t)l->in_height * (size_t)l->in_width;
}

static size_t inputs_of(const nsk_train_step *s) {
    return (size_t)s->pictures * tokens_of(s->layer) * (size_t)s->layer->in_channels;
}

/* ---- layer normalisation: J. L. Ba, J. R. Kiros, G. E. Hinton, 2016 ---- */

void nsk_train_layer_norm_forward(const nsk_train_step *s) {
    const nsk_train_layer *l = s->layer;
    const int channels = l->channels;
    const size_t rows = inputs_of(s) / (size_t)channels;
    for (size_t row = 0; row < rows; row++) {
        const float *in = s->input + row * (size_t)channels;
        float *out = s->cache->output + row * (size_t)channels;
        double sum = 0.0;
        double squares = 0.0;
        for (int c = 0; c < channels; c++) {
            sum += (double)in[c];
            squares += (double)in[c] * (double)in[c];
        }
        const double mean = sum / channels;
        const double variance = fmax(squares / channels - mean * mean, 0.0);
        s->cache->mean[row] = (float)mean;
        s->cache->inverse[row] = (float)(1.0 / sqrt(variance + NORM_EPSILON));
        for (int c = 0; c < channels; c++) {
            out[c] = (in[c] - s->cache->mean[row]) * s->cache->inverse[row] * l->weight.value[c] +
                     l->bias.value[c];
        }
    }
}

static void layer_norm_row_back(const nsk_train_step *s, size_t row) {
    const nsk_train_layer *l = s->layer;
    const int channels = l->channels;
    const float *in = s->input + row * (size_t)channels;
    const float *out = s->cache->gradient + row * (size_t)channels;
    float *to = s->input_gradient + row * (size_t)channels;
    const float mean = s->cache->mean[row];
    const float inverse = s->cache->inverse[row];
    double slope = 0.0;
    double turn = 0.0;
    for (int c = 0; c < channels; c++) {
        const float z = (in[c] - mean) * inverse;
        s->gradients[l->weight.at + (size_t)c] += out[c] * z;
        s->gradients[l->bias.at + (size_t)c] += out[c];
        slope += (double)(out[c] * l->weight.value[c]) / channels;
        turn += (double)(out[c] * l->weight.value[c] * z) / channels;
    }
    for (int c = 0; c < channels; c++) {
        const float z = (in[c] - mean) * inverse;
        to[c] += inverse * (out[c] * l->weight.value[c] - (float)slope - z * (float)turn);
    }
}

void nsk_train_layer_norm_backward(const nsk_train_step *s) {
    const size_t rows = inputs_of(s) / (size_t)s->layer->channels;
    for (size_t row = 0; row < rows; row++) {
        layer_norm_row_back(s, row);
    }
}

/* ---- Gelu: D. Hendrycks, K. Gimpel, 2016 ---- */

static float phi(float x) { /* the normal distribution's share below x */
    return 0.5F * (1.0F + erff(x * 0.70710678F));
}

void nsk_train_gelu_forward(const nsk_train_step *s) {
    const size_t count = inputs_of(s);
    for (size_t i = 0; i < count; i++) {
        s->cache->output[i] = s->input[i] * phi(s->input[i]);
    }
}

void nsk_train_gelu_backward(const nsk_train_step *s) {
    const size_t count = inputs_of(s);
    for (size_t i = 0; i < count; i++) {
        const float x = s->input[i];
        const float density = 0.39894228F * expf(-0.5F * x * x);
        s->input_gradient[i] += s->cache->gradient[i] * (phi(x) + x * density);
    }
}

/* ---- a number of its own for each channel, or each element ---- */

void nsk_train_offset_forward(const nsk_train_step *s) {
    const size_t period = s->layer->bias.count;
    const size_t count = inputs_of(s);
    for (size_t at = 0; at < count; at += period) {
        for (size_t i = 0; i < period; i++) {
            s->cache->output[at + i] = s->input[at + i] + s->layer->bias.value[i];
        }
    }
}

void nsk_train_offset_backward(const nsk_train_step *s) {
    const size_t period = s->layer->bias.count;
    const size_t count = inputs_of(s);
    float *own = s->gradients + s->layer->bias.at;
    for (size_t at = 0; at < count; at += period) {
        for (size_t i = 0; i < period; i++) {
            own[i] += s->cache->gradient[at + i];
            s->input_gradient[at + i] += s->cache->gradient[at + i];
        }
    }
}

/* ---- tokens that are moved ---- */

void nsk_train_same_forward(const nsk_train_step *s) {
    memcpy(s->cache->output, s->input, inputs_of(s) * sizeof(float));
}

void nsk_train_same_backward(const nsk_train_step *s) {
    cblas_saxpy((int)inputs_of(s), 1.0F, s->cache->gradient, 1, s->input_gradient, 1);
}

/* Tokens and channels change places, in each picture. */
static void turn(const nsk_train_step *s, bool back) {
    const size_t tokens = tokens_of(s->layer);
    const size_t channels = (size_t)s->layer->in_channels;
    for (size_t n = 0; n < (size_t)s->pictures; n++) {
        const size_t first = n * tokens * channels;
        for (size_t t = 0; t < tokens; t++) {
            for (size_t c = 0; c < channels; c++) {
                const size_t from = first + t * channels + c;
                const size_t to = first + c * tokens + t;
                if (back) {
                    s->input_gradient[from] += s->cache->gradient[to];
                } else {
                    s->cache->output[to] = s->input[from];
                }
            }
        }
    }
}

void nsk_train_turn_forward(const nsk_train_step *s) {
    turn(s, false);
}

void nsk_train_turn_backward(const nsk_train_step *s) {
    turn(s, true);
}

/* One token more, in front, which is learned. */
void nsk_train_token_forward(const nsk_train_step *s) {
    const size_t channels = (size_t)s->layer->channels;
    const size_t all = tokens_of(s->layer) * channels;
    for (size_t n = 0; n < (size_t)s->pictures; n++) {
        float *to = s->cache->output + n * (all + channels);
        memcpy(to, s->layer->bias.value, channels * sizeof *to);
        memcpy(to + channels, s->input + n * all, all * sizeof *to);
    }
}

void nsk_train_token_backward(const nsk_train_step *s) {
    const size_t channels = (size_t)s->layer->channels;
    const size_t all = tokens_of(s->layer) * channels;
    for (size_t n = 0; n < (size_t)s->pictures; n++) {
        const float *from = s->cache->gradient + n * (all + channels);
        cblas_saxpy((int)channels, 1.0F, from, 1, s->gradients + s->layer->bias.at, 1);
        cblas_saxpy((int)all, 1.0F, from + channels, 1, s->input_gradient + n * all, 1);
    }
}

/* The first token alone. */
void nsk_train_first_forward(const nsk_train_step *s) {
    const size_t channels = (size_t)s->layer->channels;
    const size_t all = tokens_of(s->layer) * channels;
    for (size_t n = 0; n < (size_t)s->pictures; n++) {
        memcpy(s->cache->output + n * channels, s->input + n * all, channels * sizeof(float));
    }
}

void nsk_train_first_backward(const nsk_train_step *s) {
    const size_t channels = (size_t)s->layer->channels;
    const size_t all = tokens_of(s->layer) * channels;
    for (size_t n = 0; n < (size_t)s->pictures; n++) {
        cblas_saxpy((int)channels, 1.0F, s->cache->gradient + n * channels, 1,
                    s->input_gradient + n * all, 1);
    }
}

/* ---- attention: A. Vaswani et al., 2017 ---- */

/* Queries, keys and values of a head stand side by side in the input's channels. */
typedef struct head {
    int tokens, size, line; /* channels of a head; from a token to the next */
    const float *query, *key, *value;
    float *share, *slope;      /* tokens x tokens: of attention; what the loss gains by it */
    float *out, *out_gradient; /* of this head */
    float *query_gradient, *key_gradient, *value_gradient;
} head;

static head head_of(const nsk_train_step *s, int picture, int index) {
    const nsk_train_layer *l = s->layer;
    const int heads = l->kernel;
    const size_t tokens = tokens_of(l);
    head h = {.tokens = (int)tokens, .size = l->channels / heads, .line = l->in_channels};
    const size_t from =
        (size_t)picture * tokens * (size_t)l->in_channels + (size_t)(index * h.size);
    const size_t to = (size_t)picture * tokens * (size_t)l->channels + (size_t)(index * h.size);
    const size_t width = (size_t)l->channels;
    h.query = s->input + from;
    h.key = h.query + width;
    h.value = h.key + width;
    h.share = s->cache->columns + 2 * (size_t)(picture * heads + index) * tokens * tokens;
    h.slope = h.share + tokens * tokens;
    h.out = s->cache->output + to;
    h.out_gradient = s->cache->gradient + to;
    h.query_gradient = s->input_gradient != NULL ? s->input_gradient + from : NULL;
    h.key_gradient = h.query_gradient + width;
    h.value_gradient = h.key_gradient + width;
    return h;
}

static void softmax(float *x, int count) {
    float top = x[0];
    float sum = 0.0F;
    for (int i = 1; i < count; i++) {
        top = x[i] > top ? x[i] : top;
    }
    for (int i = 0; i < count; i++) {
        x[i] = expf(x[i] - top);
        sum += x[i];
    }
    for (int i = 0; i < count; i++) {
        x[i] /= sum;
    }
}

void nsk_train_attention_forward(const nsk_train_step *s) {
    const int channels = s->layer->channels;
    for (int n = 0; n < s->pictures * s->layer->kernel; n++) {
        const head h = head_of(s, n / s->layer->kernel, n % s->layer->kernel);
        const float scale = 1.0F / sqrtf((float)h.size);
        cblas_sgemm(CblasRowMajor, CblasNoTrans, CblasTrans, h.tokens, h.tokens, h.size, scale,
                    h.query, h.line, h.key, h.line, 0.0F, h.share, h.tokens);
        for (int t = 0; t < h.tokens; t++) {
            softmax(h.share + t * h.tokens, h.tokens);
        }
        cblas_sgemm(CblasRowMajor, CblasNoTrans, CblasNoTrans, h.tokens, h.size, h.tokens, 1.0F,
                    h.share, h.tokens, h.value, h.line, 0.0F, h.out, channels);
    }
}

void nsk_train_attention_backward(const nsk_train_step *s) {
    const int channels = s->layer->channels;
    for (int n = 0; n < s->pictures * s->layer->kernel; n++) {
        const head h = head_of(s, n / s->layer->kernel, n % s->layer->kernel);
        const float scale = 1.0F / sqrtf((float)h.size);
        cblas_sgemm(CblasRowMajor, CblasNoTrans, CblasTrans, h.tokens, h.tokens, h.size, 1.0F,
                    h.out_gradient, channels, h.value, h.line, 0.0F, h.slope, h.tokens);
        cblas_sgemm(CblasRowMajor, CblasTrans, CblasNoTrans, h.tokens, h.size, h.tokens, 1.0F,
                    h.share, h.tokens, h.out_gradient, channels, 1.0F, h.value_gradient, h.line);
        for (int t = 0; t < h.tokens; t++) {
            const float *share = h.share + t * h.tokens;
            float *slope = h.slope + t * h.tokens;
            const float mean = cblas_sdot(h.tokens, share, 1, slope, 1);
            for (int i = 0; i < h.tokens; i++) {
                slope[i] = share[i] * (slope[i] - mean);
            }
        }
        cblas_sgemm(CblasRowMajor, CblasNoTrans, CblasNoTrans, h.tokens, h.size, h.tokens, scale,
                    h.slope, h.tokens, h.key, h.line, 1.0F, h.query_gradient, h.line);
        cblas_sgemm(CblasRowMajor, CblasTrans, CblasNoTrans, h.tokens, h.size, h.tokens, scale,
                    h.slope, h.tokens, h.query, h.line, 1.0F, h.key_gradient, h.line);
    }
}
