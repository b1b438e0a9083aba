/* The inner product of convolutions and dense layers, whatever this machine chooses for it and the
 * portable one, against exact arithmetic: rows, steps and counts that layers seldom have. */
#include <stdlib.h>
#include <string.h>

#include "../suites.h"
#include "base/random.h"
#include "device/depthwise.h"
#include "device/format.h"
#include "device/paired.h"
#include "device/product.h"
#include "device/scratch.h"
#include "reference/exact.h"
#if defined(__x86_64__)
#include "device/x86-64/ways.h"
#endif

/* Only hosts with vectors of their own have two ways. */
#if !defined(__x86_64__)
#define nsk_multiply_out_plain                    nsk_multiply_out
#define nsk_depthwise_run_direct                  nsk_depthwise_run
#define nsk_depthwise_run_plain(l, w, first, end) nsk_depthwise_run(l, w)
#endif

enum { MOST_ROW = 6000, MOST_PIXELS = 40, MOST_OUTPUTS = 40, MOST_STEP = MOST_OUTPUTS + 8 };

typedef void multiply(const nsk_matmul *, const int8_t *, int32_t, int8_t *);

typedef struct bed {
    random_state random;
    nsk_matmul product;
    int32_t pixels;
    int8_t *in, *weights;
    _Alignas(4) int8_t scratch[NSK_WIDENED * MOST_ROW];
    _Alignas(4) uint8_t requantise[4 * MOST_OUTPUTS];
    int8_t out[MOST_PIXELS * MOST_STEP], expected[MOST_PIXELS * MOST_STEP];
} bed;

static int between(bed *b, int low, int high) {
    return low + random_below(&b->random, high - low + 1);
}

static void put_word(uint8_t *words, int index, int32_t value) {
    for (int i = 0; i < 4; i++) {
        words[4 * index + i] = (uint8_t)((uint32_t)value >> (8 * i));
    }
}

static void fill(bed *b, int8_t *bytes, int least, int most, int count) {
    int style = between(b, 0, 3); /* noise, or all at an end of the range */
    for (int i = 0; i < count; i++) {
        int noise = between(b, least, most);
        bytes[i] = (int8_t)(style == 0 ? least : style == 1 ? most : noise);
    }
}

/* What requantises a sum of about `size` products: near the outputs' range, or anything. */
static int32_t draw_requantise(bed *b, int size) {
    int shift = 9 + between(b, 0, 3);
    int factor = between(b, 8, 15);
    for (; size > 1; size /= 2) {
        shift++;
    }
    if (between(b, 0, 3) == 0) {
        shift = between(b, 1, 31);
        factor = between(b, 1, 15);
    }
    return between(b, -100000, 100000) * 512 + (shift < 31 ? shift : 31) * 16 + factor;
}

/* `plain`: the clamp is as nearly all layers have it. */
static void draw(bed *b, int row, bool plain) {
    nsk_matmul *p = &b->product;
    b->pixels = between(b, 1, MOST_PIXELS);
    p->row = row;
    p->outputs = between(b, 1, MOST_OUTPUTS);
    p->in_step = 4 * between(b, row / 4, row / 4 + 2);
    p->out_step = p->outputs + between(b, 0, 8);
    p->zero = between(b, -128, 127);
    p->low = plain ? -128 : between(b, -128, 0);
    p->high = plain ? 127 : between(b, 0, 127);
    p->plain_requantise = plain;
    p->scratch = b->scratch;
    p->weights = b->weights;
    p->requantise = b->requantise;
    for (int c = 0; c < p->outputs; c++) {
        put_word(b->requantise, c, draw_requantise(b, row));
    }
    fill(b, b->in, -128, 127, p->in_step * b->pixels + row);
    int most = row > 4380 ? 90 : 127; /* more could add up to more than sums hold */
    fill(b, b->weights, -most, most, row * p->outputs);
}

static void expect(bed *b) {
    const nsk_matmul *p = &b->product;
    memset(b->expected, 99, sizeof b->expected); /* what nobody may touch */
    for (int i = 0; i < b->pixels; i++) {
        for (int c = 0; c < p->outputs; c++) {
            int32_t requantise = (int32_t)nsk_load32(b->requantise + 4 * c);
            exact sum = exact_bias(requantise);
            for (int k = 0; k < p->row; k++) {
                sum += b->in[i * p->in_step + k] * b->weights[c * p->row + k];
            }
            b->expected[i * p->out_step + c] =
                (int8_t)exact_requantise(sum, requantise, p->zero, p->low, p->high);
        }
    }
}

