#include "reference/reference.h"

#include <glib.h>
#include <stdlib.h>
#include <string.h>

#include "base/element.h"
#include "device/format.h"
#include "device/work.h"
#include "reference/exact.h"

/* A layer and its tensors, without gaps. */
typedef struct bench {
    const nsk_layer *layer;
    const int8_t *in, *second;
} bench;

static int32_t clamped(const nsk_layer *l, exact value) {
    return (int32_t)(value < l->low ? l->low : value > l->high ? l->high : value);
}

static int at(const nsk_tensor *t, int y, int x, int c) {
    return (y * t->width + x) * t->channels + c;
}

static bool is_inside(const nsk_tensor *t, int y, int x) {
    return y >= 0 && y < t->height && x >= 0 && x < t->width;
}

/* What a tap meets: outside of the picture, the zero point. */
static int level(const bench *b, int y, int x, int c) {
    const nsk_tensor *t = &b->layer->in;
    return is_inside(t, y, x) ? b->in[at(t, y, x, c)] : t->zero;
}

/* Of a kind that takes fine tensors: element `i`, in 256ths of a level. */
static int64_t parts_of(const nsk_tensor *t, const int8_t *from, int i) {
    int64_t q = nsk_element_at(from + (ptrdiff_t)i * t->element, t->element);
    return t->element == 2 ? q : 256 * q;
}

static bool is_fine(const nsk_layer *l) {
    return nsk_kind_is_fine(l->kind);
}

/* What a weight meets: a level, or its parts. */
static int64_t meets(const bench *b, int y, int x, int c) {
    const nsk_tensor *t = &b->layer->in;
    if (!is_fine(b->layer)) {
        return level(b, y, x, c);
    }
    return is_inside(t, y, x) ? parts_of(t, b->in, at(t, y, x, c)) : (int64_t)256 * t->zero;
}

/* So many 2^-shift of a part above the zero point, to the nearest that the output holds. */
static int32_t of_parts(const nsk_layer *l, exact number, int shift) {
    bool fine = l->out.element == 2;
    exact divisor = (exact)1 << (fine ? shift : shift + 8);
    exact value =
        exact_floor_divide(number + divisor / 2, divisor) + (exact)l->out.zero * (fine ? 256 : 1);
    int low = fine ? l->low * 256 : l->low;
    int high = !fine ? l->high : l->high == 127 ? 32767 : l->high * 256;
    return (int32_t)(value < low ? low : value > high ? high : value);
}

static int row_of_tap(const nsk_layer *l, int y, int ky) {
    return y * l->stride_down - l->pad_top + ky * l->dilate_down;
}

static int column_of_tap(const nsk_layer *l, int x, int kx) {
    return x * l->stride_across - l->pad_left + kx * l->dilate_across;
}

/* ---- sums of products ---- */

static int32_t requantised(const nsk_layer *l, int64_t products, int c) {
    int32_t word = nsk_word(l->requantise, (uint32_t)c);
    int32_t fields = (int32_t)((uint32_t)word % 512U);
    if (is_fine(l)) {
        return of_parts(l, ((exact)products + (exact)exact_bias(word) * 256) * (fields % 16),
                        fields / 16);
    }
    return exact_requantise((exact)products + exact_bias(word), word, l->out.zero, l->low, l->high);
}

/* The byte at a place among a layer's weights. Where they are packed, in groups of 32 as eight
 * words of four: of each weight + 2^(bits-1) the lower half is in one of four words, beside that of
 * the word before or behind; the bits above in the words that follow, those of all words in turn.
 */
static int32_t weight_byte(const nsk_layer *l, ptrdiff_t at) {
    if (l->kind != NSK_KIND_CONV_PACKED && l->kind != NSK_KIND_DENSE_PACKED) {
        return ((const int8_t *)l->weights)[at];
    }
    const int bits = (int)(l->flags % 8U);
    const uint8_t *lane = l->weights + at / 32 * 4 * bits + at % 4;
    const int word = (int)(at % 32 / 4);
    const int half = lane[4 * (word / 2)];
    int level = word % 2 == 0 ? half % 16 : half / 16;
    for (int bit = 4; bit < bits; bit++) {
        const int turn = word * (bits - 4) + bit - 4;
        level += (lane[16 + 4 * (turn / 8)] >> turn % 8) % 2 << bit;
    }
    return level - (1 << (bits - 1));
}

