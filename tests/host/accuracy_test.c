/* What keeps accuracy: ranges, evening out, fitted rounding; and what says where it goes. */
#include <math.h>
#include <stdio.h>
#include <string.h>

#include "../network_text.h"
#include "../suites.h"
#include "analysis/regain.h"
#include "base/element.h"
#include "base/random.h"
#include "device/crc.h"
#include "device/format.h"
#include "device/layer.h"
#include "graph/graph.h"
#include "images/moved.h"
#include "lower/lower.h"
#include "network/network.h"
#include "network/observe.h"
#include "passes/histogram.h"
#include "passes/rounding.h"
#include "pipeline/pipeline.h"
#include "refine/settle.h"
#include "run/runner.h"
#include "scene.h"

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
    numbers[NUMBERS / 3] = NAN; /* what comes after it must not make it forgotten */
    nsk_histogram_add(&whole, numbers, NUMBERS);
    CU_ASSERT(!isfinite(whole.low) || !isfinite(whole.high));
    nsk_histogram_add(&pieces, (const float[]){1.0F, INFINITY, 2.0F}, 3);
    CU_ASSERT(!isfinite(pieces.low) || !isfinite(pieces.high));
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
    nsk_range squared = nsk_range_squared_error(&h, NULL);
    CU_ASSERT(squared.high > 50.0F);
    for (int i = 0; i < 10; i++) {
        numbers[i] = 9.0F;
    }
    nsk_histogram_start(&h);
    nsk_histogram_add(&h, numbers, NUMBERS / 4);
    numbers[0] = 200.0F;
    squared = nsk_range_squared_error(&h, NULL);
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
                             nsk_range_squared_error(&h, NULL), nsk_range_divergence(&h)};
    for (size_t i = 0; i < G_N_ELEMENTS(all); i++) { /* zero is in all of them */
        CU_ASSERT(all[i].low <= 0.0F && all[i].high >= 3.0F);
    }
}