static void check(bed *b, multiply *kernel) {
    memset(b->out, 99, sizeof b->out);
    kernel(&b->product, b->in, b->pixels, b->out);
    CU_ASSERT_EQUAL(memcmp(b->out, b->expected, sizeof b->out), 0);
}

static void products_are_exact(void) {
    static multiply *const kernels[] = {nsk_multiply_out, nsk_multiply_out_plain};
#if defined(__x86_64__)
    static multiply *const chosen[] = {nsk_multiply_out_avx2, nsk_multiply_out_vnni};
    const bool has[] = {nsk_has_avx2(), nsk_has_vnni()};
#endif
    bed *b = calloc(1, sizeof *b);
    b->random.state = 51;
    b->in = malloc((size_t)(MOST_ROW + 8) * MOST_PIXELS + MOST_ROW);
    b->weights = malloc((size_t)MOST_ROW * MOST_OUTPUTS);
    for (int round = 0; round < 400; round++) {
        /* words of a row: few, around what vectors hold, and more than any kernel keeps */
        int words = round % 40 == 0 ? between(b, 1100, 1200) : between(b, 1, 40);
        draw(b, 4 * words, round % 3 != 0);
        expect(b);
        for (size_t k = 0; k < sizeof kernels / sizeof *kernels; k++) {
            check(b, kernels[k]);
        }
#if defined(__x86_64__)
        for (size_t k = 0; k < sizeof chosen / sizeof *chosen && b->product.row <= NSK_WAYS_ROW;
             k++) {
            if (has[k]) {
                check(b, chosen[k]);
            }
        }
#endif
    }
    free(b->in);
    free(b->weights);
    free(b);
}

/* Two rows as a half word a tap, a + 256 b: taps 0, 2, 1, 3 of every four. */
static void put_pairs(bed *b) {
    static const int taps[] = {0, 2, 1, 3};
    const int row = b->product.row;
    int8_t *rows = malloc((size_t)(2 * row));
    for (int c = 0; c < b->product.outputs; c += 2) {
        int8_t *to = b->weights + c * row;
        memcpy(rows, to, (size_t)(2 * row));
        for (int i = 0; i < row; i++) {
            const int tap = i / 4 * 4 + taps[i % 4];
            const int half = rows[tap] + 256 * rows[row + tap];
            *to++ = (int8_t)((unsigned)half & 255U);
            *to++ = (int8_t)((unsigned)half >> 8 & 255U);
        }
    }
    free(rows);
}

static void pairs_are_exact(void) {
    bed *b = calloc(1, sizeof *b);
    b->random.state = 54;
    b->in = malloc((size_t)(MOST_ROW + 8) * MOST_PIXELS + MOST_ROW);
    b->weights = malloc((size_t)MOST_ROW * MOST_OUTPUTS);
    for (int round = 0; round < 200; round++) {
        do {
            draw(b, 4 * between(b, 1, 40), true);
        } while (b->product.outputs % 2 != 0);
        expect(b);
        put_pairs(b);
        check(b, nsk_multiply_paired);
    }
    free(b->in);
    free(b->weights);
    free(b);
}

/* No pixel at all, as at the end of a picture that fills the gathered windows exactly. */
static void nothing_is_written_for_nothing(void) {
    bed *b = calloc(1, sizeof *b);
    b->random.state = 52;
    b->in = calloc(1, MOST_ROW);
    b->weights = calloc(MOST_OUTPUTS, 64);
    b->product.row = 64;
    draw(b, 16, true);
    b->pixels = 0;
    memset(b->expected, 99, sizeof b->expected);
    check(b, nsk_multiply_out);
    check(b, nsk_multiply_out_plain);
    free(b->in);
    free(b->weights);
    free(b);
}

/* ---- depthwise: this machine's own against the portable one ---- */

typedef struct depthwise_bed {
    nsk_layer layer;
    _Alignas(4) int8_t weights[25 * 64];
    _Alignas(4) uint8_t requantise[4 * 64];
    _Alignas(4) int8_t workspace[3][1 << 16]; /* input, scratch, output, as the layer places them */
} depthwise_bed;

