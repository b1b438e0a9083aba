#include "lowered/integer.h"

#include <math.h>
#include <stdlib.h>
#include <string.h>

#include "device/arithmetic.h"
#include "device/fine.h"
#include "device/format.h"
#include "device/layer.h"

/* Halves go up, as everywhere in docs/arithmetic.md. */
static double rounded(double x) {
    return floor(x + 0.5);
}

static int clamped(double x, int low, int high) {
    return x < low ? low : x > high ? high : (int)x;
}

nsk_scale nsk_scale_of(nsk_range range) {
    double low = fmin((double)range.low, 0.0);
    double high = fmax((double)range.high, 0.0);
    double width = fmax(high - low, 1e-6);
    nsk_scale s;
    s.scale = (float)(width / 255.0);
    s.zero = clamped(rounded(-128.0 - low / (double)s.scale), -128, 127);
    return s;
}

nsk_scale nsk_wide_scale_of(nsk_range range) {
    double most = fmax(fabs((double)range.low), fabs((double)range.high));
    return (nsk_scale){(float)fmax(2.0 * most / 32767.0, NSK_LEAST_WIDE_SCALE), 0};
}

bool nsk_multiplier_of(double number, nsk_multiplier *to) {
    if (!(number > 0.0) || isinf(number)) {
        return false;
    }
    int exponent;
    double fraction = frexp(number, &exponent); /* in [1/2, 1) */
    double m = rounded(ldexp(fraction, 31));
    if (m >= 0x1p31) {
        m /= 2.0;
        exponent++;
    }
    to->multiplier = (int32_t)m;
    to->shift = (uint8_t)clamped(31 - exponent, 0, 255);
    return 31 - exponent >= 1 && 31 - exponent <= 62;
}

static bool complain(const nsk_lowered_layer *layer, nsk_error *error, const char *text) {
    return nsk_fail(error, "layer '%s': %s", layer->name, text);
}

static int weight_index(const nsk_lowered_layer *l, int channel, int tap, int channels) {
    return nsk_lowered_is_depthwise(l) ? tap * channels + channel : channel * l->taps + tap;
}

static double weight_at(const nsk_lowered_layer *l, int channel, int tap, int channels) {
    return (double)l->weights[weight_index(l, channel, tap, channels)];
}

/* How the device wants a layer's weights. */
typedef struct weights_form {
    bool interleaved; /* [tap][out], else [out][tap] */
    bool words;       /* each output's filled up to whole words */
    bool folded;      /* the bias has the input's zero point taken into it */
} weights_form;

static const weights_form forms[NSK_KINDS] = {
    [NSK_KIND_CONV] = {.words = true, .folded = true},
    [NSK_KIND_DENSE] = {.words = true, .folded = true},
    [NSK_KIND_DEPTHWISE] = {.interleaved = true, .folded = true},
    [NSK_KIND_CONV_FINE] = {.words = true, .folded = true},
    [NSK_KIND_DEPTHWISE_FINE] = {.interleaved = true, .folded = true},
};

/* The largest that a weight can meet. */
static int64_t reach_of(const nsk_lowered_layer *l, nsk_scale in) {
    return forms[l->kind].folded ? 128 : MAX(127 - in.zero, 128 + in.zero);
}

/* The multipliers m / 2^t, m from 8 to 15, t from 31 down to 1, from the least on. */
enum { LEAST_FACTOR = 8, MULTIPLIERS = LEAST_FACTOR * (NSK_REQUANTISE_SHIFTS - 1) };

/* How far sums that could be too large may coarsen the weights: three bits. */
enum { COARSER = 3 * LEAST_FACTOR };

static nsk_requantise_multiplier multiplier_at(int index) {
    return (nsk_requantise_multiplier){
        .factor = LEAST_FACTOR + index % LEAST_FACTOR,
        .shift = NSK_REQUANTISE_SHIFTS - 1 - index / LEAST_FACTOR,
    };
}

static double value_of(nsk_requantise_multiplier m) {
    return ldexp(m.factor, -m.shift);
}

