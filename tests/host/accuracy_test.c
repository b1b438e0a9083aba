/* What keeps accuracy: ranges, evening out, fitted rounding; and what says where it goes. */
#include <math.h>
#include <stdio.h>
#include <string.h>

#include "../suites.h"
#include "../support.h"
#include "device/crc.h"
#include "device/format.h"
#include "device/layer.h"
#include "graph/graph.h"
#include "quantise/histogram.h"
#include "train/random.h"

/* ---- ranges ---- */

enum { NUMBERS = 20000 };

static void draw_bell(float *numbers, int count, random_state *r) {
    for (int i = 0; i < count; i++) {
        numbers[i] = (float)random_normal(r);
    }
}

/* In one piece, in pieces of any size, or merged: the same counts. */
static void histograms_do_not_know_the_order(void) {
    static float numbers[NUMBERS];
    static nsk_histogram whole;
    static nsk_histogram pieces;
    static nsk_histogram part;
    random_state r = {51};
    draw_bell(numbers, NUMBERS, &r);
    numbers[NUMBERS / 2] = -37.5F;
    numbers[0] = 1e-7F;
    nsk_histogram_start(&whole);
    nsk_histogram_add(&whole, numbers, NUMBERS);
    nsk_histogram_start(&pieces);
    for (int at = NUMBERS; at > 0;) { /* from the end */
        int count = 1 + random_below(&r, 3000);
        count = count < at ? count : at;
        at -= count;
        nsk_histogram_start(&part);
        nsk_histogram_add(&part, numbers + at, (size_t)count);
        nsk_histogram_merge(&pieces, &part);
    }
    CU_ASSERT_EQUAL(memcmp(&whole, &pieces, sizeof whole), 0);
    uint64_t sum = 0;
    for (int i = 0; i < NSK_BINS; i++) {
        sum += whole.bins[i];
    }
    CU_ASSERT_EQUAL(sum, NUMBERS);
    float odd = NAN;
    nsk_histogram_add(&whole, &odd, 1);
    CU_ASSERT(!isfinite(whole.low) || !isfinite(whole.high));
}

/* What rounding to the range and cutting at it costs, number by number. */
static double cost_of(nsk_range range, const float *numbers, int count) {
    double step = ((double)range.high - (double)range.low) / 255.0;
    double sum = 0.0;
    for (int i = 0; i < count; i++) {
        double level = floor(((double)numbers[i] - (double)range.low) / step + 0.5);
        double rounded = (double)range.low + step * CLAMP(level, 0.0, 255.0);
        sum += pow((double)numbers[i] - rounded, 2.0);
    }
    return sum / count;
}

static void ranges_do_what_they_say(void) {
    static float numbers[NUMBERS];
    static nsk_histogram h;
    random_state r = {52};
    draw_bell(numbers, NUMBERS, &r);
    for (int i = 0; i < 10; i++) {
        numbers[i] = 60.0F; /* one number in two thousand */
    }
    nsk_histogram_start(&h);
    nsk_histogram_add(&h, numbers, NUMBERS);
    nsk_range extremes = nsk_range_extremes(&h);
    CU_ASSERT_DOUBLE_EQUAL(extremes.high, 60.0, 1e-6);
    nsk_range percentile = nsk_range_percentile(&h, 0.001);
    CU_ASSERT(percentile.high > 2.5F && percentile.high < 4.5F);
    CU_ASSERT(percentile.low < -2.5F && percentile.low > -4.5F);
    /* cutting ten numbers costs more than rounding all of them coarsely: 60^2 / 2000 is over 1 */
    nsk_range squared = nsk_range_squared_error(&h);
    CU_ASSERT(squared.high > 50.0F);
    for (int i = 0; i < 10; i++) {
        numbers[i] = 9.0F;
    }
    nsk_histogram_start(&h);
    nsk_histogram_add(&h, numbers, NUMBERS / 4);
    numbers[0] = 200.0F;
    squared = nsk_range_squared_error(&h);
    CU_ASSERT(cost_of(squared, numbers + 1, NUMBERS / 4 - 1) <=
              1.05 * cost_of(nsk_range_extremes(&h), numbers + 1, NUMBERS / 4 - 1));
    nsk_range divergence = nsk_range_divergence(&h);
    CU_ASSERT(divergence.low < 0.0F && divergence.high > 2.0F && divergence.high <= 9.0F);
    for (int i = 0; i < NUMBERS; i++) {
        numbers[i] = 3.0F + (float)(i % 7);
    }
    nsk_histogram_start(&h);
    nsk_histogram_add(&h, numbers, NUMBERS);
    const nsk_range all[] = {nsk_range_extremes(&h), nsk_range_percentile(&h, 0.01),
                             nsk_range_squared_error(&h), nsk_range_divergence(&h)};
    for (size_t i = 0; i < G_N_ELEMENTS(all); i++) { /* zero is in all of them */
        CU_ASSERT(all[i].low <= 0.0F && all[i].high >= 3.0F);
    }
}