/* Below 0 and above 6 a ReLU of 6 tells nothing apart: no level is spent there. */
static void ranges_are_of_what_is_read(void) {
    static float numbers[NUMBERS];
    static nsk_histogram h;
    random_state r = {53};
    const nsk_lowered_layer reader = {.kind = NSK_KIND_LUT, .low = 0.0, .high = 6.0};
    draw_bell(numbers, NUMBERS, &r);
    for (int i = 0; i < NUMBERS; i++) {
        numbers[i] *= 5.0F;
    }
    nsk_histogram_start(&h);
    nsk_histogram_add(&h, numbers, NUMBERS);
    nsk_range all = nsk_range_squared_error(&h, NULL);
    nsk_range read = nsk_range_squared_error(&h, &reader);
    CU_ASSERT(all.low < -8.0F && all.high > 8.0F);
    CU_ASSERT(read.low > -0.5F && read.high > 5.7F && read.high < 6.5F);
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

/* What the logits of all images are too high by, class by class, together: integer less float. */
static double shift_of(const kiln *k, bool biases) {
    nsk_error error = {.text = ""};
    nsk_recipe recipe;
    double shift[KILN_CLASSES] = {0.0};
    double sum = 0.0;
    nsk_recipe_init(&recipe);
    recipe.biases = biases;
    nsk_model_file *file = nsk_quantise(k->network, k->calibration, &recipe, &error);
    CU_ASSERT_PTR_NOT_NULL_FATAL(file);
    nsk_model model;
    nsk_layer last;
    CU_ASSERT_EQUAL_FATAL(nsk_open(&model, file->bytes, file->size), NSK_STATUS_OK);
    nsk_layer_decode(&model, model.layers - 1U, &last);
    const nsk_scale scale = nsk_scale_of_tensor(&last.in);
    const nsk_graph *graph = k->network->graph;
    const int logits = nsk_graph_producer(graph, graph->output)->input[0];
    nsk_pass *pass = nsk_pass_new(graph, &error);
    uint8_t *frame = g_malloc(nsk_images_frame_bytes(k->calibration));
    int8_t *workspace = g_malloc(model.workspace_bytes);
    const int images = nsk_images_count(k->calibration);
    for (int i = 0; i < images; i++) {
        CU_ASSERT(nsk_observe_image(graph, pass, k->calibration, i, frame, &error));
        nsk_prepare(&model, frame, (size_t)model.width * model.channels, workspace);
        nsk_run(&model, workspace, NULL);
        for (int c = 0; c < KILN_CLASSES; c++) {
            int32_t level = nsk_element_at(workspace + last.in.offset + 2 * c, 2);
            shift[c] +=
                ((double)scale.scale * level - (double)nsk_pass_value(pass, logits)[c]) / images;
        }
    }
    for (int c = 0; c < KILN_CLASSES; c++) {
        sum += fabs(shift[c]);
    }
    nsk_pass_free(pass);
    g_free(frame);
    g_free(workspace);
    nsk_model_file_free(file);
    return sum;
}

static void biases_settle(void) {
    kiln k;
    kiln_load(&k, 60);
    double without = shift_of(&k, false);
    double with = shift_of(&k, true);
    printf("[logits shifted by %.4f, %.4f without] ", with, without);
    CU_ASSERT(with < 0.1 * without);
    kiln_free(&k);
}

/* More images than tell anything new are not fitted on; none where nothing is. */
static void enough_images_are_enough(void) {
    kiln k;
    nsk_error error = {.text = ""};
    nsk_recipe bare;
    kiln_load(&k, 300);
    CU_ASSERT_EQUAL(nsk_images_count(k.calibration), 300);
    CU_ASSERT_EQUAL(k.file->fitted, 256);
    nsk_recipe_init(&bare);
    bare.rounding = bare.biases = false;
    nsk_model_file *file = nsk_quantise(k.network, k.calibration, &bare, &error);
    CU_ASSERT(file != NULL && file->fitted == 0);
    nsk_model_file_free(file);
    kiln_free(&k);
}

/* Of networks whose workspaces are large, as many as stand in 256 MiB, and one at least. */
static void large_workspaces_are_few(void) {
    nsk_error error = {.text = ""};
    noisy n;
    noisy_load(&n,
               "Conv x w_8_3_3_3 b_8 > y; GlobalAveragePool y > g; Flatten g > f; "
               "Gemm f h_5_8 c_5 > z transB=i1",
               5);
    nsk_lowered *lowered = nsk_lower_and_join(n.network->graph, &error);
    CU_ASSERT_PTR_NOT_NULL_FATAL(lowered);
    const int all = nsk_images_count(n.images);
    CU_ASSERT(all == 50 && nsk_settle_images(lowered, n.images) == all);
    nsk_lowered_tensor *conv =
        nsk_lowered_tensor_at(lowered, nsk_lowered_layer_at(lowered, 0)->out);
    conv->height = conv->width = 1024; /* 8 MiB, and a little more */
    CU_ASSERT_EQUAL(nsk_settle_images(lowered, n.images), 31);
    conv->height = conv->width = 8192;
    CU_ASSERT_EQUAL(nsk_settle_images(lowered, n.images), 1);
    nsk_lowered_free(lowered);
    noisy_free(&n);
}

/* Of pictures that had no part in anything. */
static void little_is_lost(void) {
    kiln k;
    double agreement;
    char *folder = scratch_new();
    kiln_load(&k, 200);
    nsk_images_free(k.held_out);
    k.held_out = kiln_fresh(&k, folder, 9091, 200 * KILN_CLASSES);
    double loss = loss_of(k.network, &k, k.calibration, NULL, &agreement);
    printf("[loss %.2f points, agreement %.2f %%] ", loss, 100.0 * agreement);
    CU_ASSERT(loss <= 0.2);
    CU_ASSERT(agreement >= 0.99);
    scratch_remove(folder);
    kiln_free(&k);
}

/* Layer normalisation, attention, products along tokens, large kernels. */
static void todays_networks_lose_little(void) {
    static const char *const names[] = {"transformer", "mixer", "large"};
    kiln k;
    char *folder = scratch_new();
    kiln_load(&k, 200);
    nsk_images_free(k.held_out);
    k.held_out = kiln_fresh(&k, folder, 9092, 200 / TESTS_FEWER * KILN_CLASSES);
    for (size_t i = 0; i<G_N_ELEMENTS(names); i += TESTS_FEWER> 1 ? 3 : 1) {
        nsk_error error = {.text = ""};
        nsk_input input = k.brief->input;
        char *path = g_strdup_printf(NSK_SOURCE_DIR "/demo/kiln-%s.onnx", names[i]);
        nsk_network *network = nsk_network_read(path, &input, NULL, &error);
        assert_error(&error, "");
        CU_ASSERT_PTR_NOT_NULL_FATAL(network);
        double agreement;
        double loss = loss_of(network, &k, k.calibration, NULL, &agreement);
        printf("[%s: loss %.2f points, agreement %.2f %%] ", names[i], loss, 100.0 * agreement);
        CU_ASSERT(loss <= 0.5);
        CU_ASSERT(agreement >= 0.98);
        nsk_network_free(network);
        g_free(path);
    }
    scratch_remove(folder);
    kiln_free(&k);
}

static void rescaled_channels_cost_nothing(void) {
    kiln k;
    nsk_error error = {.text = ""};
    double agreement;
    kiln_load(&k, 200);
    nsk_input input = k.brief->input;
    double as_it_is = loss_of(k.network, &k, k.calibration, NULL, &agreement);
    CU_ASSERT(agreement >= 0.99);
    nsk_network *other = nsk_network_read(k.brief->model, &input, NULL, &error);
    CU_ASSERT_PTR_NOT_NULL_FATAL(other);
    rescale(other->graph, 7);
    double rescaled = loss_of(other, &k, k.calibration, NULL, &agreement);
    const nsk_recipe bare = {.ranges = NSK_RANGE_METHOD_EXTREMES, .ram = INFINITY};
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
    nsk_network *equalised = nsk_network_equalised(k.network, k.calibration, &error);
    CU_ASSERT_PTR_NOT_NULL_FATAL(equalised);
    uint8_t *frame = g_malloc(nsk_images_frame_bytes(k.calibration));
    for (int i = 0; i < nsk_images_count(k.calibration); i++) {
        float a[6];
        float b[6];
        CU_ASSERT(nsk_images_frame(k.calibration, i, frame, &error));
        CU_ASSERT(nsk_network_score(k.network, &k.brief->input, frame, a, &error));
        CU_ASSERT(nsk_network_score(equalised, &k.brief->input, frame, b, &error));
        for (int c = 0; c < 6; c++) {
            worst = fmax(worst, fabs((double)a[c] - (double)b[c]));
        }
    }
    CU_ASSERT(worst < 1e-5);
    g_free(frame);
    nsk_network_free(equalised);
    kiln_free(&k);
}

/* Eight calibration images cost at most half a point more than two hundred do, on pictures that had
 * no part in anything. */
static void few_images_suffice(void) {
    static const char *const names[] = {"kiln", "kiln-third"};
    kiln k;
    nsk_error error = {.text = ""};
    char *folder = scratch_new();
    kiln_load(&k, 200);
    nsk_images_free(k.held_out);
    k.held_out = kiln_fresh(&k, folder, 9093, 200 * KILN_CLASSES);
    nsk_images *eight =
        nsk_images_open(k.brief->calibration, &k.brief->labels, &k.brief->input, 8, false, &error);
    assert_error(&error, "");
    CU_ASSERT_PTR_NOT_NULL_FATAL(eight);
    CU_ASSERT_EQUAL(nsk_images_count(eight), 8);
    for (size_t i = 0; i < G_N_ELEMENTS(names); i++) {
        nsk_input input = k.brief->input;
        char *path = g_strdup_printf(NSK_SOURCE_DIR "/demo/%s.onnx", names[i]);
        nsk_network *network = nsk_network_read(path, &input, NULL, &error);
        CU_ASSERT_PTR_NOT_NULL_FATAL(network);
        double agreement;
        double many = loss_of(network, &k, k.calibration, NULL, &agreement);
        double few = loss_of(network, &k, eight, NULL, &agreement);
        printf("[%s: loss %.2f points, of two hundred %.2f; agreement %.2f %%] ", names[i], few,
               many, 100.0 * agreement);
        CU_ASSERT(few <= many + 0.5 && few <= 1.0);
        CU_ASSERT(agreement >= 0.97);
        nsk_network_free(network);
        g_free(path);
    }
    nsk_images_free(eight);
    scratch_remove(folder);
    kiln_free(&k);
}

/* Where few are looked at, each is followed by itself, moved by a sixteenth in four directions. */
static void few_images_are_moved(void) {
    static const int ways[][2] = {{0, 0}, {-3, 0}, {3, 0}, {0, -3}, {0, 3}};
    kiln k;
    nsk_error error;
    kiln_load(&k, 7);
    const int side = k.brief->input.width;
    nsk_images *more = nsk_images_with_moved(k.calibration);
    CU_ASSERT_EQUAL(nsk_images_count(more), 5 * 7);
    CU_ASSERT_EQUAL(k.file->moved, 4 * 7);
    const size_t bytes = nsk_images_frame_bytes(more);
    uint8_t *as_it_is = g_malloc(bytes);
    uint8_t *moved = g_malloc(bytes);
    int wrong = 0;
    for (int i = 0; i < nsk_images_count(more); i++) {
        CU_ASSERT(nsk_images_frame(k.calibration, i / 5, as_it_is, &error));
        CU_ASSERT(nsk_images_frame(more, i, moved, &error));
        CU_ASSERT_EQUAL(nsk_images_label(more, i), nsk_images_label(k.calibration, i / 5));
        for (int at = 0; at < 3 * side * side; at++) {
            const int x = CLAMP(at / 3 % side - ways[i % 5][0], 0, side - 1);
            const int y = CLAMP(at / 3 / side - ways[i % 5][1], 0, side - 1);
            wrong += moved[at] != as_it_is[3 * (y * side + x) + at % 3];
        }
    }
    CU_ASSERT_EQUAL(wrong, 0);
    nsk_images_free(more);
    nsk_images *many = nsk_images_open(k.brief->calibration, &k.brief->labels, &k.brief->input,
                                       NSK_FEW_IMAGES, false, &error);
    more = nsk_images_with_moved(many);
    CU_ASSERT_EQUAL(nsk_images_count(more), NSK_FEW_IMAGES);
    nsk_images_free(more);
    nsk_images_free(many);
    g_free(as_it_is);
    g_free(moved);
    kiln_free(&k);
}

/* ---- where it goes ---- */

/* Turns the sign of every third weight of a layer. */
static void spoil(uint8_t *bytes, size_t size, int layer) {
    nsk_model model;
    nsk_layer l;
    CU_ASSERT_EQUAL(nsk_open(&model, bytes, size), NSK_STATUS_OK);
    nsk_layer_decode(&model, (unsigned)layer, &l);
    size_t count = l.kind == NSK_KIND_DEPTHWISE
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
    nsk_network *equalised = nsk_network_equalised(k.network, k.calibration, &error);
    CU_ASSERT_FATAL(some != NULL && equalised != NULL);
    nsk_drift *clean = nsk_drift_measure(equalised, k.file, some, NULL, NULL, &error);
    CU_ASSERT_PTR_NOT_NULL_FATAL(clean);
    for (int i = 0; i < clean->layers; i++) {
        CU_ASSERT(clean->layer[i].measured && clean->layer[i].alone_db > 25.0);
        CU_ASSERT(clean->layer[i].sqnr_db > 15.0);
    }
    nsk_model model;
    nsk_open(&model, k.file->bytes, k.file->size);
    for (int i = 0; i < clean->layers; i++) {
        nsk_kind kind = nsk_layer_kind(&model, (unsigned)i);
        if (kind != NSK_KIND_CONV && kind != NSK_KIND_DEPTHWISE) {
            continue;
        }
        nsk_model_file copy = *k.file;
        copy.bytes = g_memdup2(k.file->bytes, k.file->size);
        spoil(copy.bytes, copy.size, i);
        nsk_drift *d = nsk_drift_measure(equalised, &copy, some, NULL, NULL, &error);
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
    nsk_network_free(equalised);
    nsk_images_free(some);
    kiln_free(&k);
}

/* Weights of one layer of the rounded network are spoilt: that is the layer that would bring back
 * most. */
static void regaining_names_the_spoilt_layer(void) {
    kiln k;
    nsk_error error = {.text = ""};
    kiln_load(&k, 24);
    nsk_network *equalised = nsk_network_equalised(k.network, k.calibration, &error);
    nsk_images_keep(k.held_out, 25, true);
    static const char *const layers[] = {"conv2", "dense12"};
    for (size_t i = 0; i < G_N_ELEMENTS(layers); i++) {
        nsk_network *rounded = nsk_network_rounded(k.network, k.calibration, NULL, &error);
        CU_ASSERT_PTR_NOT_NULL_FATAL(rounded);
        for (int n = 0; n < (int)rounded->graph->nodes->len; n++) {
            const nsk_node *node = nsk_graph_node(rounded->graph, n);
            if (!node->dead && strcmp(node->name, layers[i]) == 0) {
                nsk_value *w = nsk_graph_value(rounded->graph, node->input[1]);
                for (size_t e = 0; e < nsk_value_count(w); e += 2) {
                    w->data[e] = -w->data[e];
                }
            }
        }
        nsk_regain *r = nsk_regain_of(equalised, rounded, k.held_out, NULL, NULL, &error);
        CU_ASSERT_PTR_NOT_NULL_FATAL(r);
        CU_ASSERT_EQUAL(r->images, nsk_images_count(k.held_out));
        CU_ASSERT_EQUAL(r->exact.agree, r->images);
        CU_ASSERT_EQUAL(r->exact.apart, 0);
        CU_ASSERT(r->rounded.right < r->images / 2);
        CU_ASSERT_STRING_EQUAL(r->layer[0].name, layers[i]);
        CU_ASSERT(r->layer[0].right > r->images * 8 / 10);
        CU_ASSERT(r->layer[1].right < r->layer[0].right);
        nsk_regain_free(r);
        nsk_network_free(rounded);
    }
    nsk_network_free(equalised);
    kiln_free(&k);
}

/* The farthest that a probability of the rewritten network is from the network's own. */
static double farthest_apart(const noisy *n, const nsk_network *rewritten) {
    nsk_error error = {.text = ""};
    const nsk_input *input = nsk_images_input(n->images);
    uint8_t *frame = g_malloc(nsk_images_frame_bytes(n->images));
    double farthest = 0.0;
    for (int i = 0; i < nsk_images_count(n->images); i++) {
        float own[8];
        float other[8];
        CU_ASSERT(nsk_images_frame(n->images, i, frame, &error));
        CU_ASSERT(nsk_network_score(n->network, input, frame, own, &error));
        CU_ASSERT(nsk_network_score(rewritten, input, frame, other, &error));
        for (int c = 0; c < nsk_network_classes(n->network); c++) {
            farthest = fmax(farthest, fabs((double)own[c] - (double)other[c]));
        }
    }
    g_free(frame);
    return farthest;
}

/* Signal over error of the second layer's output, in the integer model with or without the stage.
 */
static double decibels_of_scores(const noisy *n, bool stage) {
    nsk_error error = {.text = ""};
    nsk_recipe recipe = {.ranges = NSK_RANGE_METHOD_EXTREMES, .equalise = stage, .ram = INFINITY};
    nsk_network *network =
        stage ? nsk_network_equalised(n->network, n->images, &error) : n->network;
    nsk_model_file *file = nsk_quantise(n->network, n->images, &recipe, &error);
    assert_error(&error, "");
    nsk_drift *d = nsk_drift_measure(network, file, n->images, NULL, NULL, &error);
    assert_error(&error, "");
    CU_ASSERT_PTR_NOT_NULL_FATAL(d);
    double decibels = d->layer[d->layers - 2].sqnr_db;
    nsk_drift_free(d);
    nsk_model_file_free(file);
    if (stage) {
        nsk_network_free(network);
    }
    return decibels;
}

#define HEAD "; GlobalAveragePool y > g; Flatten g > f; Gemm f h_5_6 c_5 > z transB=i1"

/* Channels that stand far from zero move to it, and the next layer adds what is missing: where
 * nothing is cut off, and where a bias keeps what is cut off at zero above it whatever comes. */
static void high_biases_are_absorbed(void) {
    static const char *const texts[] = {
        "Conv x w_8_3_3_3 k_8_40 > a; Conv a u_6_8_1_1 b_6 > y" HEAD,
        "Conv x w_8_3_3_3 k_8_40 > a; Relu a > r; Conv r u_6_8_1_1 b_6 > y" HEAD,
        "Conv x w_8_3_3_3 k_8_40 > a; Relu a > r; AveragePool r > p kernel_shape=l2,2 "
        "strides=l2,2; "
        "Conv p u_6_8_1_1 > y" HEAD,
    };
    for (size_t i = 0; i < G_N_ELEMENTS(texts); i++) {
        nsk_error error = {.text = ""};
        noisy n;
        noisy_load(&n, texts[i], 5);
        nsk_network *even = nsk_network_equalised(n.network, n.images, &error);
        CU_ASSERT_PTR_NOT_NULL_FATAL(even);
        CU_ASSERT(farthest_apart(&n, even) < 1e-4);
        double with = decibels_of_scores(&n, true);
        double without = decibels_of_scores(&n, false);
        printf("[%.1f dB, without %.1f] ", with, without);
        CU_ASSERT(with > without + 5.0);
        nsk_network_free(even);
        noisy_free(&n);
    }
}

/* Zeroes around the picture are not what a shifted channel has there: nothing is moved. */
static void margins_keep_biases(void) {
    nsk_error error = {.text = ""};
    noisy n;
    noisy_load(&n, "Conv x w_8_3_3_3 k_8_40 > a; Conv a u_6_8_3_3 b_6 > y pads=l1,1,1,1" HEAD, 5);
    nsk_network *even = nsk_network_equalised(n.network, n.images, &error);
    CU_ASSERT_PTR_NOT_NULL_FATAL(even);
    CU_ASSERT(farthest_apart(&n, even) < 1e-4);
    nsk_network_free(even);
    noisy_free(&n);
}

/* Behind a clip at 1 only channels that can be shown never to reach it change, and no further than
 * to it. */
static void clipped_channels_keep_their_size(void) {
    nsk_error error = {.text = ""};
    noisy n;
    noisy_load(&n,
               "Conv x w_8_3_3_3 > a; Clip a k_0 k_1 > r; Conv r d_8_1_1_1 > s group=i8; "
               "Clip s k_0 k_1 > t; Conv t u_6_8_1_1 b_6 > y" HEAD,
               5);
    nsk_network *even = nsk_network_equalised(n.network, n.images, &error);
    CU_ASSERT_PTR_NOT_NULL_FATAL(even);
    CU_ASSERT(farthest_apart(&n, even) < 1e-5);
    int changed = 0;
    int kept = 0;
    for (int i = 0; i < (int)even->graph->nodes->len; i++) {
        const nsk_node *node = nsk_graph_node(even->graph, i);
        const nsk_node *own = nsk_graph_node(n.network->graph, i);
        if (node->dead || node->op != NSK_OP_CONV || node->attributes.window.groups != 8) {
            continue;
        }
        const float *after = nsk_graph_value(even->graph, node->input[1])->data;
        const float *before = nsk_graph_value(n.network->graph, own->input[1])->data;
        for (int c = 0; c < 8; c++) {
            bool reaches = before[c] >= 1.0F;
            bool same = fabsf(after[c] - before[c]) <= 0.0F;
            CU_ASSERT(!reaches || same);
            CU_ASSERT(reaches || after[c] <= 1.0F + 1e-6F);
            changed += !same;
            kept += reaches;
        }
    }
    CU_ASSERT(changed >= 2);
    CU_ASSERT(kept >= 1);
    nsk_network_free(even);
    noisy_free(&n);
}

/* The next smaller multipliers one by one, down to the least that there is; each is another. */
static void multipliers_go_down(void) {
    float weights[] = {1.0F, -0.5F, 0.25F, 0.1F};
    float bias = 0.0F;
    const nsk_lowered_layer l = {
        .kind = NSK_KIND_DENSE, .taps = 4, .weights = weights, .bias = &bias};
    const nsk_scale in = {0.02F, -3};
    const nsk_scale out = {0.05F, 5};
    nsk_requantise_multiplier m = nsk_weight_multiplier(&l, 0, 1, in, out);
    double scale = nsk_scale_at(m, in, out);
    int steps = 0;
    CU_ASSERT(nsk_weight_level(&l, 1.0, scale) <= 127 && nsk_weight_level(&l, 1.0, scale) >= 112);
    CU_ASSERT_DOUBLE_EQUAL(scale, nsk_weight_scale(&l, 0, 1, in, out), 1e-12);
    while (nsk_multiplier_below(&l, 0, 1, in, out, &m)) {
        double smaller = nsk_scale_at(m, in, out);
        double ratio = smaller / scale;
        CU_ASSERT(ratio >= 8.0 / 9.0 - 1e-6 && ratio <= 15.0 / 16.0 + 1e-6); /* 9 to 8, 16 to 15 */
        CU_ASSERT_EQUAL(nsk_weight_level(&l, 1.0, smaller), 127);            /* cut off */
        scale = smaller;
        steps++;
    }
    CU_ASSERT(steps > 40);
    CU_ASSERT(m.factor == 8 && (m.shift == 31 || m.shift > 20));
}

/* A network of one dense layer behind a mean, on noise: one output's weights are all of one size
 * but for one that its input hardly ever uses. */
static nsk_lowered *lowered_with_outlier(const noisy *n, nsk_scale *scales, float outlier) {
    nsk_error error = {.text = ""};
    nsk_lowered *lowered = nsk_lower_and_join(n->network->graph, &error);
    CU_ASSERT_PTR_NOT_NULL_FATAL(lowered);
    for (int i = 0; i < (int)lowered->tensors->len; i++) {
        scales[i] = (nsk_scale){0.02F, 0};
    }
    for (int i = 0; i < (int)lowered->layers->len; i++) {
        nsk_lowered_layer *l = nsk_lowered_layer_at(lowered, i);
        for (int t = 0; t < l->taps && l->kind == NSK_KIND_CONV; t++) { /* of output 0 */
            l->weights[t] = t == 0 ? outlier : 0.011F * (float)(t % 9 - 4);
        }
    }
    return lowered;
}

/* The largest weight is cut off where that lowers the error: where the next smaller scale, which
 * all others gain from, is hardly too small for it. Never is a scale larger than it must be. */
static void outliers_are_cut_off(void) {
    enum { TRIED = 24 };
    nsk_error error = {.text = ""};
    noisy n;
    nsk_scale scales[32];
    int cuts = 0;
    noisy_load(&n,
               "Conv x w_8_3_3_3 b_8 > y pads=l1,1,1,1; GlobalAveragePool y > g; Flatten g > f; "
               "Gemm f h_5_8 c_5 > z transB=i1",
               5);
    for (int i = 0; i < TRIED; i++) {
        nsk_lowered *lowered = lowered_with_outlier(&n, scales, 0.05F + 0.0005F * (float)i);
        const nsk_lowered_layer *conv = nsk_lowered_layer_at(lowered, 0);
        nsk_requantise_multiplier plain = nsk_weight_multiplier(conv, 0, 8, scales[0], scales[1]);
        nsk_recipe recipe;
        nsk_recipe_init(&recipe);
        nsk_moments *moments = nsk_moments_observe(n.network->graph, lowered, n.images,
                                                   nsk_images_count(n.images), &recipe, &error);
        CU_ASSERT_PTR_NOT_NULL_FATAL(moments);
        nsk_fit_rounding(lowered, scales, moments, recipe.rounding);
        nsk_moments_free(moments);
        double usual = nsk_scale_at(plain, scales[0], scales[1]);
        double fitted = nsk_scale_at(conv->multipliers[0], scales[0], scales[1]);
        bool smaller = fitted < usual * (1.0 - 1e-9);
        CU_ASSERT(fitted <= usual * (1.0 + 1e-9));
        CU_ASSERT(!smaller || conv->levels[0] == 127);
        for (int t = 1; t < conv->taps; t++) { /* one of its two neighbours */
            double apart = fabs(conv->levels[t] * fitted - (double)conv->weights[t]);
            CU_ASSERT(apart <= fitted * (1.0 + 1e-9));
        }
        cuts += smaller;
        nsk_lowered_free(lowered);
    }
    printf("[%d of %d] ", cuts, TRIED);
    CU_ASSERT(cuts >= 1 && cuts < TRIED);
    noisy_free(&n);
}

/* What the runner gives without a model is what the network scores. */
static bool compare_scores(const nsk_runner *r, int image, void *context, nsk_error *error) {
    int *differ = context;
    float own[8];
    (void)image;
    const float *said = nsk_runner_float(r);
    bool good = nsk_network_score(r->network, nsk_images_input(r->images), r->frame, own, error);
    int classes = nsk_network_classes(r->network);
    bool same = good && memcmp(own, said, (size_t)classes * sizeof *own) == 0 &&
                nsk_best_share(own, classes) == nsk_best_share(said, classes);
#pragma omp atomic
    *differ += !same;
    return good;
}

static void runners_need_no_model(void) {
    nsk_error error = {.text = ""};
    noisy n;
    int differ = 0;
    noisy_load(&n,
               "Conv x w_8_3_3_3 b_8 > y; GlobalAveragePool y > g; Flatten g > f; "
               "Gemm f h_5_8 c_5 > z transB=i1",
               5);
    CU_ASSERT(nsk_run_images(n.network, NULL, NULL, n.images, compare_scores, &differ, NULL, NULL,
                             &error));
    CU_ASSERT_EQUAL(differ, 0);
    const float ties[] = {0.1F, 0.4F, 0.4F, 0.1F};
    CU_ASSERT_EQUAL(nsk_best_share(ties, 4), 1);
    noisy_free(&n);
}

CU_TestInfo accuracy_tests[] = {
    {"histograms do not know the order", histograms_do_not_know_the_order},
    {"ranges do what they say", ranges_do_what_they_say},
    {"ranges are of what is read", ranges_are_of_what_is_read},
    {"evening out keeps the function", evening_out_keeps_the_function},
    {"high biases are absorbed", high_biases_are_absorbed},
    {"margins keep biases where they are", margins_keep_biases},
    {"clipped channels keep their size", clipped_channels_keep_their_size},
    {"biases settle on what comes", biases_settle},
    {"enough images are enough", enough_images_are_enough},
    {"large workspaces are few", large_workspaces_are_few},
    {"little is lost", little_is_lost},
    {"networks of today lose little", todays_networks_lose_little},
    {"rescaled channels cost nothing", rescaled_channels_cost_nothing},
    {"eight images suffice", few_images_suffice},
    {"few images are moved", few_images_are_moved},
    {"drift names the guilty layer", drift_names_the_guilty},
    {"multipliers go down", multipliers_go_down},
    {"outliers are cut off", outliers_are_cut_off},
    {"runners need no model", runners_need_no_model},
    {"regaining names the spoilt layer", regaining_names_the_spoilt_layer},
    CU_TEST_INFO_NULL,
};
