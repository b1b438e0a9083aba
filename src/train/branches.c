/* Layers that part channels and join them. */
#include <cblas.h>
#include <string.h>

#include "train/layers.h"

static size_t pixels_of(const nsk_train_step *s) {
    return (size_t)s->pictures * (size_t)s->layer->height * (size_t)s->layer->width;
}

static void add(float *to, const float *from, size_t count) {
    cblas_saxpy((int)count, 1.0F, from, 1, to, 1);
}

void nsk_train_from_forward(const nsk_train_step *s) {
    memcpy(s->cache->output, s->earlier, pixels_of(s) * (size_t)s->layer->channels * sizeof(float));
}

void nsk_train_from_backward(const nsk_train_step *s) {
    add(s->earlier_gradient, s->cache->gradient, pixels_of(s) * (size_t)s->layer->channels);
}

void nsk_train_concat_forward(const nsk_train_step *s) {
    const size_t first = (size_t)s->layer->earlier_channels;
    const size_t second = (size_t)s->layer->in_channels;
    for (size_t p = 0; p < pixels_of(s); p++) {
        float *to = s->cache->output + p * (first + second);
        memcpy(to, s->earlier + p * first, first * sizeof *to);
        memcpy(to + first, s->input + p * second, second * sizeof *to);
    }
}

void nsk_train_concat_backward(const nsk_train_step *s) {
    const size_t first = (size_t)s->layer->earlier_channels;
    const size_t second = (size_t)s->layer->in_channels;
    for (size_t p = 0; p < pixels_of(s); p++) {
        const float *from = s->cache->gradient + p * (first + second);
        add(s->earlier_gradient + p * first, from, first);
        add(s->input_gradient + p * second, from + first, second);
    }
}

/* The upper half of what comes, or the lower of what came earlier. */
void nsk_train_half_forward(const nsk_train_step *s) {
    const size_t half = (size_t)s->layer->channels;
    const bool upper = s->layer->kind == NSK_TRAIN_UPPER;
    for (size_t p = 0; p < pixels_of(s); p++) {
        const float *from = (upper ? s->input : s->earlier) + p * 2 * half + (upper ? half : 0);
        memcpy(s->cache->output + p * half, from, half * sizeof *from);
    }
}

void nsk_train_half_backward(const nsk_train_step *s) {
    const size_t half = (size_t)s->layer->channels;
    const bool upper = s->layer->kind == NSK_TRAIN_UPPER;
    float *all = upper ? s->input_gradient + half : s->earlier_gradient;
    for (size_t p = 0; p < pixels_of(s); p++) {
        add(all + p * 2 * half, s->cache->gradient + p * half, half);
    }
}

void nsk_train_shuffle_forward(const nsk_train_step *s) {
    const size_t half = (size_t)s->layer->channels / 2;
    for (size_t p = 0; p < pixels_of(s); p++) {
        for (size_t c = 0; c < half; c++) {
            s->cache->output[2 * (p * half + c)] = s->input[2 * p * half + c];
            s->cache->output[2 * (p * half + c) + 1] = s->input[2 * p * half + half + c];
        }
    }
}

void nsk_train_shuffle_backward(const nsk_train_step *s) {
    const size_t half = (size_t)s->layer->channels / 2;
    for (size_t p = 0; p < pixels_of(s); p++) {
        for (size_t c = 0; c < half; c++) {
            s->input_gradient[2 * p * half + c] += s->cache->gradient[2 * (p * half + c)];
            s->input_gradient[2 * p * half + half + c] +=
                s->cache->gradient[2 * (p * half + c) + 1];
        }
    }
}