/* Tap k of output c, where sixteen outputs of a group take turns, or fewer at its end. */
static int32_t weight_in_turns(const nsk_layer *l, int row, int c, int k) {
    const int outputs = l->out.channels / (int)l->count;
    const ptrdiff_t group = (ptrdiff_t)(c / outputs) * outputs * row;
    const int in_group = c % outputs;
    const int begin = in_group - in_group % 16;
    const int turns = outputs - begin < 16 ? outputs - begin : 16;
    return weight_byte(l, group + (ptrdiff_t)begin * row + (ptrdiff_t)k * turns + in_group % 16);
}

/* The same in any order. Where outputs come in pairs, a and b, a half word is a + 256 b, and of
 * every four taps the third stands before the second (docs/model-file.md). */
static int32_t conv_weight(const nsk_layer *l, int row, int c, int k) {
    static const int place[] = {0, 2, 1, 3};
    if ((l->flags & NSK_FLAG_BLOCKED) != 0) {
        return weight_in_turns(l, row, c, k);
    }
    if ((l->flags & NSK_FLAG_PAIRED) == 0) {
        return weight_byte(l, (ptrdiff_t)c * row + k);
    }
    const ptrdiff_t at = (ptrdiff_t)(c - c % 2) * row + 2 * (k - k % 4 + place[k % 4]);
    const int32_t first = weight_byte(l, at);
    const int32_t half = (first & 255) + 256 * weight_byte(l, at + 1);
    return c % 2 == 0 ? first : (half - first) / 256;
}

static int32_t conv(const bench *b, int y, int x, int c) {
    const nsk_layer *l = b->layer;
    int inputs = l->in.channels / (int)l->count;
    int first = c / (l->out.channels / (int)l->count) * inputs;
    int row = (l->kernel_height * l->kernel_width * inputs + 3) / 4 * 4;
    int64_t sum = 0;
    int k = 0;
    for (int ky = 0; ky < l->kernel_height; ky++) {
        for (int kx = 0; kx < l->kernel_width; kx++) {
            for (int i = 0; i < inputs; i++) {
                sum += conv_weight(l, row, c, k++) *
                       meets(b, row_of_tap(l, y, ky), column_of_tap(l, x, kx), first + i);
            }
        }
    }
    return requantised(l, sum, c);
}

static int32_t depthwise(const bench *b, int y, int x, int c) {
    const nsk_layer *l = b->layer;
    const int8_t *w = (const int8_t *)l->weights + c;
    int from = c / (l->out.channels / l->in.channels);
    int64_t sum = 0;
    for (int ky = 0; ky < l->kernel_height; ky++) {
        for (int kx = 0; kx < l->kernel_width; kx++, w += l->out.channels) {
            sum += *w * meets(b, row_of_tap(l, y, ky), column_of_tap(l, x, kx), from);
        }
    }
    return requantised(l, sum, c);
}

static int32_t dense(const bench *b, int y, int x, int c) {
    const nsk_layer *l = b->layer;
    int inputs = l->in.height * l->in.width * l->in.channels;
    const ptrdiff_t row = (ptrdiff_t)c * ((inputs + 3) / 4 * 4);
    int64_t sum = 0;
    (void)y;
    (void)x;
    for (int i = 0; i < inputs; i++) {
        sum += (int64_t)weight_byte(l, row + i) * b->in[i];
    }
    return requantised(l, sum, c);
}

/* The input's coordinate that a tap brings to an output, or -1. */
static int spread_from(int out, int tap, int stride, int dilate, int pad, int size) {
    int far = out + pad - tap * dilate;
    return far >= 0 && far % stride == 0 && far / stride < size ? far / stride : -1;
}

