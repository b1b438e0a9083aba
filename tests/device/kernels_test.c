/* Every kernel against its plain formula, computed here by itself with exact arithmetic, on at
 * least a hundred thousand outputs of random layers. */
#include <math.h>
#include <stdlib.h>
#include <string.h>

#include "../suites.h"
#include "base/element.h"
#include "base/random.h"
#include "device/format.h"
#include "device/layer.h"
#include "device/scratch.h"
#include "lowered/integer.h"
#include "reference/exact.h"

enum { ENOUGH = 100000, MOST = 1 << 16, GUARD = 0x5a, GUARDED = 512 };

/* A random layer with everything that it points to. */
typedef struct bed {
    random_state random;
    nsk_layer layer;
    _Alignas(4) int8_t workspace[3 * MOST];
    _Alignas(4) int8_t weights[MOST];
    int row; /* bytes of an output's weights, where they stand in rows */
    _Alignas(4) uint8_t requantise[4 * 512], multipliers[4 * 512], shifts[512];
    _Alignas(4) uint8_t table[512];
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
    *t = (nsk_tensor){.offset = place,
                      .height = (uint16_t)h,
                      .width = (uint16_t)w,
                      .channels = (uint16_t)c,
                      .rows = (uint16_t)h,
                      .pixel_stride = c,
                      .element = 1,
                      .zero = (int8_t)between(b, -128, 127)};
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
        int near = between(b, 9, 12) + size;
        int fields = between(b, 0, 9) == 0 ? between(b, 16, 511) : (near < 31 ? near : 31) * 16 + 8;
        put_word(b->requantise, c,
                 between(b, -100000, 100000) * 512 + (fields | between(b, fields % 8 == 0, 7)));
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
    l->requantise = b->requantise;
    l->multipliers = b->multipliers;
    l->shifts = b->shifts;
    fill_bytes(b, b->workspace, sizeof b->workspace);
    fill_bytes(b, b->weights, sizeof b->weights);
    for (size_t i = 0; i < sizeof b->weights; i++) { /* no weight is -128 */
        b->weights[i] = b->weights[i] < -127 ? -127 : b->weights[i];
    }
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
        *dilate[axis] = between(b, 0, 9) == 0 ? between(b, 3, 24) : between(b, 1, 2);
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

/* What a tap of a layer with weights meets: outside of the picture, the zero point. */
static int level(const bed *b, int y, int x, int c) {
    bool inside;
    return (int)pixel(b, y, x, c, &inside) + b->layer.in.zero;
}

/* Rows of weights are filled up to whole words with zeroes. */
static int row_bytes(bed *b, int taps, int outputs) {
    int row = (taps + 3) / 4 * 4;
    for (int c = 0; c < outputs; c++) {
        memset(b->weights + c * row + taps, 0, (size_t)(row - taps));
    }
    return row;
}

/* Within what the output holds. */
static int clamped(const nsk_layer *l, exact value) {
    return (int)(value < l->low ? l->low : value > l->high ? l->high : value);
}

/* A layer's with weights. */
static int requantise(const bed *b, exact sum, int k) {
    int32_t word = nsk_word(b->requantise, (uint32_t)k);
    return clamped(&b->layer, exact_requantise(sum + exact_bias(word), word, b->layer.out.zero,
                                               INT32_MIN, INT32_MAX));
}

static int rescaled(const bed *b, exact acc, int k) {
    int32_t value =
        exact_rescale((int64_t)acc, nsk_word(b->multipliers, (uint32_t)k), b->shifts[k]);
    return clamped(&b->layer, (exact)value + b->layer.out.zero);
}

/* Now and then the output is int16, and the scales are finer by so much. */
static void widen(bed *b) {
    if (between(b, 0, 2) != 0) {
        return;
    }
    b->layer.out.element = 2;
    b->layer.out.zero = 0;
    b->layer.low = INT16_MIN; /* as they are decoded */
    b->layer.high = INT16_MAX;
    for (int c = 0; c < b->layer.out.channels; c++) {
        int32_t word = nsk_word(b->requantise, (uint32_t)c);
        int shift = word / 16 % 32;
        put_word(b->requantise, c, shift > 8 && word > 0 ? word - 8 * 16 : word);
        b->shifts[c] = (uint8_t)(b->shifts[c] > 8 ? b->shifts[c] - 8 : b->shifts[c]);
    }
}

typedef int formula(const bed *b, int y, int x, int c);

/* Now and then the output is a slice, what is beside it staying as it is. */
static void check_output(bed *b, const nsk_operation *operation, formula *expected) {
    static int8_t before[MOST];
    nsk_tensor *t = &b->layer.out;
    bool slice = nsk_kind_writes_slices(b->layer.kind) && t->element == 1 && between(b, 0, 3) == 0;
    t->pixel_stride = t->channels * t->element + (slice ? between(b, 1, 9) : 0);
    t->offset += slice ? (uint32_t)between(b, 0, 9) : 0;
    uint32_t span = nsk_tensor_span(t);
    memcpy(before, b->workspace + t->offset, span);
    memset(b->workspace + MOST + nsk_layer_scratch(&b->layer), GUARD, GUARDED);
    operation->run(&b->layer, b->workspace);
    for (int i = 0; i < GUARDED; i++) { /* behind what is reserved */
        b->wrong += b->workspace[MOST + (int)nsk_layer_scratch(&b->layer) + i] != GUARD;
    }
    for (uint32_t i = 0; i < span; i += t->element) {
        int c = (int)i % t->pixel_stride / t->element;
        int x = (int)i / t->pixel_stride % t->width;
        int y = (int)i / t->pixel_stride / t->width;
        int wanted = c < t->channels ? expected(b, y, x, c) : before[i];
        b->wrong += nsk_element_at(b->workspace + t->offset + i, t->element) != wanted;
        b->checked++;
    }
}

static int conv_formula(const bed *b, int oy, int ox, int c) {
    const nsk_layer *l = &b->layer;
    int inputs = l->in.channels / (int)l->count;
    int group = c / (l->out.channels / (int)l->count);
    const int8_t *w = b->weights + c * b->row;
    exact acc = 0;
    for (int ky = 0; ky < l->kernel_height; ky++) {
        for (int kx = 0; kx < l->kernel_width; kx++) {
            for (int i = 0; i < inputs; i++) {
                acc += *w++ * level(b, oy * l->stride_down - l->pad_top + ky * l->dilate_down,
                                    ox * l->stride_across - l->pad_left + kx * l->dilate_across,
                                    group * inputs + i);
            }
        }
    }
    return requantise(b, acc, c);
}

/* Now and then a window of one pixel, which is not gathered, on channels in whole words or not. */
static void draw_conv(bed *b) {
    int groups = between(b, 0, 2) == 0 ? between(b, 2, 3) : 1;
    int inputs = groups * (between(b, 0, 1) == 0 ? between(b, 1, 7) : 4 * between(b, 1, 9));
    nsk_layer *l = &b->layer;
    start(b, NSK_KIND_CONV);
    draw_window(b, inputs, groups * between(b, 1, 19));
    if (between(b, 0, 2) == 0) {
        l->kernel_height = l->kernel_width = l->stride_down = l->stride_across = 1;
        l->pad_top = l->pad_left = 0;
        l->out.height = l->in.height;
        l->out.width = l->in.width;
    }
    l->count = (uint32_t)groups;
    l->scratch = MOST;
    int taps = inputs / groups * l->kernel_height * l->kernel_width;
    b->row = row_bytes(b, taps, l->out.channels);
    draw_scales(b, l->out.channels, taps);
}

static void conv_is_exact(void) {
    bed *b = bed_new(11);
    while (b->checked < ENOUGH) {
        draw_conv(b);
        check_output(b, &nsk_operation_conv, conv_formula);
    }
    bed_done(b);
}

static int depthwise_formula(const bed *b, int oy, int ox, int c) {
    const nsk_layer *l = &b->layer;
    exact acc = 0;
    for (int ky = 0; ky < l->kernel_height; ky++) {
        for (int kx = 0; kx < l->kernel_width; kx++) {
            acc += level(b, oy * l->stride_down - l->pad_top + ky * l->dilate_down,
                         ox * l->stride_across - l->pad_left + kx * l->dilate_across,
                         c / (l->out.channels / l->in.channels)) *
                   b->weights[(ky * l->kernel_width + kx) * l->out.channels + c];
        }
    }
    return requantise(b, acc, c);
}

static void depthwise_is_exact(void) {
    bed *b = bed_new(12);
    while (b->checked < ENOUGH) {
        int channels = between(b, 1, 40);
        start(b, NSK_KIND_DEPTHWISE);
        draw_window(b, channels, channels * (between(b, 0, 3) == 0 ? 2 : 1));
        b->layer.scratch = MOST;
        draw_scales(b, b->layer.out.channels, b->layer.kernel_height * b->layer.kernel_width);
        check_output(b, &nsk_operation_depthwise, depthwise_formula);
    }
    bed_done(b);
}

static int dense_formula(const bed *b, int oy, int ox, int c) {
    (void)oy;
    (void)ox;
    int inputs = (int)nsk_tensor_bytes(&b->layer.in);
    exact acc = 0;
    for (int i = 0; i < inputs; i++) {
        acc += (exact)b->workspace[i] * b->weights[c * b->row + i];
    }
    return requantise(b, acc, c);
}

static void dense_is_exact(void) {
    bed *b = bed_new(13);
    while (b->checked < ENOUGH) {
        start(b, NSK_KIND_DENSE);
        draw_tensor(b, &b->layer.in, 0, between(b, 1, 3), between(b, 1, 3), between(b, 1, 20));
        draw_tensor(b, &b->layer.out, 2 * MOST, 1, 1, between(b, 1, 300));
        b->row = row_bytes(b, (int)nsk_tensor_bytes(&b->layer.in), b->layer.out.channels);
        draw_scales(b, b->layer.out.channels, (int)nsk_tensor_bytes(&b->layer.in));
        widen(b);
        check_output(b, &nsk_operation_dense, dense_formula);
    }
    bed_done(b);
}

/* Sum, maximum (or minimum) and count of what a window has inside the picture. */
static void gather(const bed *b, int oy, int ox, int c, exact *sum, int *most, int *count) {
    const nsk_layer *l = &b->layer;
    bool least = (l->flags & NSK_FLAG_LEAST) != 0;
    *sum = 0;
    *most = least ? 127 : -128;
    *count = 0;
    for (int k = 0; k < l->kernel_height * l->kernel_width; k++) {
        bool inside;
        int y = oy * l->stride_down - l->pad_top + k / l->kernel_width * l->dilate_down;
        int x = ox * l->stride_across - l->pad_left + k % l->kernel_width * l->dilate_across;
        int value = (int)pixel(b, y, x, c, &inside);
        *sum += value;
        *count += inside;
        int q = value + l->in.zero;
        *most = inside && (least ? q < *most : q > *most) ? q : *most;
    }
}

static int average_formula(const bed *b, int oy, int ox, int c) {
    exact sum;
    int most;
    int count;
    gather(b, oy, ox, c, &sum, &most, &count);
    return rescaled(b, sum, (b->layer.flags & NSK_FLAG_COUNTED) != 0 && count > 0 ? count - 1 : 0);
}

static int max_formula(const bed *b, int oy, int ox, int c) {
    exact sum;
    int most;
    int count;
    gather(b, oy, ox, c, &sum, &most, &count);
    return (int8_t)(most < b->layer.low    ? b->layer.low
                    : most > b->layer.high ? b->layer.high
                                           : most);
}

static void pools_are_exact(void) {
    static const uint32_t flags[] = {NSK_FLAG_COUNTED, NSK_FLAG_LEAST};
    for (int kind = 0; kind < 2; kind++) {
        bed *b = bed_new(14 + (uint64_t)kind);
        while (b->checked < 2 * ENOUGH) {
            int channels = between(b, 1, 9);
            start(b, kind == 0 ? NSK_KIND_AVERAGE_POOL : NSK_KIND_MAX_POOL);
            draw_window(b, channels, channels);
            draw_scales(b, 16, 1);
            b->layer.flags = between(b, 0, 1) == 0 ? flags[kind] : 0;
            if (kind == 0) {
                widen(b);
            }
            check_output(b, kind == 0 ? &nsk_operation_average_pool : &nsk_operation_max_pool,
                         kind == 0 ? average_formula : max_formula);
        }
        bed_done(b);
    }
}

/* Both inputs of a pair, less their zero points. */
static void pair(const bed *b, int y, int x, int c, exact *left, exact *right) {
    const nsk_layer *l = &b->layer;
    int at = (y * l->in.width + x) * l->in.channels + c;
    int other = l->second.height * l->second.width > 1 ? at : l->second.channels > 1 ? c : 0;
    *left = b->workspace[at] - l->in.zero;
    *right = b->workspace[l->second.offset + (uint32_t)other] - l->second.zero;
}

/* The sum, or the larger or smaller of its parts. */
static int sum_formula(const bed *b, int y, int x, int c) {
    const nsk_layer *l = &b->layer;
    exact left;
    exact right;
    pair(b, y, x, c, &left, &right);
    left *= nsk_word(b->multipliers, 0);
    right *= nsk_word(b->multipliers, 1);
    exact sum = l->kind == NSK_KIND_ADD                       ? left + right
                : (l->kind == NSK_KIND_MAX) == (left > right) ? left
                                                              : right;
    exact value =
        exact_floor_divide(sum + ((exact)1 << (b->shifts[0] - 1)), (exact)1 << b->shifts[0]) +
        l->out.zero;
    return (int8_t)(value < l->low ? l->low : value > l->high ? l->high : value);
}

static int multiply_formula(const bed *b, int y, int x, int c) {
    exact left;
    exact right;
    pair(b, y, x, c, &left, &right);
    return rescaled(b, left * right, 0);
}

static void draw_pair(bed *b, nsk_kind kind) {
    int h = between(b, 1, 9);
    int w = between(b, 1, 9);
    int c = between(b, 1, 12);
    int second = between(b, 0, 2); /* as large, one pixel, one number */
    start(b, kind);
    draw_tensor(b, &b->layer.in, 0, h, w, c);
    draw_tensor(b, &b->layer.second, MOST, second == 0 ? h : 1, second == 0 ? w : 1,
                second == 2 ? 1 : c);
    draw_tensor(b, &b->layer.out, 2 * MOST, h, w, c);
    draw_scales(b, 2, 100);
    if (kind != NSK_KIND_MULTIPLY) { /* a difference has a factor below zero */
        int least = kind == NSK_KIND_ADD ? -(1 << 21) : 0;
        put_word(b->multipliers, 0, between(b, least, 1 << 21));
        put_word(b->multipliers, 1, between(b, least, 1 << 21));
        b->shifts[0] = (uint8_t)between(b, 1, 30);
    }
}

static void pairs_are_exact(void) {
    static const struct {
        nsk_kind kind;
        const nsk_operation *operation;
        formula *expected;
    } cases[] = {{NSK_KIND_ADD, &nsk_operation_add, sum_formula},
                 {NSK_KIND_MULTIPLY, &nsk_operation_multiply, multiply_formula},
                 {NSK_KIND_MAX, &nsk_operation_max, sum_formula},
                 {NSK_KIND_MIN, &nsk_operation_min, sum_formula}};
    for (size_t i = 0; i < sizeof cases / sizeof *cases; i++) {
        bed *b = bed_new(16 + (uint64_t)i);
        while (b->checked < ENOUGH) {
            draw_pair(b, cases[i].kind);
            check_output(b, cases[i].operation, cases[i].expected);
        }
        bed_done(b);
    }
}

/* ---- tensors whose levels have parts ---- */

/* Element `at` of a tensor, in 256ths of a level. */
static exact parts_at(const bed *b, const nsk_tensor *t, int at) {
    const int8_t *place = b->workspace + t->offset + (ptrdiff_t)at * t->element;
    return (exact)nsk_element_at(place, t->element) * (t->element == 2 ? 1 : 256);
}

static exact parts(const bed *b, int y, int x, int c) {
    const nsk_tensor *t = &b->layer.in;
    bool inside = y >= 0 && y < t->height && x >= 0 && x < t->width;
    return inside ? parts_at(b, t, (y * t->width + x) * t->channels + c) : (exact)t->zero * 256;
}

/* numerator / 2^shift parts above the zero point, to the nearest that the output holds. */
static int of_parts(const bed *b, exact numerator, int shift) {
    const nsk_tensor *out = &b->layer.out;
    int bits = out->element == 2 ? shift : shift + 8;
    exact divisor = (exact)1 << bits;
    exact value = exact_floor_divide(numerator + divisor / 2, divisor) +
                  (exact)out->zero * (out->element == 2 ? 256 : 1);
    int low = b->layer.low * (out->element == 2 ? 256 : 1);
    int high = b->layer.high * (out->element == 2 ? 256 : 1);
    high = out->element == 2 && b->layer.high == 127 ? INT16_MAX : high; /* no clamp */
    return (int)(value < low ? low : value > high ? high : value);
}

static int of_products(const bed *b, exact products, int c) {
    int32_t word = nsk_word(b->requantise, (uint32_t)c);
    int fields = (int)((uint32_t)word % 512U);
    return of_parts(b, (products + (exact)exact_bias(word) * 256) * (fields % 16), fields / 16);
}

static int conv_fine_formula(const bed *b, int oy, int ox, int c) {
    const nsk_layer *l = &b->layer;
    int inputs = l->in.channels / (int)l->count;
    int first = c / (l->out.channels / (int)l->count) * inputs;
    const int8_t *w = b->weights + c * b->row;
    exact sum = 0;
    for (int k = 0; k < l->kernel_height * l->kernel_width; k++) {
        int y = oy * l->stride_down - l->pad_top + k / l->kernel_width * l->dilate_down;
        int x = ox * l->stride_across - l->pad_left + k % l->kernel_width * l->dilate_across;
        for (int i = 0; i < inputs; i++) {
            sum += *w++ * parts(b, y, x, first + i);
        }
    }
    return of_products(b, sum, c);
}

static int depthwise_fine_formula(const bed *b, int oy, int ox, int c) {
    const nsk_layer *l = &b->layer;
    exact sum = 0;
    for (int k = 0; k < l->kernel_height * l->kernel_width; k++) {
        int y = oy * l->stride_down - l->pad_top + k / l->kernel_width * l->dilate_down;
        int x = ox * l->stride_across - l->pad_left + k % l->kernel_width * l->dilate_across;
        sum += b->weights[k * l->out.channels + c] *
               parts(b, y, x, c / (l->out.channels / l->in.channels));
    }
    return of_products(b, sum, c);
}

/* A line between two entries, rounded once to parts, and then to a level where there are none. */
static int lut_fine_formula(const bed *b, int y, int x, int c) {
    exact place = parts(b, y, x, c) + 32768;
    int index = (int)(place / 256);
    exact part = place % 256;
    int16_t both[2];
    memcpy(both, b->weights + 2 * index, sizeof both);
    exact value = exact_floor_divide(both[0] * (256 - part) + both[1] * part + 128, 256);
    return of_parts(b, value - (exact)b->layer.out.zero * 256, 0);
}

static int add_fine_formula(const bed *b, int y, int x, int c) {
    const nsk_layer *l = &b->layer;
    int at = (y * l->in.width + x) * l->in.channels + c;
    int other = l->second.height * l->second.width > 1 ? at : l->second.channels > 1 ? c : 0;
    exact left = parts_at(b, &l->in, at) - (exact)l->in.zero * 256;
    exact right = parts_at(b, &l->second, other) - (exact)l->second.zero * 256;
    return of_parts(b, left * nsk_word(b->multipliers, 0) + right * nsk_word(b->multipliers, 1),
                    b->shifts[0]);
}

/* Makes the input, the second one, the output fine, or not; one of them at least. */
static void refine(bed *b) {
    nsk_tensor *const tensors[] = {&b->layer.in, &b->layer.second, &b->layer.out};
    int which = between(b, 1, 7);
    for (int i = 0; i < 3; i++) {
        if ((which >> i & 1) != 0) {
            tensors[i]->element = 2;
            tensors[i]->fraction = 8;
            tensors[i]->pixel_stride = 2 * tensors[i]->channels;
        }
    }
}

static void draw_fine(bed *b, nsk_kind kind) {
    int c = between(b, 1, 12);
    if (kind == NSK_KIND_CONV_FINE) {
        draw_conv(b);
    } else if (kind == NSK_KIND_ADD_FINE) {
        draw_pair(b, NSK_KIND_ADD);
    } else {
        start(b, kind);
        draw_window(b, c, c * (kind == NSK_KIND_DEPTHWISE_FINE ? between(b, 1, 2) : 1));
        draw_scales(b, b->layer.out.channels, b->layer.kernel_height * b->layer.kernel_width);
    }
    if (kind == NSK_KIND_LUT_FINE) {
        draw_tensor(b, &b->layer.out, 2 * MOST, b->layer.in.height, b->layer.in.width, c);
    }
    b->layer.kind = kind;
    refine(b);
}

static void fine_kinds_are_exact(void) {
    static const struct {
        nsk_kind kind;
        const nsk_operation *operation;
        formula *expected;
    } cases[] = {{NSK_KIND_CONV_FINE, &nsk_operation_conv_fine, conv_fine_formula},
                 {NSK_KIND_DEPTHWISE_FINE, &nsk_operation_depthwise_fine, depthwise_fine_formula},
                 {NSK_KIND_LUT_FINE, &nsk_operation_lut_fine, lut_fine_formula},
                 {NSK_KIND_ADD_FINE, &nsk_operation_add_fine, add_fine_formula}};
    for (size_t i = 0; i < sizeof cases / sizeof *cases; i++) {
        bed *b = bed_new(80 + (uint64_t)i);
        while (b->checked < ENOUGH) {
            draw_fine(b, cases[i].kind);
            check_output(b, cases[i].operation, cases[i].expected);
        }
        bed_done(b);
    }
}

/* The longest sums: thousands of taps, all at the ends of what they hold. */
static void long_fine_sums_hold(void) {
    bed *b = bed_new(90);
    for (int ends = 0; ends < 4; ends++) {
        start(b, NSK_KIND_CONV_FINE);
        draw_tensor(b, &b->layer.in, 0, 1, 1, 4400);
        draw_tensor(b, &b->layer.out, 2 * MOST, 1, 1, 3);
        b->layer.scratch = MOST;
        b->row = row_bytes(b, 4400, 3);
        memset(b->weights, ends % 2 == 0 ? -127 : 127, 3 * 4400);
        draw_scales(b, 3, 4400);
        for (int i = 0; i < 4400; i++) {
            const int16_t end = ends / 2 == 0 ? INT16_MIN : INT16_MAX;
            memcpy(b->workspace + 2 * i, &end, sizeof end);
        }
        b->layer.in.element = b->layer.out.element = 2;
        b->layer.in.fraction = b->layer.out.fraction = 8;
        b->layer.low = -128;
        b->layer.high = 127;
        check_output(b, &nsk_operation_conv_fine, conv_fine_formula);
    }
    CU_ASSERT_EQUAL(b->wrong, 0);
    free(b);
}

static int matmul_formula(const bed *b, int y, int x, int c) {
    const nsk_layer *l = &b->layer;
    const int8_t *left = b->workspace + (y * l->in.width + x) * l->in.channels;
    const int8_t *right = b->workspace + MOST + (y * l->second.width + c) * l->in.channels;
    exact sum = 0;
    for (int k = 0; k < l->in.channels; k++) {
        sum += (exact)(left[k] - l->in.zero) * (right[k] - l->second.zero);
    }
    return rescaled(b, sum, 0);
}

static void products_of_tensors_are_exact(void) {
    bed *b = bed_new(41);
    while (b->checked < ENOUGH) {
        int h = between(b, 1, 4);
        int w = between(b, 1, 8);
        int inner = between(b, 1, 40);
        int outputs = between(b, 1, 8);
        start(b, NSK_KIND_MATMUL);
        draw_tensor(b, &b->layer.in, 0, h, w, inner);
        draw_tensor(b, &b->layer.second, MOST, h, outputs, inner);
        draw_tensor(b, &b->layer.out, 2 * MOST, h, w, outputs);
        draw_scales(b, 1, inner);
        check_output(b, &nsk_operation_matmul, matmul_formula);
    }
    bed_done(b);
}

/* What a level is counted as, and an element of the input. */
static exact parts_of_level(const nsk_layer *l) {
    return l->kind == NSK_KIND_NORMALISE_FINE ? 256 : 1;
}

static exact of_one(const bed *b, int i) {
    return b->layer.kind == NSK_KIND_NORMALISE_FINE ? parts_at(b, &b->layer.in, i)
                                                    : b->workspace[i];
}

/* n^2 times the variance of an element's block, and n times its distance from the mean. */
static void away_and_variance(const bed *b, int y, int x, int c, exact *away, exact *variance) {
    const nsk_layer *l = &b->layer;
    bool whole = l->kind == NSK_KIND_NORMALISE_WHOLE;
    int each = l->in.channels / (int)l->count;
    exact unit = parts_of_level(l);
    exact n = 0;
    exact sum = 0;
    exact squares = 0;
    for (int i = 0; i < l->in.height * l->in.width * l->in.channels; i++) {
        int pixel_of = i / l->in.channels;
        if ((whole || pixel_of == y * l->in.width + x) && i % l->in.channels / each == c / each) {
            exact q = of_one(b, i) - l->in.zero * unit;
            n++;
            sum += q;
            squares += q * q;
        }
    }
    sum = (l->flags & NSK_FLAG_CENTRED) != 0 ? sum : 0;
    *variance = n * squares - sum * sum;
    *away = n * (of_one(b, (y * l->in.width + x) * l->in.channels + c) - l->in.zero * unit) - sum;
}

static int normalised_formula(const bed *b, int y, int x, int c) {
    const nsk_layer *l = &b->layer;
    exact away;
    exact variance;
    exact root = 0;
    away_and_variance(b, y, x, c, &away, &variance);
    exact least = (exact)(uint32_t)nsk_word(b->multipliers, 0) +
                  (exact)(uint32_t)nsk_word(b->multipliers, 1) * ((exact)1 << 32);
    variance += least * parts_of_level(l) * parts_of_level(l);
    int power = 0; /* variance = v x 4^power */
    for (; variance >= (exact)1 << 32; power++) {
        variance = exact_floor_divide(variance, 4);
    }
    for (; variance < (exact)1 << 30; power--) {
        variance *= 4;
    }
    while ((root + 1) * (root + 1) <= variance) {
        root += (root + 1025) * (root + 1025) <= variance ? 1024 : 1;
    }
    exact d = power + 4 >= 0 ? exact_floor_divide(away, (exact)1 << (power + 4))
                             : away * ((exact)1 << (-4 - power));
    d = d > 131072 ? 131072 : d < -131072 ? -131072 : d;
    exact factor = exact_floor_divide(268435456 + root / 2, root);
    exact z = exact_floor_divide(d * factor + 8192, 16384);
    int gain = (int16_t)(b->table[2 * c] | b->table[2 * c + 1] << 8);
    exact shift = (exact)1 << nsk_word(b->multipliers, 2);
    return clamped(l, exact_floor_divide(z * gain + nsk_word(b->requantise, (uint32_t)c), shift));
}

/* Of few numbers and many, near each other and far apart, in groups or not. */
static void draw_normalise(bed *b, nsk_kind kind) {
    nsk_layer *l = &b->layer;
    bool whole = kind == NSK_KIND_NORMALISE_WHOLE;
    bool fine = kind == NSK_KIND_NORMALISE_FINE;
    int groups = between(b, 0, 2) == 0 ? between(b, 2, 4) : 1;
    int side = whole && between(b, 0, 9) == 0 ? 14 : between(b, 1, 3);
    int channels = groups * between(b, 1, side > 3 ? 2 : 40);
    int near = between(b, 0, 1) == 0 ? 127 : between(b, 0, 3);
    start(b, kind);
    draw_tensor(b, &l->in, 0, side, side, channels);
    draw_tensor(b, &l->out, 2 * MOST, side, side, channels);
    l->count = (uint32_t)groups;
    l->flags = between(b, 0, 2) == 0 ? 0 : NSK_FLAG_CENTRED;
    l->table = b->table;
    for (int i = 0; i < side * side * channels && near < 127; i++) {
        int q = l->in.zero / 2 + between(b, -near, near);
        int16_t parts = (int16_t)(q * 128);
        b->workspace[i] = fine ? b->workspace[i] : (int8_t)q;
        memcpy(b->workspace + 2 * i, &parts, fine ? sizeof parts : 0);
    }
    l->in.element = fine ? 2 : 1;
    l->in.fraction = fine ? 8 : 0;
    bool tiny = between(b, 0, 1) == 0;
    put_word(b->multipliers, 0, tiny ? 1 : (int32_t)random_bits(&b->random));
    put_word(b->multipliers, 1,
             tiny || between(b, 0, 3) != 0 ? 0 : between(b, 0, (1 << (fine ? 14 : 30)) - 1));
    put_word(b->multipliers, 2, between(b, 12, 24));
    for (int c = 0; c < channels; c++) {
        int gain =
            between(b, 0, 9) == 0 ? NSK_MOST_GAIN : between(b, -NSK_MOST_GAIN, NSK_MOST_GAIN);
        int offset = between(b, 0, 9) == 0 ? -NSK_MOST_OFFSET : between(b, -(1 << 28), 1 << 28);
        b->table[2 * c] = (uint8_t)(gain & 255);
        b->table[2 * c + 1] = (uint8_t)(gain >> 8 & 255);
        put_word(b->requantise, c, offset);
    }
}

static void normalisations_are_exact(void) {
    static const struct {
        nsk_kind kind;
        const nsk_operation *operation;
    } cases[] = {{NSK_KIND_NORMALISE, &nsk_operation_normalise},
                 {NSK_KIND_NORMALISE_WHOLE, &nsk_operation_normalise_whole},
                 {NSK_KIND_NORMALISE_FINE, &nsk_operation_normalise_fine}};
    for (size_t i = 0; i < sizeof cases / sizeof *cases; i++) {
        bed *b = bed_new(43);
        while (b->checked < ENOUGH) {
            draw_normalise(b, cases[i].kind);
            check_output(b, cases[i].operation, normalised_formula);
        }
        bed_done(b);
    }
}

/* The formula itself: what it gives is within a 2048th, and what gains and offsets lose, of the
 * number that is meant. */
static void normalisations_are_what_is_meant(void) {
    bed *b = bed_new(44);
    double most = 0.0;
    for (int round = 0; round < 400; round++) {
        draw_normalise(b, round % 2 == 0);
        nsk_layer *l = &b->layer;
        put_word(b->multipliers, 2, 17); /* 16384 / 2^7: 128 levels a deviation */
        put_word(b->multipliers, 1, 0);
        for (int c = 0; c < l->in.channels; c++) {
            exact away;
            exact variance;
            away_and_variance(b, 0, 0, c, &away, &variance);
            double least = (double)(uint32_t)nsk_word(b->multipliers, 0);
            double z = (double)away / sqrt((double)variance + least);
            put_word(b->requantise, c, 0);
            b->table[2 * c] = 0;
            b->table[2 * c + 1] = NSK_MOST_GAIN >> 8;
            l->low = -128;
            l->high = 127;
            double height = 128.0 * z;
            double off = fabs(normalised_formula(b, 0, 0, c) + 0.5 - height) - 0.5;
            most = fabs(height) < 127.0 ? fmax(most, off) : most;
        }
    }
    CU_ASSERT(most < 128.0 / 2048.0 + 128.0 / 1024.0);
    free(b);
}

static int table_formula(const bed *b, int y, int x, int c) {
    int q = b->workspace[(y * b->layer.in.width + x) * b->layer.in.channels + c];
    return b->weights[q + 128];
}

static int softmax_formula(const bed *b, int y, int x, int c) {
    const int8_t *in = b->workspace + (y * b->layer.in.width + x) * b->layer.in.channels;
    int top = -128;
    exact sum = 0;
    exact own = 0;
    for (int k = 0; k < b->layer.in.channels; k++) {
        top = in[k] > top ? in[k] : top;
    }
    for (int k = 0; k < b->layer.in.channels; k++) {
        int below = top - in[k];
        const uint8_t *coarse = b->table + 2 * (below / 16);
        const uint8_t *fine = b->table + 32 + 2 * (below % 16);
        exact product = (exact)(coarse[0] + 256 * coarse[1]) * (fine[0] + 256 * fine[1]);
        exact part = exact_floor_divide(product + 32768, 65536);
        sum += part;
        own = k == c ? part : own;
    }
    exact share = exact_floor_divide(own * 256 + exact_floor_divide(sum, 2), sum) - 128;
    return (int8_t)(share > 127 ? 127 : share);
}

/* e^(-scale x below), a digit of base eight after the other. */
static exact part_below(const bed *b, int below) {
    exact part = b->table[2 * (below % 8)] + 256 * b->table[2 * (below % 8) + 1];
    for (int digit = 1; digit < 5; digit++) {
        below /= 8;
        const uint8_t *entry = b->table + 16 * digit + 2 * (below % 8);
        part = exact_floor_divide(part * (entry[0] + 256 * entry[1] + 1), 65536);
    }
    return below < 8 ? part : 0;
}

/* In units of 2^-30; of the sum, its sixteen highest bits. */
static int share_of(exact part, exact sum) {
    exact unit = 1;
    while (exact_floor_divide(sum, unit) >= 65536) {
        unit *= 2;
    }
    exact factor = exact_floor_divide((exact)1 << 31, exact_floor_divide(sum, unit));
    return (int)exact_floor_divide(part * factor, 2 * unit);
}

static int scores_formula(const bed *b, int y, int x, int c) {
    const nsk_tensor *in = &b->layer.in;
    int own = nsk_element_at(b->workspace + c * in->element, in->element);
    int away = own - in->zero;
    int top = own;
    exact sum = 0;
    (void)y;
    (void)x;
    if ((b->layer.flags & NSK_FLAG_SHARES) != 0) {
        for (int k = 0; k < in->channels; k++) {
            int level = nsk_element_at(b->workspace + k * in->element, in->element);
            top = level > top ? level : top;
        }
        for (int k = 0; k < in->channels; k++) {
            sum += part_below(b, top - nsk_element_at(b->workspace + k * in->element, in->element));
        }
        return share_of(part_below(b, top - own), sum);
    }
    if ((b->layer.flags & NSK_FLAG_EACH) != 0) {
        exact less = part_below(b, away < 0 ? -away : away);
        return share_of(away < 0 ? less : part_below(b, 0), less + part_below(b, 0));
    }
    return away * (1 << 22);
}

static void scores_are_exact(void) {
    static const uint32_t flags[] = {NSK_FLAG_SHARES, NSK_FLAG_SHARES, NSK_FLAG_EACH, 0};
    bed *b = bed_new(29);
    while (b->checked < ENOUGH) {
        start(b, NSK_KIND_SCORES);
        int classes = between(b, 0, 3) == 0 ? between(b, 1, 300) : between(b, 1, 40);
        draw_tensor(b, &b->layer.in, 0, 1, 1, classes);
        draw_tensor(b, &b->layer.out, 2 * MOST, 1, 1, classes);
        b->layer.out.element = 4;
        b->layer.flags = flags[between(b, 0, 3)];
        b->layer.in.element = (uint8_t)(b->layer.flags != 0 ? between(b, 1, 2) : 1);
        b->layer.in.zero = b->layer.in.element == 1 ? b->layer.in.zero : 0;
        b->layer.weights = b->table;
        for (int i = 0; i < 40; i++) { /* the first of each is not small */
            int entry = i % 8 == 0 ? between(b, 65000, 65535) : between(b, 0, 65535);
            b->table[2 * i] = (uint8_t)entry;
            b->table[2 * i + 1] = (uint8_t)(entry >> 8);
        }
        check_output(b, &nsk_operation_scores, scores_formula);
    }
    bed_done(b);
}

/* Whatever the logits' scale: near e^x over the sum of all, and the highest first. */
static void scores_are_shares(void) {
    enum { CLASSES = 1000 };
    static int32_t workspace[2 * CLASSES];
    bed *b = bed_new(30);
    for (int round = 0; round < 100 / TESTS_FEWER; round++) {
        nsk_lowered_layer low = {
            .kind = NSK_KIND_SCORES, .shares = true, .low = -INFINITY, .high = INFINITY};
        const nsk_scale scale = {ldexpf(1.0F, between(b, -11, -4)), 0};
        nsk_integer_layer r = {.channels = CLASSES};
        nsk_error error = {.text = ""};
        double sum = 0.0;
        int best = 0;
        CU_ASSERT_FATAL(nsk_integer_layer_make(&low, scale, scale, scale, &r, &error));
        int16_t *in = (int16_t *)(void *)workspace;
        int spread = 1 << between(b, 1, 13);
        for (int c = 0; c < CLASSES; c++) {
            in[c] = (int16_t)between(b, -spread, spread);
            best = in[c] > in[best] ? c : best;
        }
        for (int c = 0; c < CLASSES; c++) {
            sum += exp((double)scale.scale * (in[c] - in[best]));
        }
        nsk_layer l = {.kind = NSK_KIND_SCORES, .flags = NSK_FLAG_SHARES};
        draw_tensor(b, &l.in, 0, 1, 1, CLASSES);
        draw_tensor(b, &l.out, 4 * CLASSES, 1, 1, CLASSES);
        l.in.element = 2;
        l.out.element = 4;
        l.in.zero = l.out.zero = 0;
        l.table = r.table;
        nsk_operation_scores.run(&l, (int8_t *)workspace);
        const nsk_model model = {.classes = CLASSES};
        const int32_t *scores = workspace + CLASSES;
        CU_ASSERT_EQUAL((int)nsk_best(&model, scores), best);
        for (int c = 0; c < CLASSES; c++) {
            double wanted = exp((double)scale.scale * (in[c] - in[best])) / sum;
            double got = (double)scores[c] / NSK_CERTAIN;
            CU_ASSERT(fabs(got - wanted) <= 2e-4 * wanted + 3.0 / 65536.0 / sum);
            CU_ASSERT(in[c] == in[best] || scores[c] < scores[best]);
        }
        nsk_integer_layer_clear(&r);
    }
    free(b);
}

static void tables_are_exact(void) {
    for (int kind = 0; kind < 2; kind++) {
        bed *b = bed_new(18 + (uint64_t)kind);
        while (b->checked < ENOUGH) {
            start(b, kind == 0 ? NSK_KIND_LUT : NSK_KIND_SOFTMAX);
            int h = between(b, 1, 5);
            int w = between(b, 1, 5);
            int c = between(b, 1, 40);
            draw_tensor(b, &b->layer.in, 0, h, w, c);
            draw_tensor(b, &b->layer.out, 2 * MOST, h, w, c);
            if (kind == 1) {
                b->layer.weights = b->table;
                for (int i = 0; i < 64; i++) { /* the first of each is not small */
                    b->table[i] = (uint8_t)between(b, i % 32 < 2 ? 128 : 0, 255);
                }
            }
            check_output(b, kind == 0 ? &nsk_operation_lut : &nsk_operation_softmax,
                         kind == 0 ? table_formula : softmax_formula);
        }
        bed_done(b);
    }
}

/* ---- moves: what stands at each place of the output, found by walking the loops one by one ----
 */

static int8_t moved[MOST];

static int moved_formula(const bed *b, int y, int x, int c) {
    return moved[(y * b->layer.out.width + x) * b->layer.out.channels + c];
}

static int32_t move_number(const bed *b, uint32_t loop, uint32_t part) {
    return nsk_word(b->table, NSK_M_LOOPS + 3U * loop + part);
}

/* Loops of random counts and steps, forwards and backwards, and where they must start so that both
 * tensors hold all that they reach. */
static void draw_move(bed *b) {
    int32_t origin[2] = {between(b, 0, 3), between(b, 0, 3)};
    int32_t size[2] = {origin[0], origin[1]};
    start(b, NSK_KIND_COPY);
    b->layer.count = (uint32_t)between(b, 1, 4);
    b->layer.multipliers = b->table;
    for (int i = 0; i < (int)b->layer.count; i++) {
        int count = between(b, 1, 5);
        put_word(b->table, NSK_M_LOOPS + 3 * i, count);
        for (int side = 0; side < 2; side++) {
            int step = between(b, -6, 6);
            put_word(b->table, NSK_M_LOOPS + 3 * i + 1 + side, step);
            size[side] += abs(step) * (count - 1);
            origin[side] += step < 0 ? -step * (count - 1) : 0;
        }
    }
    put_word(b->table, NSK_M_FILL, between(b, -128, 127));
    put_word(b->table, NSK_M_IN_ORIGIN, origin[0]);
    put_word(b->table, NSK_M_OUT_ORIGIN, origin[1]);
    draw_tensor(b, &b->layer.in, 0, 1, 1, size[0] + between(b, 1, 9));
    draw_tensor(b, &b->layer.out, 2 * MOST, 1, 1, size[1] + between(b, 1, 9));
    b->layer.flags = (uint32_t)between(b, 0, 3) << 1; /* fill, table */
}

static void expect_move(bed *b) {
    const nsk_layer *l = &b->layer;
    int copies = 1;
    for (uint32_t i = 0; i < l->count; i++) {
        copies *= move_number(b, i, 0);
    }
    for (int i = 0; i < l->out.channels; i++) {
        moved[i] = (l->flags & NSK_FLAG_FILL) != 0 ? (int8_t)nsk_word(b->table, NSK_M_FILL)
                                                   : b->workspace[2 * MOST + i];
    }
    for (int n = 0; n < copies; n++) {
        int32_t from = nsk_word(b->table, NSK_M_IN_ORIGIN);
        int32_t to = nsk_word(b->table, NSK_M_OUT_ORIGIN);
        int rest = n;
        for (uint32_t i = 0; i < l->count; i++) {
            from += rest % move_number(b, i, 0) * move_number(b, i, 1);
            to += rest % move_number(b, i, 0) * move_number(b, i, 2);
            rest /= move_number(b, i, 0);
        }
        int8_t q = b->workspace[from];
        moved[to] = (l->flags & NSK_FLAG_TABLE) != 0 ? b->weights[q + 128] : q;
    }
}

static void moves_are_exact(void) {
    bed *b = bed_new(20);
    while (b->checked < ENOUGH) {
        draw_move(b);
        expect_move(b);
        check_output(b, &nsk_operation_copy, moved_formula);
    }
    bed_done(b);
}

static int constant_formula(const bed *b, int y, int x, int c) {
    return b->weights[(y * b->layer.out.width + x) * b->layer.out.channels + c];
}

static void constants_are_exact(void) {
    bed *b = bed_new(21);
    while (b->checked < ENOUGH) {
        start(b, NSK_KIND_CONSTANT);
        draw_tensor(b, &b->layer.out, 2 * MOST, between(b, 1, 9), between(b, 1, 9),
                    between(b, 1, 20));
        check_output(b, &nsk_operation_constant, constant_formula);
    }
    bed_done(b);
}

/* The three numbers of a row or column of a resize. */
static void blend_numbers(const bed *b, int index, int *first, int *second, exact *part) {
    const uint8_t *at = b->table + NSK_BLEND_BYTES * index;
    *first = at[0] + 256 * at[1];
    *second = at[2] + 256 * at[3];
    *part = at[4] + 256 * at[5];
}

static int resize_formula(const bed *b, int y, int x, int c) {
    const nsk_layer *l = &b->layer;
    int rows[2];
    int columns[2];
    exact down;
    exact across;
    bool inside;
    blend_numbers(b, y, &rows[0], &rows[1], &down);
    blend_numbers(b, l->out.height + x, &columns[0], &columns[1], &across);
    exact sum = 0;
    for (int k = 0; k < 4; k++) {
        exact share = (k / 2 == 0 ? 2048 - down : down) * (k % 2 == 0 ? 2048 - across : across);
        sum += share * pixel(b, rows[k / 2], columns[k % 2], c, &inside);
    }
    exact value = exact_floor_divide(sum + (1 << 21), 1 << 22) + l->out.zero;
    return (int8_t)(value < l->low ? l->low : value > l->high ? l->high : value);
}

static void resizes_are_exact(void) {
    bed *b = bed_new(22);
    while (b->checked < ENOUGH) {
        start(b, NSK_KIND_RESIZE);
        int channels = between(b, 1, 9);
        draw_tensor(b, &b->layer.in, 0, between(b, 1, 9), between(b, 1, 9), channels);
        draw_tensor(b, &b->layer.out, 2 * MOST, between(b, 1, 20), between(b, 1, 20), channels);
        b->layer.weights = b->table;
        for (int i = 0; i < b->layer.out.height + b->layer.out.width; i++) {
            int size = i < b->layer.out.height ? b->layer.in.height : b->layer.in.width;
            int part = between(b, 0, 2048);
            uint8_t *at = b->table + NSK_BLEND_BYTES * i;
            at[0] = (uint8_t)between(b, 0, size - 1);
            at[2] = (uint8_t)between(b, 0, size - 1);
            at[1] = at[3] = 0;
            at[4] = (uint8_t)part;
            at[5] = (uint8_t)(part >> 8);
        }
        check_output(b, &nsk_operation_resize, resize_formula);
    }
    bed_done(b);
}

/* Every input spreads over the outputs; here each output asks every input whether it does. */
static int transposed_formula(const bed *b, int oy, int ox, int c) {
    const nsk_layer *l = &b->layer;
    int inputs = l->in.channels / (int)l->count;
    int group = c / (l->out.channels / (int)l->count);
    int area = l->kernel_height * l->kernel_width;
    exact acc = 0;
    for (int n = 0; n < l->in.height * l->in.width * area; n++) {
        int y = n / area / l->in.width;
        int x = n / area % l->in.width;
        int ky = n % area / l->kernel_width;
        int kx = n % area % l->kernel_width;
        if (y * l->stride_down + ky * l->dilate_down - l->pad_top != oy ||
            x * l->stride_across + kx * l->dilate_across - l->pad_left != ox) {
            continue;
        }
        for (int i = 0; i < inputs; i++) {
            bool inside;
            acc += (exact)pixel(b, y, x, group * inputs + i, &inside) *
                   b->weights[(c * area + n % area) * inputs + i];
        }
    }
    return requantise(b, acc, c);
}

static void transposed_is_exact(void) {
    bed *b = bed_new(23);
    while (b->checked < ENOUGH) {
        int groups = between(b, 0, 2) == 0 ? between(b, 2, 3) : 1;
        int inputs = groups * between(b, 1, 5);
        start(b, NSK_KIND_CONV_TRANSPOSE);
        draw_window(b, inputs, groups * between(b, 1, 5));
        b->layer.count = (uint32_t)groups;
        b->layer.out.height = (uint16_t)between(b, 1, 16);
        b->layer.out.width = (uint16_t)between(b, 1, 16);
        draw_scales(b, b->layer.out.channels, inputs / groups * 4);
        check_output(b, &nsk_operation_conv_transpose, transposed_formula);
    }
    bed_done(b);
}

CU_TestInfo kernel_tests[] = {
    {"convolution", conv_is_exact},
    {"depthwise convolution", depthwise_is_exact},
    {"dense", dense_is_exact},
    {"average, maximum and minimum", pools_are_exact},
    {"sum, product, larger and smaller", pairs_are_exact},
    {"product of two tensors", products_of_tensors_are_exact},
    {"normalisation", normalisations_are_exact},
    {"normalisation is what is meant", normalisations_are_what_is_meant},
    {"table and softmax", tables_are_exact},
    {"scores", scores_are_exact},
    {"scores are shares of a whole", scores_are_shares},
    {"move", moves_are_exact},
    {"constant", constants_are_exact},
    {"resize", resizes_are_exact},
    {"transposed convolution", transposed_is_exact},
    {"fine kinds are exact", fine_kinds_are_exact},
    {"long fine sums hold", long_fine_sums_hold},
    CU_TEST_INFO_NULL,
};
