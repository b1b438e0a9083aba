#include "passes/histogram.h"

#include <math.h>
#include <stdbool.h>
#include <string.h>

enum { HALF = NSK_BINS / 2, LEVELS = 256, FINEST = -40, AT_A_TIME = 256 };

void nsk_histogram_start(nsk_histogram *h) {
    memset(h, 0, sizeof *h);
    h->low = INFINITY;
    h->high = -INFINITY;
    h->exponent = FINEST;
}

/* Joins bins in pairs until they are 2^exponent wide. */
static void widen_to(nsk_histogram *h, int exponent) {
    for (; h->exponent < exponent; h->exponent++) {
        uint64_t joined[NSK_BINS] = {0};
        for (int i = 0; i < NSK_BINS; i++) {
            joined[(i + HALF) / 2] += h->bins[i]; /* HALF is even, so floors stay floors */
        }
        memcpy(h->bins, joined, sizeof joined);
    }
}

/* The exponent at which both extremes have a bin. */
static int exponent_for(float low, float high) {
    int exponent;
    float most = fmaxf(fabsf(low), fabsf(high));
    frexpf(most, &exponent); /* most < 2^exponent */
    exponent -= 11;          /* HALF is 2^11 */
    return exponent > FINEST ? exponent : FINEST;
}

/* Of a number within a few thousand; quicker than the library's where the processor has no such
 * instruction. */
static int floor_of(float number) {
    int whole = (int)number;
    return whole - ((float)whole > number ? 1 : 0);
}

/* In lanes of their own, for vectors. One number that is not finite, and the extremes are not from
 * then on. */
static void widen_extremes(nsk_histogram *h, const float *numbers, size_t count) {
    enum { LANES = 16 };
    float low[LANES];
    float high[LANES];
    float odd[LANES] = {0.0F}; /* x - x is 0 of what is finite */
    for (int k = 0; k < LANES; k++) {
        low[k] = h->low;
        high[k] = h->high;
    }
    for (size_t first = 0; first < count; first += LANES) {
        const int now = count - first < LANES ? (int)(count - first) : LANES;
        for (int k = 0; k < now; k++) {
            const float x = numbers[first + (size_t)k];
            low[k] = x < low[k] ? x : low[k];
            high[k] = x > high[k] ? x : high[k];
            odd[k] += x - x;
        }
    }
    for (int k = 0; k < LANES; k++) {
        h->low = isnan(odd[k]) ? -INFINITY : fminf(low[k], h->low);
        h->high = isnan(odd[k]) ? INFINITY : fmaxf(high[k], h->high);
    }
}

void nsk_histogram_add(nsk_histogram *h, const float *numbers, size_t count) {
    widen_extremes(h, numbers, count);
    if (!isfinite(h->low) || !isfinite(h->high)) {
        return;
    }
    int exponent = exponent_for(h->low, h->high);
    if (exponent > h->exponent) {
        widen_to(h, exponent);
    }
    const float per_bin = ldexpf(1.0F, -h->exponent);
    uint64_t others[NSK_BINS] = {
        0}; /* every other number's: equal ones do not wait for each other */
    for (size_t first = 0; first < count; first += AT_A_TIME) {
        int bins[AT_A_TIME];
        size_t now = count - first < AT_A_TIME ? count - first : AT_A_TIME;
        for (size_t i = 0; i < now; i++) { /* apart from counting, so that vectors do it */
            int bin = floor_of(numbers[first + i] * per_bin) + HALF;
            bins[i] = bin < NSK_BINS ? bin : NSK_BINS - 1;
        }
        size_t k = 0;
        for (; k + 2 <= now; k += 2) {
            h->bins[bins[k]]++;
            others[bins[k + 1]]++;
        }
        if (k < now) {
            h->bins[bins[k]]++;
        }
    }
    for (int i = 0; i < NSK_BINS; i++) {
        h->bins[i] += others[i];
    }
    h->count += count;
}

void nsk_histogram_merge(nsk_histogram *h, const nsk_histogram *other) {
    nsk_histogram finer = *other;
    int exponent = h->exponent > finer.exponent ? h->exponent : finer.exponent;
    widen_to(h, exponent);
    widen_to(&finer, exponent);
    for (int i = 0; i < NSK_BINS; i++) {
        h->bins[i] += finer.bins[i];
    }
    h->count += finer.count;
    h->low = finer.low >= h->low ? h->low : finer.low;
    h->high = finer.high <= h->high ? h->high : finer.high;
}

static double width_of(const nsk_histogram *h) {
    return ldexp(1.0, h->exponent);
}

nsk_range nsk_range_extremes(const nsk_histogram *h) {
    nsk_range r = {fminf(h->low, 0.0F), fmaxf(h->high, 0.0F)};
    return r;
}