static int32_t transposed(const bench *b, int y, int x, int c) {
    const nsk_layer *l = b->layer;
    int inputs = l->in.channels / (int)l->count;
    int first = c / (l->out.channels / (int)l->count) * inputs;
    int64_t sum = 0;
    for (int ky = 0; ky < l->kernel_height; ky++) {
        int iy = spread_from(y, ky, l->stride_down, l->dilate_down, l->pad_top, l->in.height);
        for (int kx = 0; kx < l->kernel_width; kx++) {
            int ix =
                spread_from(x, kx, l->stride_across, l->dilate_across, l->pad_left, l->in.width);
            const int8_t *w = (const int8_t *)l->weights +
                              ((c * l->kernel_height + ky) * l->kernel_width + kx) * inputs;
            for (int i = 0; i < inputs && iy >= 0 && ix >= 0; i++) {
                sum += w[i] * (level(b, iy, ix, first + i) - l->in.zero);
            }
        }
    }
    return requantised(l, sum, c);
}

/* ---- pools ---- */

static int32_t rescaled(const nsk_layer *l, int64_t sum, uint32_t k) {
    return clamped(l, (exact)exact_rescale(sum, nsk_word(l->multipliers, k), l->shifts[k]) +
                          l->out.zero);
}

typedef struct pooled {
    int64_t sum; /* less the zero point */
    int count, most, least;
} pooled;

static pooled pool(const bench *b, int y, int x, int c) {
    const nsk_layer *l = b->layer;
    pooled p = {.most = -128, .least = 127};
    for (int ky = 0; ky < l->kernel_height; ky++) {
        for (int kx = 0; kx < l->kernel_width; kx++) {
            int row = row_of_tap(l, y, ky);
            int column = column_of_tap(l, x, kx);
            if (is_inside(&l->in, row, column)) {
                int q = level(b, row, column, c);
                p.sum += q - l->in.zero;
                p.count++;
                p.most = MAX(p.most, q);
                p.least = MIN(p.least, q);
            }
        }
    }
    return p;
}

static int32_t average_pool(const bench *b, int y, int x, int c) {
    pooled p = pool(b, y, x, c);
    bool counted = (b->layer->flags & NSK_FLAG_COUNTED) != 0 && p.count > 0;
    return rescaled(b->layer, p.sum, counted ? (uint32_t)p.count - 1U : 0U);
}

static int32_t max_pool(const bench *b, int y, int x, int c) {
    pooled p = pool(b, y, x, c);
    return clamped(b->layer, (b->layer->flags & NSK_FLAG_LEAST) != 0 ? p.least : p.most);
}

/* ---- element by element ---- */

static void take_pair(const bench *b, int y, int x, int c, int64_t *left, int64_t *right) {
    const nsk_layer *l = b->layer;
    int whole = at(&l->in, y, x, c);
    int other = l->second.height * l->second.width > 1 ? whole : l->second.channels > 1 ? c : 0;
    *left = b->in[whole] - l->in.zero;
    *right = b->second[other] - l->second.zero;
}

/* The sum of both, or the larger or smaller of them, by factors of their own. */
static int32_t weighted(const bench *b, int y, int x, int c) {
    const nsk_layer *l = b->layer;
    int64_t left;
    int64_t right;
    take_pair(b, y, x, c, &left, &right);
    left *= nsk_word(l->multipliers, 0);
    right *= nsk_word(l->multipliers, 1);
    int64_t sum = l->kind == NSK_KIND_ADD   ? left + right
                  : l->kind == NSK_KIND_MAX ? MAX(left, right)
                                            : MIN(left, right);
    exact divisor = (exact)1 << l->shifts[0];
    return clamped(l, exact_floor_divide(sum + divisor / 2, divisor) + l->out.zero);
}

static int32_t product(const bench *b, int y, int x, int c) {
    int64_t left;
    int64_t right;
    take_pair(b, y, x, c, &left, &right);
    return rescaled(b->layer, left * right, 0);
}

/* The dot product of a pixel of the first and one of the second. */
static int32_t matmul(const bench *b, int y, int x, int c) {
    const nsk_layer *l = b->layer;
    int64_t sum = 0;
    for (int k = 0; k < l->in.channels; k++) {
        int64_t left = level(b, y, x, k) - l->in.zero;
        sum += left * (b->second[at(&l->second, y, c, k)] - l->second.zero);
    }
    return rescaled(l, sum, 0);
}

