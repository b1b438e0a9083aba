/* Every kernel against its plain formula, computed here by itself with exact arithmetic, on at
 * least a hundred thousand outputs of random layers. */
#include <stdlib.h>
#include <string.h>

#include "../exact.h"
#include "../suites.h"
#include "device/format.h"
#include "device/layer.h"
#include "train/random.h"

enum { ENOUGH = 100000, MOST = 1 << 16 };

/* A random layer with everything that it points to. */
typedef struct bed {
    random_state random;
    nsk_layer layer;
    int8_t workspace[3 * MOST];
    int8_t weights[MOST];
    uint8_t bias[4 * 512], multipliers[4 * 512], shifts[512];
    uint8_t table[512];
    int checked, wrong;
} bed;

static bed *bed_new(uint64_t seed) {
    bed *b = calloc(1, sizeof *b);
    b->random.state = seed;
    return b;
}

static void bed_done(bed *b) {
    CU_ASSERT(b->checked >= ENOUGH);
    CU_ASSERT_EQUAL(b->wrong, 0);
    free(b);
}

static int between(bed *b, int low, int high) {
    return low + random_below(&b->random, high - low + 1);
}

static void put_word(uint8_t *words, int index, int32_t value) {
    for (int i = 0; i < 4; i++) {
        words[4 * index + i] = (uint8_t)((uint32_t)value >> (8 * i));
    }
}

static void fill_bytes(bed *b, int8_t *bytes, int count) {
    int style = between(b, 0, 3); /* noise, or all at an end of the range */
    for (int i = 0; i < count; i++) {
        int noise = between(b, -128, 127);
        bytes[i] = (int8_t)(style == 0 ? -128 : style == 1 ? 127 : noise);
    }
}

static void draw_tensor(bed *b, nsk_tensor *t, uint32_t place, int h, int w, int c) {
    *t = (nsk_tensor){place, (uint16_t)h, (uint16_t)w, (uint16_t)c, (int8_t)between(b, -128, 127),
                      0};
}

/* Shifts that bring sums of about `taps` products near int8, and now and then any shift. */
static void draw_scales(bed *b, int channels, int taps) {
    int size = 0;
    while (1 << size < taps) {
        size++;
    }
    for (int c = 0; c < channels; c++) {
        int shift = between(b, 0, 9) == 0 ? between(b, 1, 62) : between(b, 36, 39) + size;
        put_word(b->multipliers, c, (int32_t)(random_bits(&b->random) >> 34) | 1 << 30);
        put_word(b->bias, c, between(b, -100000, 100000));
        b->shifts[c] = (uint8_t)shift;
    }
}

static void start(bed *b, nsk_kind kind) {
    nsk_layer *l = &b->layer;
    memset(l, 0, sizeof *l);
    l->kind = kind;
    l->count = 1;
    l->kernel_height = l->kernel_width = l->stride_down = l->stride_across = 1;
    l->dilate_down = l->dilate_across = 1;
    l->low = between(b, 0, 3) == 0 ? between(b, -128, 0) : -128;
    l->high = between(b, 0, 3) == 0 ? between(b, 0, 127) : 127;
    l->weights = (const uint8_t *)b->weights;
    l->bias = b->bias;
    l->multipliers = b->multipliers;
    l->shifts = b->shifts;
    fill_bytes(b, b->workspace, sizeof b->workspace);
    fill_bytes(b, b->weights, sizeof b->weights);
}

/* A window that fits the input, edge shapes included: one pixel, pads as wide as the kernel. */
static void draw_window(bed *b, int in_channels, int out_channels) {
    nsk_layer *l = &b->layer;
    int size[2] = {between(b, 1, 9), between(b, 1, 9)};
    int32_t *kernel[2] = {&l->kernel_height, &l->kernel_width};
    int32_t *stride[2] = {&l->stride_down, &l->stride_across};
    int32_t *dilate[2] = {&l->dilate_down, &l->dilate_across};
    int32_t *pad[2] = {&l->pad_top, &l->pad_left};
    int out[2];
    for (int axis = 0; axis < 2; axis++) {
        *kernel[axis] = between(b, 1, 4);
        *stride[axis] = between(b, 1, 3);
        *dilate[axis] = between(b, 1, 2);
        int reach = (*kernel[axis] - 1) * *dilate[axis];
        *pad[axis] = between(b, 0, reach);
        int after = between(b, 0, reach);
        while (size[axis] + *pad[axis] + after < reach + 1) {
            size[axis]++;
        }
        out[axis] = (size[axis] + *pad[axis] + after - reach - 1) / *stride[axis] + 1;
    }
    draw_tensor(b, &l->in, 0, size[0], size[1], in_channels);
    draw_tensor(b, &l->out, 2 * MOST, out[0], out[1], out_channels);
}