/* ---- the same function in other numbers ---- */

static float *weight_of(const nsk_graph *g, const nsk_node *node, int output, int input) {
    nsk_value *w = nsk_graph_value(g, node->input[1]);
    size_t taps = nsk_value_count(w) / (size_t)w->dims[0] / (size_t)w->dims[1];
    return w->data + ((size_t)output * (size_t)w->dims[1] + (size_t)input) * taps;
}

static void multiply(float *numbers, size_t count, float by) {
    for (size_t i = 0; i < count; i++) {
        numbers[i] *= by;
    }
}

/* Multiplies every channel between two layers of the kiln line's network, which is a chain, by a
 * number from 0.1 to 10, and divides it out again in the next layer. */
static void rescale(const nsk_graph *g, uint64_t seed) {
    random_state r = {seed};
    nsk_node *before = NULL;
    for (int n = 0; n < (int)g->nodes->len; n++) {
        nsk_node *node = nsk_graph_node(g, n);
        if (node->dead || (node->op != NSK_OP_CONV && node->op != NSK_OP_GEMM)) {
            continue;
        }
        const nsk_value *w = nsk_graph_value(g, node->input[1]);
        size_t taps = nsk_value_count(w) / (size_t)w->dims[0] / (size_t)w->dims[1];
        bool depthwise = w->dims[1] == 1;
        for (int c = 0; before != NULL && c < (int)nsk_graph_value(g, before->input[1])->dims[0];
             c++) {
            const nsk_value *v = nsk_graph_value(g, before->input[1]);
            float factor = (float)pow(10.0, random_between(&r, -1.0, 1.0));
            multiply(weight_of(g, before, c, 0), nsk_value_count(v) / (size_t)v->dims[0], factor);
            nsk_graph_value(g, before->input[2])->data[c] *= factor;
            for (int o = 0; !depthwise && o < (int)w->dims[0]; o++) {
                multiply(weight_of(g, node, o, c), taps, 1.0F / factor);
            }
            if (depthwise) {
                multiply(weight_of(g, node, c, 0), taps, 1.0F / factor);
            }
        }
        before = node;
    }
}

static double loss_of(const nsk_network *network, const kiln *k, const nsk_images *calibration,
                      const nsk_recipe *recipe, double *agreement) {
    nsk_error error = {.text = ""};
    nsk_model_file *file = nsk_quantise(network, calibration, recipe, &error);
    assert_error(&error, "");
    CU_ASSERT_PTR_NOT_NULL_FATAL(file);
    nsk_comparison *c = nsk_compare(network, file, k->held_out, NULL, NULL, &error);
    CU_ASSERT_PTR_NOT_NULL_FATAL(c);
    double loss = c->loss_points;
    *agreement = (double)c->agree / c->images;
    nsk_comparison_free(c);
    nsk_model_file_free(file);
    return loss;
}

static void rescaled_channels_cost_nothing(void) {
    kiln k;
    nsk_error error = {.text = ""};
    double agreement;
    kiln_load(&k, 200);
    nsk_input input = k.brief->input;
    double as_it_is = loss_of(k.network, &k, k.calibration, NULL, &agreement);
    CU_ASSERT(as_it_is <= 0.2);
    CU_ASSERT(agreement >= 0.99);
    nsk_network *other = nsk_network_read(k.brief->model, &input, NULL, &error);
    CU_ASSERT_PTR_NOT_NULL_FATAL(other);
    rescale(other->graph, 7);
    double rescaled = loss_of(other, &k, k.calibration, NULL, &agreement);
    const nsk_recipe bare = {.ranges = NSK_RANGES_EXTREMES, .ram = INFINITY};
    double collapsed = loss_of(other, &k, k.calibration, &bare, &agreement);
    printf("[loss %.2f points, rescaled %.2f, without the stages %.2f] ", as_it_is, rescaled,
           collapsed);
    CU_ASSERT(rescaled <= as_it_is + 0.5);
    CU_ASSERT(collapsed >= as_it_is + 5.0);
    nsk_network_free(other);
    kiln_free(&k);
}

/* Float scores before and after. */
static void evening_out_keeps_the_function(void) {
    kiln k;
    nsk_error error = {.text = ""};
    double worst = 0.0;
    kiln_load(&k, 20);
    nsk_network *evened = nsk_network_equalised(k.network, k.calibration, &error);
    CU_ASSERT_PTR_NOT_NULL_FATAL(evened);
    uint8_t *frame = g_malloc(nsk_images_frame_bytes(k.calibration));
    for (int i = 0; i < nsk_images_count(k.calibration); i++) {
        float a[6];
        float b[6];
        CU_ASSERT(nsk_images_frame(k.calibration, i, frame, &error));
        CU_ASSERT(nsk_network_score(k.network, &k.brief->input, frame, a, &error));
        CU_ASSERT(nsk_network_score(evened, &k.brief->input, frame, b, &error));
        for (int c = 0; c < 6; c++) {
            worst = fmax(worst, fabs((double)a[c] - (double)b[c]));
        }
    }
    CU_ASSERT(worst < 1e-5);
    g_free(frame);
    nsk_network_free(evened);
    kiln_free(&k);
}