static int32_t table(const bench *b, int y, int x, int c) {
    return (int8_t)b->layer->table[b->in[at(&b->layer->in, y, x, c)] + 128];
}

/* Between two entries, a line. */
static int32_t table_fine(const bench *b, int y, int x, int c) {
    const nsk_layer *l = b->layer;
    int64_t place = parts_of(&l->in, b->in, at(&l->in, y, x, c)) + 32768;
    const uint8_t *entry = l->table + place / 256 * 2;
    int64_t part = place % 256;
    exact value = (exact)(int16_t)nsk_load16(entry) * (256 - part) +
                  (exact)(int16_t)nsk_load16(entry + 2) * part;
    return of_parts(l, exact_floor_divide(value + 128, 256) - (exact)256 * l->out.zero, 0);
}

static int32_t sum_fine(const bench *b, int y, int x, int c) {
    const nsk_layer *l = b->layer;
    int whole = at(&l->in, y, x, c);
    int other = l->second.height * l->second.width > 1 ? whole : l->second.channels > 1 ? c : 0;
    exact left = parts_of(&l->in, b->in, whole) - (int64_t)256 * l->in.zero;
    exact right = parts_of(&l->second, b->second, other) - (int64_t)256 * l->second.zero;
    return of_parts(l, left * nsk_word(l->multipliers, 0) + right * nsk_word(l->multipliers, 1),
                    l->shifts[0]);
}

/* A channel's part, of 1/65535. */
static int64_t softmax_part(const nsk_layer *l, int below) {
    const uint8_t *coarse = l->table + (ptrdiff_t)2 * (below / NSK_SOFTMAX_ENTRIES);
    const uint8_t *fine =
        l->table + (ptrdiff_t)2 * (NSK_SOFTMAX_ENTRIES + below % NSK_SOFTMAX_ENTRIES);
    return ((int64_t)nsk_load16(coarse) * nsk_load16(fine) + 32768) / 65536;
}

static int32_t softmax(const bench *b, int y, int x, int c) {
    const nsk_layer *l = b->layer;
    const int8_t *in = b->in + at(&l->in, y, x, 0);
    int top = -128;
    int64_t sum = 0;
    for (int k = 0; k < l->in.channels; k++) {
        top = MAX(top, in[k]);
    }
    for (int k = 0; k < l->in.channels; k++) {
        sum += softmax_part(l, top - in[k]);
    }
    int64_t share = (softmax_part(l, top - in[c]) * 256 + sum / 2) / MAX(sum, 1) - 128;
    return (int8_t)MIN(share, 127);
}

/* The block that an element is normalised in: from (y, x) or the whole picture, its group. */
typedef struct block_sums {
    exact count, sum, squares;
} block_sums;

/* A level, or its parts. */
static exact above_zero(const bench *b, int y, int x, int c) {
    return (exact)meets(b, y, x, c) - (exact)b->layer->in.zero * (is_fine(b->layer) ? 256 : 1);
}

static block_sums sums_of(const bench *b, int y, int x, int c) {
    const nsk_layer *l = b->layer;
    bool whole = l->kind == NSK_KIND_NORMALISE_WHOLE;
    int channels = l->in.channels / (int)l->count;
    block_sums s = {0, 0, 0};
    for (int row = whole ? 0 : y; row < (whole ? l->in.height : y + 1); row++) {
        for (int column = whole ? 0 : x; column < (whole ? l->in.width : x + 1); column++) {
            for (int k = c / channels * channels; k < (c / channels + 1) * channels; k++) {
                exact q = above_zero(b, row, column, k);
                s.count++;
                s.sum += q;
                s.squares += q * q;
            }
        }
    }
    return s;
}

/* floor(sqrt(x)), one bit after the other. */
static exact square_root(exact x) {
    exact root = 0;
    for (exact bit = (exact)1 << 31; bit > 0; bit /= 2) {
        root += (root + bit) * (root + bit) <= x ? bit : 0;
    }
    return root;
}