/* The least that is not below a number, but for what a binary32 loses of it; the largest, where the
 * number is above them all: one level of the input changes the output by all of its levels then,
 * whatever the weights. */
static int multiplier_from(double number) {
    int index = 0;
    while (index < MULTIPLIERS - 1 && value_of(multiplier_at(index)) < number * (1.0 - 0x1p-20)) {
        index++;
    }
    return index;
}

/* Whether what a channel's sums can reach, or its bias alone, is within what the device holds at a
 * scale of its weights; rounding them otherwise than to the nearest may add a bit. */
static bool sums_fit(const nsk_lowered_layer *l, int channel, int channels, nsk_scale in,
                     double scale, bool bias_alone) {
    double sum = 0.0;
    double magnitude = 0.0;
    for (int t = 0; t < l->taps; t++) {
        int level = nsk_weight_level(l, weight_at(l, channel, t, channels), scale);
        sum += level;
        magnitude += abs(level) + 0.25;
    }
    double bias = fabs((double)l->bias[channel]) / ((double)in.scale * scale) + 1.0;
    bias += forms[l->kind].folded ? abs(in.zero) * (fabs(sum) + 0.25 * l->taps) : 0.0;
    return bias < ldexp(1.0, NSK_REQUANTISE_BIAS_BITS - 1) &&
           (bias_alone || bias + (double)reach_of(l, in) * magnitude <= NSK_SUM_MOST);
}

nsk_requantise_multiplier nsk_weight_multiplier(const nsk_lowered_layer *l, int channel,
                                                int channels, nsk_scale in, nsk_scale out) {
    if (l->multipliers != NULL) {
        return l->multipliers[channel];
    }
    double most = 0.0;
    for (int t = 0; t < l->taps; t++) {
        most = fmax(most, fabs(weight_at(l, channel, t, channels)));
    }
    /* what the file stored its weights at keeps them as they are, where that is a multiplier */
    double least = most / nsk_lowered_most_level(l);
    if (l->steps != NULL && (l->bits == 0 || (double)l->steps[channel] >= least)) {
        least = (double)l->steps[channel];
    }
    double unit = (double)in.scale / (double)out.scale;
    int index = multiplier_from(least * unit);
    bool bias_alone = true; /* first: it may dwarf the weights, which may vanish then */
    for (int last = MULTIPLIERS - 1; index < last;) {
        double scale = value_of(multiplier_at(index)) / unit;
        if (!sums_fit(l, channel, channels, in, scale, bias_alone)) {
            index++;
        } else if (bias_alone) {
            bias_alone = false;
            last = MIN(last, index + COARSER);
        } else {
            break;
        }
    }
    return multiplier_at(index);
}

double nsk_least_output_scale(const nsk_lowered_layer *l, int channels, nsk_scale in) {
    const double largest = value_of(multiplier_at(MULTIPLIERS - 1));
    double least = 0.0;
    for (int c = 0; c < channels && l->weights != NULL && l->multipliers == NULL; c++) {
        double most = 0.0;
        for (int t = 0; t < l->taps; t++) {
            most = fmax(most, fabs(weight_at(l, c, t, channels)));
        }
        /* half of what a bias may be: the input's zero point comes to it */
        double bias = fabs((double)l->bias[c]) / ldexp(1.0, NSK_REQUANTISE_BIAS_BITS - 2);
        least =
            fmax(least, fmax(bias, most / nsk_lowered_most_level(l) * (double)in.scale) / largest);
    }
    return least;
}

double nsk_weight_scale(const nsk_lowered_layer *l, int channel, int channels, nsk_scale in,
                        nsk_scale out) {
    return nsk_scale_at(nsk_weight_multiplier(l, channel, channels, in, out), in, out);
}

double nsk_scale_at(nsk_requantise_multiplier multiplier, nsk_scale in, nsk_scale out) {
    return value_of(multiplier) * (double)out.scale / (double)in.scale;
}