/* The input less its zero point; nothing outside of the picture. */
static int64_t pixel(const bed *b, int y, int x, int c, bool *inside) {
    const nsk_tensor *t = &b->layer.in;
    *inside = y >= 0 && y < t->height && x >= 0 && x < t->width;
    return *inside ? b->workspace[(y * t->width + x) * t->channels + c] - t->zero : 0;
}

static int8_t finish(const bed *b, exact acc, int k) {
    const nsk_layer *l = &b->layer;
    int32_t value =
        exact_rescale((int64_t)acc, nsk_word(b->multipliers, (uint32_t)k), b->shifts[k]) +
        l->out.zero;
    return (int8_t)(value < l->low ? l->low : value > l->high ? l->high : value);
}

typedef int8_t formula(const bed *b, int y, int x, int c);

static void check_output(bed *b, nsk_kernel *kernel, formula *expected) {
    const nsk_tensor *t = &b->layer.out;
    kernel(&b->layer, b->workspace);
    for (int i = 0; i < t->height * t->width * t->channels; i++) {
        int c = i % t->channels;
        int x = i / t->channels % t->width;
        int y = i / t->channels / t->width;
        b->wrong += b->workspace[t->place + (uint32_t)i] != expected(b, y, x, c);
        b->checked++;
    }
}

static int8_t conv_formula(const bed *b, int oy, int ox, int c) {
    const nsk_layer *l = &b->layer;
    int inputs = l->in.channels / (int)l->count;
    int group = c / (l->out.channels / (int)l->count);
    exact acc = nsk_word(b->bias, (uint32_t)c);
    for (int ky = 0; ky < l->kernel_height; ky++) {
        for (int kx = 0; kx < l->kernel_width; kx++) {
            for (int i = 0; i < inputs; i++) {
                bool inside;
                int64_t value = pixel(b, oy * l->stride_down - l->pad_top + ky * l->dilate_down,
                                      ox * l->stride_across - l->pad_left + kx * l->dilate_across,
                                      group * inputs + i, &inside);
                acc +=
                    value *
                    b->weights[((c * l->kernel_height + ky) * l->kernel_width + kx) * inputs + i];
            }
        }
    }
    return finish(b, acc, c);
}

static void conv_is_exact(void) {
    bed *b = bed_new(11);
    while (b->checked < ENOUGH) {
        int groups = between(b, 0, 2) == 0 ? between(b, 2, 3) : 1;
        int inputs = groups * between(b, 1, 7);
        start(b, NSK_CONV);
        draw_window(b, inputs, groups * between(b, 1, 9));
        b->layer.count = (uint32_t)groups;
        draw_scales(b, b->layer.out.channels,
                    inputs / groups * b->layer.kernel_height * b->layer.kernel_width);
        check_output(b, nsk_conv, conv_formula);
    }
    bed_done(b);
}

static int8_t depthwise_formula(const bed *b, int oy, int ox, int c) {
    const nsk_layer *l = &b->layer;
    exact acc = nsk_word(b->bias, (uint32_t)c);
    for (int ky = 0; ky < l->kernel_height; ky++) {
        for (int kx = 0; kx < l->kernel_width; kx++) {
            bool inside;
            int64_t value = pixel(b, oy * l->stride_down - l->pad_top + ky * l->dilate_down,
                                  ox * l->stride_across - l->pad_left + kx * l->dilate_across,
                                  c / (l->out.channels / l->in.channels), &inside);
            acc += value * b->weights[(ky * l->kernel_width + kx) * l->out.channels + c];
        }
    }
    return finish(b, acc, c);
}