static int32_t normalised(const bench *b, int y, int x, int c) {
    const nsk_layer *l = b->layer;
    const exact unit = 65536;
    block_sums s = sums_of(b, y, x, c);
    s.sum = (l->flags & NSK_FLAG_CENTRED) != 0 ? s.sum : 0;
    exact least = (exact)(uint32_t)nsk_word(l->multipliers, NSK_N_LEAST + 1) * unit * unit +
                  (uint32_t)nsk_word(l->multipliers, NSK_N_LEAST);
    least *= is_fine(l) ? 256 * 256 : 1;
    exact v = s.count * s.squares - s.sum * s.sum + least;
    exact away = (s.count * above_zero(b, y, x, c) - s.sum) * unit;
    exact divisor = unit * 16; /* of the distance: 2^(power + 4) */
    for (; v >= unit * unit; v /= 4) {
        divisor *= 2;
    }
    for (; v < unit * unit / 4; v *= 4) {
        divisor /= 2;
    }
    exact root = square_root(v);
    exact factor = exact_floor_divide(unit * 4096 + root / 2, root);
    away = exact_floor_divide(away, divisor);
    away = away < -2 * unit ? -2 * unit : away > 2 * unit ? 2 * unit : away;
    exact z = exact_floor_divide(away * factor + 8192, 16384);
    exact height =
        z * (int16_t)nsk_load16(l->table + (ptrdiff_t)2 * c) + nsk_word(l->requantise, (uint32_t)c);
    return clamped(l,
                   exact_floor_divide(height, (exact)1 << nsk_word(l->multipliers, NSK_N_SHIFT)));
}

static int32_t resize(const bench *b, int y, int x, int c) {
    const nsk_layer *l = b->layer;
    const uint8_t *down = l->blends + (ptrdiff_t)NSK_BLEND_BYTES * y;
    const uint8_t *across = l->blends + (ptrdiff_t)NSK_BLEND_BYTES * (l->out.height + x);
    int64_t part[2] = {nsk_load16(down + NSK_B_PART), nsk_load16(across + NSK_B_PART)};
    int64_t sum = 0;
    for (int k = 0; k < 4; k++) {
        int row = (int)nsk_load16(down + (k / 2 == 0 ? NSK_B_FIRST : NSK_B_SECOND));
        int column = (int)nsk_load16(across + (k % 2 == 0 ? NSK_B_FIRST : NSK_B_SECOND));
        sum += (level(b, row, column, c) - l->in.zero) * (k / 2 == 0 ? 2048 - part[0] : part[0]) *
               (k % 2 == 0 ? 2048 - part[1] : part[1]);
    }
    return clamped(l, exact_floor_divide(sum + (1 << 21), 1 << 22) + l->out.zero);
}

static int32_t constant(const bench *b, int y, int x, int c) {
    return (int8_t)b->layer->values[at(&b->layer->out, y, x, c)];
}

/* ---- scores ---- */

/* e^(-scale x below) by its digits, the lowest first, of base eight. */
static int64_t scores_part(const nsk_layer *l, int below) {
    int64_t part = below < 32768 ? nsk_load16(l->table + (ptrdiff_t)2 * (below % 8)) : 0;
    for (int digit = 1; digit < NSK_SCORES_TABLES; digit++) {
        below /= 8;
        part = part * (nsk_load16(l->table + (ptrdiff_t)2 * (8 * digit + below % 8)) + 1) / 65536;
    }
    return part;
}

/* In units of 2^-30, the sum counting to its sixteen highest bits. */
static int32_t share_of(int64_t part, int64_t sum) {
    int64_t unit = 1;
    while (sum / unit > 65535) {
        unit *= 2;
    }
    int64_t factor = (INT64_C(1) << 31) / (sum / unit | 0x8000);
    return (int32_t)(part * factor / (2 * unit));
}

static int32_t scores(const bench *b, int y, int x, int c) {
    const nsk_layer *l = b->layer;
    const unsigned element = l->in.element;
    const int own = nsk_element_at(b->in + (size_t)c * element, element);
    const int away = own - l->in.zero;
    int top = own;
    int64_t sum = 0;
    (void)y;
    (void)x;
    if ((l->flags & NSK_FLAG_SHARES) != 0) {
        for (int k = 0; k < l->out.channels; k++) {
            top = MAX(top, nsk_element_at(b->in + (size_t)k * element, element));
        }
        for (int k = 0; k < l->out.channels; k++) {
            sum += scores_part(l, top - nsk_element_at(b->in + (size_t)k * element, element));
        }
        return share_of(scores_part(l, top - own), sum);
    }
    if ((l->flags & NSK_FLAG_EACH) != 0) {
        int64_t less = scores_part(l, abs(away));
        return share_of(away < 0 ? less : scores_part(l, 0), less + scores_part(l, 0));
    }
    return away * (1 << 22);
}