bool nsk_multiplier_below(const nsk_lowered_layer *l, int channel, int channels, nsk_scale in,
                          nsk_scale out, nsk_requantise_multiplier *multiplier) {
    int index = (NSK_REQUANTISE_SHIFTS - 1 - multiplier->shift) * LEAST_FACTOR +
                multiplier->factor - LEAST_FACTOR - 1;
    if (index < 0 ||
        !sums_fit(l, channel, channels, in, nsk_scale_at(multiplier_at(index), in, out), false)) {
        return false;
    }
    *multiplier = multiplier_at(index);
    return true;
}

int nsk_weight_level(const nsk_lowered_layer *l, double weight, double scale) {
    const int most = nsk_lowered_most_level(l);
    return clamped(rounded(weight / scale), -most, most);
}

static size_t weight_place(const nsk_lowered_layer *l, int channel, int tap, int channels) {
    const weights_form *form = &forms[l->kind];
    size_t row = (size_t)(form->words ? nsk_row_bytes(l->taps) : l->taps);
    return form->interleaved ? (size_t)tap * (size_t)channels + (size_t)channel
                             : (size_t)channel * row + (size_t)tap;
}

/* Quantises one output's weights; returns their sum, and the sum of their magnitudes. */
static int64_t put_weights(const nsk_lowered_layer *l, nsk_integer_layer *r, int channel,
                           double scale, int64_t *magnitude) {
    int64_t sum = 0;
    *magnitude = 0;
    for (int t = 0; t < l->taps; t++) {
        int level = l->levels != NULL
                        ? l->levels[weight_index(l, channel, t, r->channels)]
                        : nsk_weight_level(l, weight_at(l, channel, t, r->channels), scale);
        r->weights[weight_place(l, channel, t, r->channels)] = (int8_t)level;
        sum += level;
        *magnitude += level < 0 ? -level : level;
    }
    return sum;
}

/* What requantisees one output, and the proof that no order of adding can leave what sums may be.
 */
static bool put_requantise(const nsk_lowered_layer *l, nsk_integer_layer *r, int channel,
                           nsk_scale in, nsk_scale out, nsk_error *error) {
    nsk_requantise_multiplier m = nsk_weight_multiplier(l, channel, r->channels, in, out);
    double scale = nsk_scale_at(m, in, out);
    int64_t magnitude;
    int64_t sum = put_weights(l, r, channel, scale, &magnitude);
    double bias = rounded((double)l->bias[channel] / ((double)in.scale * scale));
    bias -= forms[l->kind].folded ? (double)(in.zero * sum) : 0.0;
    double most = fabs(bias) + (double)(reach_of(l, in) * magnitude);
    bool good = fabs(bias) < ldexp(1.0, NSK_REQUANTISE_BIAS_BITS - 1) && most <= NSK_SUM_MOST;
    r->requantise[channel] =
        good ? (int32_t)bias * (NSK_REQUANTISE_FACTORS * NSK_REQUANTISE_SHIFTS) +
                   m.shift * NSK_REQUANTISE_FACTORS + m.factor
             : 0;
    return good ||
           nsk_fail(error,
                    "layer '%s': output channel %d could add up to %.0f with its bias of %.0f, "
                    "more than the device's sums hold; give it fewer inputs (it has %d), or check "
                    "the calibration images",
                    l->name, channel, most, bias, l->taps);
}

static bool make_weights(const nsk_lowered_layer *l, nsk_scale in, nsk_scale out,
                         nsk_integer_layer *r, nsk_error *error) {
    int channels = r->channels;
    r->weight_bytes = weight_place(l, channels - 1, l->taps - 1, channels) + 1;
    r->weight_bytes += forms[l->kind].words ? (size_t)(nsk_row_bytes(l->taps) - l->taps) : 0;
    r->weights = g_new0(int8_t, r->weight_bytes);
    r->requantise = g_new0(int32_t, channels);
    for (int c = 0; c < channels; c++) {
        if (!put_requantise(l, r, c, in, out, error)) {
            return false;
        }
    }
    return true;
}