static int larger(int a, int b) {
    return a > b ? a : b;
}

static int draw_depthwise(depthwise_bed *d, bed *b) {
    nsk_layer *l = &d->layer;
    int channels = between(b, 1, 64);
    bool usual = between(b, 0, 1) == 0; /* what kernels of their own are for */
    memset(l, 0, sizeof *l);
    l->kind = NSK_KIND_DEPTHWISE;
    l->count = 1;
    l->kernel_height = usual ? 3 : between(b, 1, 5);
    l->kernel_width = usual ? 3 : between(b, 1, 5);
    l->stride_down = l->stride_across = between(b, 1, usual ? 2 : 3);
    l->dilate_down = usual ? 1 : between(b, 1, 2);
    l->dilate_across = usual ? 1 : between(b, 1, 2);
    int down = (l->kernel_height - 1) * l->dilate_down + 1;
    int across = (l->kernel_width - 1) * l->dilate_across + 1;
    l->pad_top = between(b, 0, down - 1);
    l->pad_left = between(b, 0, across - 1);
    int height = (usual ? 1 : down) + between(b, 0, 8);
    int width = (usual ? 1 : across) + between(b, 0, 8);
    l->in = (nsk_tensor){.height = (uint16_t)height,
                         .width = (uint16_t)width,
                         .channels = (uint16_t)channels,
                         .rows = (uint16_t)height,
                         .pixel_stride = channels,
                         .element = 1,
                         .zero = (int8_t)between(b, -128, 127)};
    l->scratch = sizeof d->workspace[0];
    l->out = l->in;
    l->out.offset = 2 * sizeof d->workspace[0];
    int padded_down = larger(height + l->pad_top + between(b, 0, down - 1), down);
    int padded_across = larger(width + l->pad_left + between(b, 0, across - 1), across);
    l->out.rows = l->out.height = (uint16_t)((padded_down - down) / l->stride_down + 1);
    l->out.width = (uint16_t)((padded_across - across) / l->stride_across + 1);
    l->out.zero = (int8_t)between(b, -128, 127);
    l->low = -128;
    l->high = between(b, 0, 3) == 0 ? 100 : 127;
    l->weights = (const uint8_t *)d->weights;
    l->requantise = d->requantise;
    for (int c = 0; c < channels; c++) {
        put_word(d->requantise, c, draw_requantise(b, l->kernel_height * l->kernel_width));
    }
    fill(b, d->weights, -127, 127, sizeof d->weights);
    fill(b, d->workspace[0], -128, 127, sizeof d->workspace[0]);
    return l->out.height * l->out.width * channels;
}

/* What one way wrote, and another before it. */
static void compare_depthwise(depthwise_bed *d, const int8_t *first, int outputs) {
    CU_ASSERT_EQUAL(memcmp(first, d->workspace[2], sizeof d->workspace[2]), 0);
    CU_ASSERT_EQUAL(d->workspace[2][outputs], 99); /* the byte behind the last output */
    memset(d->workspace[2], 99, sizeof d->workspace[2]);
}

static void depthwise_ways_agree(void) {
    bed *b = calloc(1, sizeof *b);
    depthwise_bed *d = calloc(1, sizeof *d);
    int8_t *first = malloc(sizeof d->workspace[2]);
    b->random.state = 53;
    for (int round = 0; round < 2000; round++) {
        int outputs = draw_depthwise(d, b);
        memset(d->workspace[2], 99, sizeof d->workspace[2]);
        nsk_depthwise_run(&d->layer, d->workspace[0]);
        memcpy(first, d->workspace[2], sizeof d->workspace[2]);
        memset(d->workspace[2], 99, sizeof d->workspace[2]);
        nsk_depthwise_run_direct(&d->layer, d->workspace[0]);
        compare_depthwise(d, first, outputs);
        nsk_depthwise_run_plain(&d->layer, d->workspace[0], 0, d->layer.in.channels);
        compare_depthwise(d, first, outputs);
    }
    free(first);
    free(d);
    free(b);
}

CU_TestInfo product_tests[] = {
    {"products are exact", products_are_exact},
    {"pairs are exact", pairs_are_exact},
    {"nothing is written for nothing", nothing_is_written_for_nothing},
    {"depthwise ways agree", depthwise_ways_agree},
    CU_TEST_INFO_NULL,
};