typedef int32_t formula(const bench *b, int y, int x, int c);

static formula *const formulas[NSK_KINDS] = {
    [NSK_KIND_CONV] = conv,
    [NSK_KIND_DEPTHWISE] = depthwise,
    [NSK_KIND_DENSE] = dense,
    [NSK_KIND_MAX_POOL] = max_pool,
    [NSK_KIND_AVERAGE_POOL] = average_pool,
    [NSK_KIND_ADD] = weighted,
    [NSK_KIND_MULTIPLY] = product,
    [NSK_KIND_MATMUL] = matmul,
    [NSK_KIND_LUT] = table,
    [NSK_KIND_SOFTMAX] = softmax,
    [NSK_KIND_MAX] = weighted,
    [NSK_KIND_MIN] = weighted,
    [NSK_KIND_CONSTANT] = constant,
    [NSK_KIND_RESIZE] = resize,
    [NSK_KIND_CONV_TRANSPOSE] = transposed,
    [NSK_KIND_SCORES] = scores,
    [NSK_KIND_NORMALISE] = normalised,
    [NSK_KIND_NORMALISE_WHOLE] = normalised,
    [NSK_KIND_NORMALISE_FINE] = normalised,
    [NSK_KIND_CONV_FINE] = conv,
    [NSK_KIND_CONV_PACKED] = conv,
    [NSK_KIND_DENSE_PACKED] = dense,
    [NSK_KIND_DEPTHWISE_FINE] = depthwise,
    [NSK_KIND_LUT_FINE] = table_fine,
    [NSK_KIND_ADD_FINE] = sum_fine,
};

/* Walks all loops as digits of one number. */
static void move(const bench *b, int8_t *out) {
    const nsk_layer *l = b->layer;
    int64_t copies = 1;
    for (uint32_t i = 0; i < l->count; i++) {
        copies *= nsk_word(l->loops, NSK_M_LOOPS + 3 * i);
    }
    if ((l->flags & NSK_FLAG_FILL) != 0) {
        memset(out, nsk_word(l->loops, NSK_M_FILL), nsk_tensor_bytes(&l->out));
    }
    for (int64_t n = 0; n < copies; n++) {
        int64_t from = nsk_word(l->loops, NSK_M_IN_ORIGIN);
        int64_t to = nsk_word(l->loops, NSK_M_OUT_ORIGIN);
        int64_t rest = n;
        for (uint32_t i = 0; i < l->count; i++) {
            int64_t count = nsk_word(l->loops, NSK_M_LOOPS + 3 * i);
            from += rest % count * nsk_word(l->loops, NSK_M_LOOPS + 3 * i + 1);
            to += rest % count * nsk_word(l->loops, NSK_M_LOOPS + 3 * i + 2);
            rest /= count;
        }
        bool looks_up = (l->flags & NSK_FLAG_TABLE) != 0;
        out[to] = looks_up ? (int8_t)l->table[b->in[from] + 128] : b->in[from];
    }
}

/* ---- a model ---- */

typedef struct run {
    const nsk_model *model;
    int8_t **tensor; /* memory of each that is made; other shapes of one have none */
    int *made;       /* the layer that made it last, from 1 on; 0: none has */
} run;

static unsigned whole_of(const nsk_model *m, unsigned tensor) {
    const uint8_t *record =
        m->bytes + nsk_load32(m->bytes + NSK_H_TENSORS_AT) + (size_t)NSK_TENSOR_BYTES * tensor;
    return record[NSK_T_ROWS] == NSK_SLICE ? nsk_load32(record + NSK_T_SCALE) : tensor;
}