static bool make_average(const nsk_lowered_layer *l, nsk_scale in, nsk_scale out,
                         nsk_integer_layer *r, nsk_error *error) {
    const nsk_window_attributes *w = &l->window;
    int64_t area = w->kernel[0] * w->kernel[1];
    bool padded = w->pad_before[0] + w->pad_before[1] + w->pad_after[0] + w->pad_after[1] > 0;
    bool counted = (padded || w->ceil_mode) && !w->count_include_pad && !l->total;
    r->multiplier_count = counted ? (int)area : 1;
    r->multipliers = g_new(nsk_multiplier, r->multiplier_count);
    for (int i = 0; i < r->multiplier_count; i++) {
        double pixels = l->total ? 1.0 : (double)(counted ? i + 1 : area);
        double number = (double)in.scale / ((double)out.scale * pixels);
        if (!nsk_multiplier_of(number, &r->multipliers[i])) {
            return complain(l, error,
                            "its output's range is absurdly small; check the "
                            "calibration images");
        }
    }
    return true;
}

/* The largest shift at which both factors stay within 22 bits and the sum within 32. */
static bool make_sum(const nsk_lowered_layer *l, nsk_scale a, nsk_scale b, nsk_scale out,
                     nsk_integer_layer *r, nsk_error *error) {
    double ratio[2] = {(double)a.scale / (double)out.scale, (double)b.scale / (double)out.scale};
    double most = fmax(ratio[0], ratio[1]);
    int shift = 30;
    while (shift > 0 && (most * ldexp(1.0, shift) > 0x1p21 ||
                         255.0 * (ratio[0] + ratio[1]) * ldexp(1.0, shift) + ldexp(1.0, shift - 1) >
                             0x1p31 - 1024.0)) {
        shift--;
    }
    r->factor_shift = shift;
    for (int i = 0; i < 2; i++) {
        r->factors[i] = l->sign[i] * (int32_t)rounded(ratio[i] * ldexp(1.0, shift));
    }
    return shift >= 1 || complain(l, error,
                                  "its inputs dwarf its output; check the calibration "
                                  "images");
}

static bool make_product(const nsk_lowered_layer *l, nsk_scale a, nsk_scale b, nsk_scale out,
                         nsk_integer_layer *r, nsk_error *error) {
    r->multiplier_count = 1;
    r->multipliers = g_new(nsk_multiplier, 1);
    double number = (double)a.scale * (double)b.scale / (double)out.scale;
    number *= l->factor > 0.0 ? l->factor : 1.0;
    return nsk_multiplier_of(number, r->multipliers) ||
           complain(l, error, "its inputs dwarf its output; check the calibration images");
}

nsk_scale nsk_scale_of_tensor(const nsk_tensor *tensor) {
    nsk_scale s = {.zero = tensor->zero};
    memcpy(&s.scale, &tensor->scale_bits, sizeof s.scale);
    return tensor->fraction > 0 ? nsk_fine_scale(s) : s;
}

nsk_scale nsk_fine_scale(nsk_scale s) {
    return (nsk_scale){s.scale / NSK_PARTS, s.zero * NSK_PARTS};
}

int nsk_level_of(double value, nsk_scale scale) {
    return isnan(value) ? scale.zero
                        : clamped(rounded(value / (double)scale.scale) + scale.zero, -128, 127);
}

double nsk_lowered_function_at(const nsk_lowered_layer *l, double x) {
    if (l == NULL) {
        return x;
    }
    return fmin(fmax(l->program != NULL ? nsk_program_at(l->program, x) : x, l->low), l->high);
}

static void make_table(const nsk_lowered_layer *l, nsk_scale in, nsk_scale out,
                       nsk_integer_layer *r) {
    r->table_count = 256;
    r->table = g_malloc(256);
    for (int q = -128; q < 128; q++) {
        double value = (double)in.scale * (q - in.zero);
        r->table[q + 128] = (uint8_t)nsk_level_of(nsk_lowered_function_at(l, value), out);
    }
}

/* At each level of the input, and one behind the last, in parts of the output's. */
static void make_fine_table(const nsk_lowered_layer *l, nsk_scale in, nsk_scale out,
                            nsk_integer_layer *r) {
    const nsk_scale parts = nsk_fine_scale(out);
    r->table_count = NSK_FINE_TABLE;
    r->table = g_malloc((gsize)2 * NSK_FINE_TABLE);
    for (int i = 0; i < NSK_FINE_TABLE; i++) {
        double value = (double)in.scale * (i - 128 - in.zero);
        int16_t entry = nsk_wide_level_of(nsk_lowered_function_at(l, value), parts);
        r->table[2 * i] = (uint8_t)((uint16_t)entry & 255U);
        r->table[2 * i + 1] = (uint8_t)((uint16_t)entry >> 8);
    }
}