static void depthwise_is_exact(void) {
    bed *b = bed_new(12);
    while (b->checked < ENOUGH) {
        int channels = between(b, 1, 11);
        start(b, NSK_DEPTHWISE);
        draw_window(b, channels, channels * (between(b, 0, 3) == 0 ? 2 : 1));
        draw_scales(b, b->layer.out.channels, b->layer.kernel_height * b->layer.kernel_width);
        check_output(b, nsk_depthwise, depthwise_formula);
    }
    bed_done(b);
}

static int8_t dense_formula(const bed *b, int oy, int ox, int c) {
    (void)oy;
    (void)ox;
    int inputs = (int)nsk_tensor_bytes(&b->layer.in);
    exact acc = nsk_word(b->bias, (uint32_t)c);
    for (int i = 0; i < inputs; i++) {
        acc += (exact)(b->workspace[i] - b->layer.in.zero) * b->weights[c * inputs + i];
    }
    return finish(b, acc, c);
}

static void dense_is_exact(void) {
    bed *b = bed_new(13);
    while (b->checked < ENOUGH) {
        start(b, NSK_DENSE);
        draw_tensor(b, &b->layer.in, 0, between(b, 1, 3), between(b, 1, 3), between(b, 1, 20));
        draw_tensor(b, &b->layer.out, 2 * MOST, 1, 1, between(b, 1, 300));
        draw_scales(b, b->layer.out.channels, (int)nsk_tensor_bytes(&b->layer.in));
        check_output(b, nsk_dense, dense_formula);
    }
    bed_done(b);
}

/* Sum, maximum and count of what a window has inside the picture. */
static void gather(const bed *b, int oy, int ox, int c, exact *sum, int *most, int *count) {
    const nsk_layer *l = &b->layer;
    *sum = 0;
    *most = -128;
    *count = 0;
    for (int k = 0; k < l->kernel_height * l->kernel_width; k++) {
        bool inside;
        int y = oy * l->stride_down - l->pad_top + k / l->kernel_width * l->dilate_down;
        int x = ox * l->stride_across - l->pad_left + k % l->kernel_width * l->dilate_across;
        int value = (int)pixel(b, y, x, c, &inside);
        *sum += value;
        *count += inside;
        *most = inside && value + l->in.zero > *most ? value + l->in.zero : *most;
    }
}

static int8_t average_formula(const bed *b, int oy, int ox, int c) {
    exact sum;
    int most;
    int count;
    gather(b, oy, ox, c, &sum, &most, &count);
    return finish(b, sum, (b->layer.flags & NSK_FLAG_COUNTED) != 0 && count > 0 ? count - 1 : 0);
}

static int8_t max_formula(const bed *b, int oy, int ox, int c) {
    exact sum;
    int most;
    int count;
    gather(b, oy, ox, c, &sum, &most, &count);
    return (int8_t)(most < b->layer.low    ? b->layer.low
                    : most > b->layer.high ? b->layer.high
                                           : most);
}

static void pools_are_exact(void) {
    for (int kind = 0; kind < 2; kind++) {
        bed *b = bed_new(14 + (uint64_t)kind);
        while (b->checked < ENOUGH) {
            int channels = between(b, 1, 9);
            start(b, kind == 0 ? NSK_AVERAGE_POOL : NSK_MAX_POOL);
            draw_window(b, channels, channels);
            draw_scales(b, 16, 1);
            b->layer.flags = between(b, 0, 1) == 0 ? NSK_FLAG_COUNTED : 0;
            check_output(b, kind == 0 ? nsk_average_pool : nsk_max_pool,
                         kind == 0 ? average_formula : max_formula);
        }
        bed_done(b);
    }
}

/* Both inputs of a pair, less their zero points. */
static void pair(const bed *b, int y, int x, int c, exact *left, exact *right) {
    const nsk_layer *l = &b->layer;
    bool one_pixel = l->second.height * l->second.width == 1;
    int at = (y * l->in.width + x) * l->in.channels + c;
    *left = b->workspace[at] - l->in.zero;
    *right = b->workspace[l->second.place + (uint32_t)(one_pixel ? c : at)] - l->second.zero;
}