/* The tensor's own memory, or that of the one last made where it stands. */
static int8_t *memory_of(const run *r, unsigned tensor) {
    unsigned found = tensor;
    unsigned whole = whole_of(r->model, tensor);
    nsk_tensor wanted = nsk_tensor_at(r->model, tensor);
    if (whole != tensor) { /* one pixel of it: a slice of more is not read */
        return r->tensor[whole] + (wanted.offset - nsk_tensor_at(r->model, whole).offset);
    }
    for (unsigned i = 0; i < r->model->tensors && r->tensor[tensor] == NULL; i++) {
        nsk_tensor t = nsk_tensor_at(r->model, i);
        bool same = r->tensor[i] != NULL && t.offset == wanted.offset &&
                    nsk_tensor_bytes(&t) == nsk_tensor_bytes(&wanted);
        found = same && (found == tensor || r->made[i] > r->made[found]) ? i : found;
    }
    return r->tensor[found];
}

static void put(int8_t *out, int c, unsigned element, int32_t level) {
    const int16_t wide = (int16_t)level;
    if (element == 1) {
        out[c] = (int8_t)level;
    } else {
        memcpy(out + (size_t)c * element, element == 2 ? (const void *)&wide : &level, element);
    }
}

static void run_layer(const run *r, unsigned index) {
    nsk_layer l;
    unsigned tensors[3];
    nsk_layer_decode(r->model, index, &l);
    nsk_layer_tensors(r->model, index, tensors);
    unsigned whole = whole_of(r->model, tensors[2]);
    uint32_t first =
        (l.out.offset - nsk_tensor_at(r->model, whole).offset) % (uint32_t)l.out.pixel_stride;
    int8_t *out = r->tensor[whole] + first;
    const bench b = {&l, memory_of(r, tensors[0]), l.has_second ? memory_of(r, tensors[1]) : NULL};
    r->made[whole] = (int)index + 1;
    if (l.kind == NSK_KIND_COPY) {
        move(&b, out);
        return;
    }
    for (int y = 0; y < l.out.height; y++) {
        for (int x = 0; x < l.out.width; x++, out += l.out.pixel_stride) {
            for (int c = 0; c < l.out.channels; c++) {
                put(out, c, l.out.element, formulas[l.kind](&b, y, x, c));
            }
        }
    }
}

/* A camera's byte by a table, or by a line. */
static void prepare(const nsk_model *m, const uint8_t *frame, int8_t *to) {
    const uint8_t *prepare_at = m->bytes + nsk_load32(m->bytes + NSK_H_PREPARE_AT);
    unsigned tables = m->bytes[NSK_H_TABLES];
    for (size_t i = 0; i < (size_t)m->width * m->height * m->channels; i++) {
        unsigned channel = (unsigned)(i % m->channels);
        if (tables > 0) {
            to[i] = (int8_t)prepare_at[256U * (tables > 1 ? channel : 0U) + frame[i]];
        } else {
            const uint8_t *line = prepare_at + (size_t)NSK_LINE_BYTES * channel;
            exact height = (exact)frame[i] * nsk_word(line, 0) + nsk_word(line, 1);
            to[i] = (int8_t)exact_floor_divide(height, 65536);
        }
    }
}

void nsk_reference_scores(const nsk_model *model, const uint8_t *frame, int32_t *scores) {
    run r = {model, g_new0(int8_t *, model->tensors), g_new0(int, model->tensors)};
    for (unsigned i = 0; i <= model->layers; i++) {
        unsigned whole = whole_of(model, i > 0 ? nsk_layer_output(model, i - 1) : model->input);
        nsk_tensor t = nsk_tensor_at(model, whole);
        if (r.tensor[whole] == NULL) {
            r.tensor[whole] = g_malloc0(nsk_tensor_bytes(&t));
        }
    }
    prepare(model, frame, r.tensor[model->input]);
    for (unsigned i = 0; i < model->layers; i++) {
        run_layer(&r, i);
    }
    memcpy(scores, memory_of(&r, model->output), model->classes * sizeof *scores);
    for (unsigned i = 0; i < model->tensors; i++) {
        g_free(r.tensor[i]);
    }
    g_free(r.made);
    g_free(r.tensor);
}