/* Bytes pass through a table where the scales differ. */
static void make_move(const nsk_lowered_layer *l, nsk_scale in, nsk_scale out,
                      nsk_integer_layer *r) {
    r->move_count = NSK_M_LOOPS + 3 * l->loops;
    r->moves = g_memdup2(l->moves, (gsize)r->move_count * sizeof *r->moves);
    r->moves[NSK_M_FILL] = nsk_level_of(l->filler, out);
    if (in.zero != out.zero || in.scale < out.scale || in.scale > out.scale) {
        make_table(l, in, out, r);
    }
}

static void make_constant(const nsk_lowered_layer *l, nsk_scale out, nsk_integer_layer *r) {
    r->weights = g_new(int8_t, l->value_count);
    r->channels = 1;
    r->weight_bytes = (size_t)l->value_count;
    for (int i = 0; i < l->value_count; i++) {
        r->weights[i] = (int8_t)nsk_level_of((double)l->values[i], out);
    }
}

static void make_resize(const nsk_lowered_layer *l, nsk_integer_layer *r) {
    r->table_count *= 3;
    r->table = g_malloc((gsize)2 * (gsize)r->table_count);
    for (int i = 0; i < r->table_count; i++) {
        r->table[2 * i] = (uint8_t)(l->blends[i] & 255);
        r->table[2 * i + 1] = (uint8_t)(l->blends[i] >> 8);
    }
}

/* 65535 e^(-scale d), of every sixteenth d and of the first sixteen. */
static void make_softmax(nsk_scale in, nsk_integer_layer *r) {
    r->table_count = 2 * NSK_SOFTMAX_ENTRIES;
    r->table = g_malloc0((gsize)2 * (gsize)r->table_count);
    for (int i = 0; i < r->table_count; i++) {
        int d = i < NSK_SOFTMAX_ENTRIES ? i * NSK_SOFTMAX_ENTRIES : i - NSK_SOFTMAX_ENTRIES;
        int part = (int)rounded(65535.0 * exp(-(double)in.scale * d));
        r->table[2 * i] = (uint8_t)(part & 255);
        r->table[2 * i + 1] = (uint8_t)(part >> 8);
    }
}

/* e^(-scale d), of d = 0 ... 7 in units of 1/65535; of d = 0, 8, ... 56 and so on, less 1, in units
 * of 1/65536. */
static void make_scores(const nsk_lowered_layer *l, nsk_scale in, nsk_integer_layer *r) {
    if (!l->shares && !l->each) {
        return;
    }
    r->table_count = NSK_SCORES_TABLES * NSK_SCORES_ENTRIES;
    r->table = g_malloc0((gsize)2 * (gsize)r->table_count);
    for (int i = 0; i < r->table_count; i++) {
        int digit = i / NSK_SCORES_ENTRIES;
        double d = ldexp(i % NSK_SCORES_ENTRIES, 3 * digit);
        double whole = digit == 0 ? 65535.0 : 65536.0;
        int part = (int)rounded(whole * exp(-(double)in.scale * d)) - (digit == 0 ? 0 : 1);
        r->table[2 * i] = (uint8_t)(MAX(part, 0) & 255);
        r->table[2 * i + 1] = (uint8_t)(MAX(part, 0) >> 8);
    }
}

/* The largest shift at which all gains, in units of 2^10 levels a deviation, and all offsets, zero
 * point and rounding included, are within what the device holds. */
static int gain_shift(const nsk_lowered_layer *l, nsk_scale out, int channels) {
    int shift = 30;
    for (int c = 0; c < channels; c++) {
        double gain = fabs((double)l->gains[c]) / (double)out.scale;
        double offset = fabs((double)l->offsets[c]) / (double)out.scale + abs(out.zero) + 0.5;
        while (shift > 0 && (ldexp(gain, shift - NSK_GAIN_BITS) > NSK_MOST_GAIN - 1 ||
                             ldexp(offset, shift) > NSK_MOST_OFFSET - 1)) {
            shift--;
        }
    }
    return shift;
}