nsk_range nsk_range_percentile(const nsk_histogram *h, double part) {
    nsk_range r = nsk_range_extremes(h);
    uint64_t most = (uint64_t)(part * (double)h->count);
    uint64_t left = 0;
    int bin = 0;
    while (bin < HALF && left + h->bins[bin] <= most) {
        left += h->bins[bin++];
    }
    r.low = fmaxf(r.low, (float)ldexp(bin - HALF, h->exponent));
    left = 0;
    bin = NSK_BINS - 1;
    while (bin >= HALF && left + h->bins[bin] <= most) {
        left += h->bins[bin--];
    }
    r.high = fminf(r.high, (float)ldexp(bin + 1 - HALF, h->exponent));
    return r;
}

/* ---- searching ---- */

/* What a number counts as: itself, or what the layer that reads it makes of it. */
typedef struct meaning {
    const nsk_lowered_layer *reader; /* or NULL */
    double at[NSK_BINS];             /* of each bin's middle */
    double steep[NSK_BINS];          /* squared slope in it */
} meaning;

static meaning *meaning_of(const nsk_histogram *h, const nsk_lowered_layer *reader) {
    meaning *m = g_new(meaning, 1);
    const double width = width_of(h);
    m->reader = reader;
    for (int i = 0; i < NSK_BINS; i++) {
        double from = (i - HALF) * width;
        double slope = h->bins[i] == 0 ? 0.0
                                       : (nsk_lowered_function_at(reader, from + width) -
                                          nsk_lowered_function_at(reader, from)) /
                                             width;
        m->at[i] = h->bins[i] == 0 ? 0.0 : nsk_lowered_function_at(reader, from + 0.5 * width);
        m->steep[i] = slope * slope;
    }
    return m;
}

/* What a range costs; less is better. */
typedef double range_cost(const nsk_histogram *h, const meaning *m, double low, double high);

static double squared_error(const nsk_histogram *h, const meaning *m, double low, double high) {
    double step = (high - low) / (LEVELS - 1);
    const double width = width_of(h);
    const double ends[2] = {nsk_lowered_function_at(m->reader, low),
                            nsk_lowered_function_at(m->reader, high)};
    double inside = 0.0;
    double cut = 0.0;
    for (int i = 0; i < NSK_BINS; i++) {
        if (h->bins[i] == 0) {
            continue;
        }
        double x = (i - HALF + 0.5) * width;
        double count = (double)h->bins[i];
        if (x < low || x > high) {
            double over = m->at[i] - ends[x > high];
            cut += over * over * count;
        } else {
            inside += m->steep[i] * count;
        }
    }
    return inside * step * step / 12.0 + cut;
}

/* What is left of the distribution: what lies outside goes to the ends, the bins of a level share
 * its count evenly, those that were empty aside. */
static double divergence(const nsk_histogram *h, const meaning *m, double low, double high) {
    (void)m;
    double count[LEVELS] = {0.0};
    int filled[LEVELS] = {0};
    const double width = width_of(h);
    double step = (high - low) / (LEVELS - 1);
    double sum = 0.0;
    for (int pass = 0; pass < 2; pass++) {
        for (int i = 0; i < NSK_BINS; i++) {
            if (h->bins[i] == 0) {
                continue;
            }
            double level = floor(((i - HALF + 0.5) * width - low) / step + 0.5);
            bool outside = level < 0.0 || level > LEVELS - 1;
            int at = (int)fmin(fmax(level, 0.0), LEVELS - 1);
            double p = (double)h->bins[i];
            if (pass == 0) {
                count[at] += outside ? 0.0 : p;
                filled[at] += outside ? 0 : 1;
            } else {
                double q = outside || filled[at] == 0 ? 1e-3 : count[at] / filled[at];
                sum += p * log(p / q);
            }
        }
    }
    return sum / fmax((double)h->count, 1.0);
}

/* Both ends drawn in by turns, each to a part of where it was. */
static nsk_range search(const nsk_histogram *h, const meaning *m, range_cost *cost) {
    enum { PARTS = 40, ROUNDS = 3 };
    nsk_range all = nsk_range_extremes(h);
    nsk_range best = all;
    double least = cost(h, m, (double)best.low, (double)best.high);
    for (int turn = 0; turn < 2 * ROUNDS; turn++) {
        for (int part = 0; part < PARTS; part++) {
            nsk_range r = best;
            *(turn % 2 == 0 ? &r.high : &r.low) =
                (turn % 2 == 0 ? all.high : all.low) * (float)part / (float)PARTS;
            double now = r.high > r.low ? cost(h, m, (double)r.low, (double)r.high) : INFINITY;
            if (now < least) {
                least = now;
                best = r;
            }
        }
    }
    return best;
}

nsk_range nsk_range_squared_error(const nsk_histogram *h, const nsk_lowered_layer *reader) {
    if (!(h->high > h->low)) {
        return nsk_range_extremes(h);
    }
    meaning *m = meaning_of(h, reader);
    nsk_range r = search(h, m, squared_error);
    g_free(m);
    return r;
}

nsk_range nsk_range_divergence(const nsk_histogram *h) {
    return h->high > h->low ? search(h, NULL, divergence) : nsk_range_extremes(h);
}