static void few_images_suffice(void) {
    kiln k;
    nsk_error error = {.text = ""};
    double agreement;
    kiln_load(&k, 30);
    nsk_images *eight =
        nsk_images_open(k.brief->calibration, &k.brief->labels, &k.brief->input, 8, false, &error);
    assert_error(&error, "");
    CU_ASSERT_PTR_NOT_NULL_FATAL(eight);
    CU_ASSERT_EQUAL(nsk_images_count(eight), 8);
    double loss = loss_of(k.network, &k, eight, NULL, &agreement);
    printf("[loss %.2f points, agreement %.2f %%] ", loss, 100.0 * agreement);
    CU_ASSERT(loss <= 1.0);
    nsk_images_free(eight);
    kiln_free(&k);
}

/* ---- where it goes ---- */

/* Turns the sign of every third weight of a layer. */
static void spoil(uint8_t *bytes, size_t size, int layer) {
    nsk_model model;
    nsk_layer l;
    CU_ASSERT_EQUAL(nsk_open(&model, bytes, size), NSK_OK);
    nsk_layer_decode(&model, (unsigned)layer, &l);
    size_t count = l.kind == NSK_DEPTHWISE
                       ? (size_t)9 * l.out.channels
                       : (size_t)l.out.channels * (size_t)nsk_row_bytes(nsk_conv_taps(&l));
    uint8_t *weights = bytes + (l.weights - bytes);
    for (size_t i = 0; i < count; i += 3) {
        weights[i] = (uint8_t) - (int8_t)weights[i];
    }
    uint32_t crc = nsk_crc32(0, bytes, NSK_H_CRC);
    crc = nsk_crc32(crc, bytes + NSK_H_WORKSPACE, size - NSK_H_WORKSPACE);
    for (int b = 0; b < 4; b++) {
        bytes[NSK_H_CRC + b] = (uint8_t)(crc >> (8 * b));
    }
}

/* The layer that is farthest from the float network by itself. */
static int guilty_of(const nsk_drift *d) {
    int guilty = 0;
    for (int i = 1; i < d->layers; i++) {
        guilty = d->layer[i].alone_db < d->layer[guilty].alone_db ? i : guilty;
    }
    return guilty;
}

static void drift_names_the_guilty(void) {
    kiln k;
    nsk_error error = {.text = ""};
    int spoilt = 0;
    kiln_load(&k, 60);
    nsk_images *some =
        nsk_images_open(k.brief->held_out, &k.brief->labels, &k.brief->input, 24, false, &error);
    nsk_network *evened = nsk_network_equalised(k.network, k.calibration, &error);
    CU_ASSERT_FATAL(some != NULL && evened != NULL);
    nsk_drift *clean = nsk_drift_measure(evened, k.file, some, NULL, NULL, &error);
    CU_ASSERT_PTR_NOT_NULL_FATAL(clean);
    for (int i = 0; i < clean->layers; i++) {
        CU_ASSERT(clean->layer[i].measured && clean->layer[i].alone_db > 25.0);
        CU_ASSERT(clean->layer[i].sqnr_db > 15.0);
    }
    nsk_model model;
    nsk_open(&model, k.file->bytes, k.file->size);
    for (int i = 0; i < clean->layers; i++) {
        nsk_kind kind = nsk_layer_kind(&model, (unsigned)i);
        if (kind != NSK_CONV && kind != NSK_DEPTHWISE) {
            continue;
        }
        nsk_model_file copy = *k.file;
        copy.bytes = g_memdup2(k.file->bytes, k.file->size);
        spoil(copy.bytes, copy.size, i);
        nsk_drift *d = nsk_drift_measure(evened, &copy, some, NULL, NULL, &error);
        assert_error(&error, "");
        CU_ASSERT_PTR_NOT_NULL_FATAL(d);
        CU_ASSERT_EQUAL(guilty_of(d), i);
        CU_ASSERT(d->layer[i].alone_db < clean->layer[i].alone_db - 10.0);
        nsk_drift_free(d);
        g_free(copy.bytes);
        spoilt++;
    }
    CU_ASSERT_EQUAL(spoilt, 11);
    nsk_drift_free(clean);
    nsk_network_free(evened);
    nsk_images_free(some);
    kiln_free(&k);
}

CU_TestInfo accuracy_tests[] = {
    {"histograms do not know the order", histograms_do_not_know_the_order},
    {"ranges do what they say", ranges_do_what_they_say},
    {"evening out keeps the function", evening_out_keeps_the_function},
    {"rescaled channels cost nothing", rescaled_channels_cost_nothing},
    {"eight images suffice", few_images_suffice},
    {"drift names the guilty layer", drift_names_the_guilty},
    CU_TEST_INFO_NULL,
};