static bool make_normalise(const nsk_lowered_layer *l, nsk_scale in, nsk_scale out,
                           nsk_integer_layer *r, nsk_error *error) {
    const int shift = gain_shift(l, out, r->channels);
    double least = (double)l->block / (double)in.scale;
    const double most = l->kind == NSK_KIND_NORMALISE_FINE ? 0x1p45 : 0x1p61;
    least = rounded(fmin(fmax(least * least * l->variance, 1.0), most));
    r->table_count = r->channels;
    r->table = g_malloc((gsize)2 * (gsize)r->channels);
    r->requantise = g_new(int32_t, r->channels);
    for (int c = 0; c < r->channels; c++) {
        double gain =
            rounded(ldexp((double)l->gains[c] / (double)out.scale, shift - NSK_GAIN_BITS));
        double offset = (double)l->offsets[c] / (double)out.scale + out.zero + 0.5;
        r->requantise[c] = (int32_t)rounded(ldexp(offset, shift));
        r->table[2 * c] = (uint8_t)((int)gain & 255);
        r->table[2 * c + 1] = (uint8_t)((int)gain >> 8 & 255);
    }
    r->move_count = NSK_N_WORDS;
    r->moves = g_new(int32_t, NSK_N_WORDS);
    r->moves[NSK_N_LEAST] = (int32_t)((uint64_t)least & UINT32_MAX);
    r->moves[NSK_N_LEAST + 1] = (int32_t)((uint64_t)least >> 32);
    r->moves[NSK_N_SHIFT] = shift;
    return shift > 0 || complain(l, error,
                                 "its output's range is absurdly small; check the calibration "
                                 "images");
}

static int clamp_level(double bound, nsk_scale out, int otherwise) {
    return isinf(bound) ? otherwise : nsk_level_of(bound, out);
}

bool nsk_integer_layer_make(const nsk_lowered_layer *layer, nsk_scale in, nsk_scale second,
                            nsk_scale out, nsk_integer_layer *r, nsk_error *error) {
    r->low = clamp_level(layer->low, out, -128);
    r->high = clamp_level(layer->high, out, 127);
    switch (layer->kind) {
    case NSK_KIND_AVERAGE_POOL:
        return make_average(layer, in, out, r, error);
    case NSK_KIND_ADD:
    case NSK_KIND_ADD_FINE:
    case NSK_KIND_MAX:
    case NSK_KIND_MIN:
        return make_sum(layer, in, second, out, r, error);
    case NSK_KIND_MULTIPLY:
    case NSK_KIND_MATMUL:
        return make_product(layer, in, second, out, r, error);
    case NSK_KIND_LUT:
        make_table(layer, in, out, r);
        return true;
    case NSK_KIND_LUT_FINE:
        make_fine_table(layer, in, out, r);
        return true;
    case NSK_KIND_SOFTMAX:
        make_softmax(in, r);
        return true;
    case NSK_KIND_SCORES:
        make_scores(layer, in, r);
        return true;
    case NSK_KIND_NORMALISE:
    case NSK_KIND_NORMALISE_FINE:
    case NSK_KIND_NORMALISE_WHOLE:
        return make_normalise(layer, in, out, r, error);
    case NSK_KIND_MAX_POOL:
        return true;
    case NSK_KIND_COPY:
        make_move(layer, in, out, r);
        return true;
    case NSK_KIND_CONSTANT:
        make_constant(layer, out, r);
        return true;
    case NSK_KIND_RESIZE:
        make_resize(layer, r);
        return true;
    default:
        return make_weights(layer, in, out, r, error);
    }
}

void nsk_integer_layer_clear(nsk_integer_layer *r) {
    g_free(r->weights);
    g_free(r->requantise);
    g_free(r->multipliers);
    g_free(r->moves);
    g_free(r->table);
}