static int8_t add_formula(const bed *b, int y, int x, int c) {
    const nsk_layer *l = &b->layer;
    exact left;
    exact right;
    pair(b, y, x, c, &left, &right);
    exact sum = left * nsk_word(b->multipliers, 0) + right * nsk_word(b->multipliers, 1);
    exact value =
        exact_floor_divide(sum + ((exact)1 << (b->shifts[0] - 1)), (exact)1 << b->shifts[0]) +
        l->out.zero;
    return (int8_t)(value < l->low ? l->low : value > l->high ? l->high : value);
}

static int8_t multiply_formula(const bed *b, int y, int x, int c) {
    exact left;
    exact right;
    pair(b, y, x, c, &left, &right);
    return finish(b, left * right, 0);
}

static void pairs_are_exact(void) {
    for (int kind = 0; kind < 2; kind++) {
        bed *b = bed_new(16 + (uint64_t)kind);
        while (b->checked < ENOUGH) {
            int h = between(b, 1, 9);
            int w = between(b, 1, 9);
            int c = between(b, 1, 12);
            bool one = between(b, 0, 1) == 0;
            start(b, kind == 0 ? NSK_ADD : NSK_MULTIPLY);
            draw_tensor(b, &b->layer.in, 0, h, w, c);
            draw_tensor(b, &b->layer.second, MOST, one ? 1 : h, one ? 1 : w, c);
            draw_tensor(b, &b->layer.out, 2 * MOST, h, w, c);
            draw_scales(b, 2, 100);
            if (kind == 0) {
                put_word(b->multipliers, 0, between(b, 0, 1 << 21));
                put_word(b->multipliers, 1, between(b, 0, 1 << 21));
                b->shifts[0] = (uint8_t)between(b, 1, 30);
            }
            check_output(b, kind == 0 ? nsk_add : nsk_multiply,
                         kind == 0 ? add_formula : multiply_formula);
        }
        bed_done(b);
    }
}

static int8_t table_formula(const bed *b, int y, int x, int c) {
    int q = b->workspace[(y * b->layer.in.width + x) * b->layer.in.channels + c];
    return b->weights[q + 128];
}

static int8_t softmax_formula(const bed *b, int y, int x, int c) {
    const int8_t *in = b->workspace + (y * b->layer.in.width + x) * b->layer.in.channels;
    int top = -128;
    exact sum = 0;
    exact own = 0;
    for (int k = 0; k < b->layer.in.channels; k++) {
        top = in[k] > top ? in[k] : top;
    }
    for (int k = 0; k < b->layer.in.channels; k++) {
        int below = top - in[k];
        exact part =
            below < (int)b->layer.count ? b->table[2 * below] + 256 * b->table[2 * below + 1] : 0;
        sum += part;
        own = k == c ? part : own;
    }
    exact share = exact_floor_divide(own * 256 + exact_floor_divide(sum, 2), sum) - 128;
    return (int8_t)(share > 127 ? 127 : share);
}

static void tables_are_exact(void) {
    for (int kind = 0; kind < 2; kind++) {
        bed *b = bed_new(18 + (uint64_t)kind);
        while (b->checked < ENOUGH) {
            start(b, kind == 0 ? NSK_TABLE : NSK_SOFTMAX);
            int h = between(b, 1, 5);
            int w = between(b, 1, 5);
            int c = between(b, 1, 40);
            draw_tensor(b, &b->layer.in, 0, h, w, c);
            draw_tensor(b, &b->layer.out, 2 * MOST, h, w, c);
            if (kind == 1) {
                b->layer.count = (uint32_t)between(b, 1, 256);
                b->layer.weights = b->table;
                for (int i = 0; i < 512; i++) {
                    b->table[i] = (uint8_t)between(b, i < 2 ? 1 : 0, 255);
                }
            }
            check_output(b, kind == 0 ? nsk_table : nsk_softmax,
                         kind == 0 ? table_formula : softmax_formula);
        }
        bed_done(b);
    }
}

CU_TestInfo kernel_tests[] = {
    {"convolution", conv_is_exact},
    {"depthwise convolution", depthwise_is_exact},
    {"dense", dense_is_exact},
    {"average and maximum", pools_are_exact},
    {"sum and product", pairs_are_exact},
    {"table and softmax", tables_are_exact},
    CU_TEST_INFO_NULL,
};
