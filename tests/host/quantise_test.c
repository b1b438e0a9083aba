/* From float to integer: scales, the proof, whole networks. */
#include <math.h>
#include <omp.h>
#include <stdio.h>
#include <stdlib.h>
#include <string.h>

#include "../network_text.h"
#include "../suites.h"
#include "device/arithmetic.h"
#include "device/format.h"
#include "lowered/integer.h"

static void scales_cover_their_range(void) {
    random_state r = {21};
    for (int i = 0; i < 2000; i++) {
        nsk_range range = {(float)random_between(&r, -9, 1), (float)random_between(&r, -1, 9)};
        nsk_scale s = nsk_scale_of(range);
        double low = fmin((double)range.low, 0.0);
        double high = fmax((double)range.high, 0.0);
        CU_ASSERT(s.zero >= -128 && s.zero <= 127);
        CU_ASSERT(((double)s.scale * (-128 - s.zero)) <= low + 0.501 * (double)s.scale);
        CU_ASSERT(((double)s.scale * (127 - s.zero)) >= high - 0.501 * (double)s.scale);
    }
    nsk_scale nothing = nsk_scale_of((nsk_range){0.0F, 0.0F});
    CU_ASSERT(nothing.scale > 0.0F);
    CU_ASSERT_EQUAL(nsk_scale_of((nsk_range){0.0F, 1.0F}).zero, -128);
}

static void multipliers_are_close(void) {
    random_state r = {22};
    for (int i = 0; i < 20000; i++) {
        double number = exp(random_between(&r, -20.0, 15.0));
        nsk_multiplier m;
        CU_ASSERT(nsk_multiplier_of(number, &m));
        CU_ASSERT(m.multiplier >= 1 << 30);
        CU_ASSERT(fabs(ldexp(m.multiplier, -m.shift) / number - 1.0) <= 0x1p-30);
    }
    nsk_multiplier m;
    CU_ASSERT(nsk_multiplier_of(1.0 - 0x1p-40, &m) && m.multiplier == 1 << 30 && m.shift == 30);
    CU_ASSERT_FALSE(nsk_multiplier_of(0.0, &m));
    CU_ASSERT_FALSE(nsk_multiplier_of(-1.0, &m));
    CU_ASSERT_FALSE(nsk_multiplier_of(1e30, &m));
    CU_ASSERT_FALSE(nsk_multiplier_of(1e-30, &m));
    CU_ASSERT_FALSE(nsk_multiplier_of(NAN, &m));
}

/* A channel's multiplier is the least at which its largest weight fits, and the scale of its
 * weights makes it exact; a number that is one already stays one. */
static void weight_multipliers_are_the_least(void) {
    random_state r = {23};
    float weights[9];
    float bias = 0.0F;
    nsk_lowered_layer l = {.kind = NSK_KIND_DEPTHWISE,
                           .name = "d",
                           .taps = 9,
                           .weights = weights,
                           .bias = &bias,
                           .low = -INFINITY,
                           .high = INFINITY};
    for (int round = 0; round < 5000; round++) {
        const nsk_scale in = {(float)exp(random_between(&r, -6.0, 2.0)),
                              random_below(&r, 256) - 128};
        const nsk_scale out = {(float)exp(random_between(&r, -6.0, 2.0)), 0};
        double size = exp(random_between(&r, -4.0, 1.0));
        double most = 0.0;
        for (int i = 0; i < 9; i++) {
            weights[i] = (float)(size * random_between(&r, -1.0, 1.0));
            most = fmax(most, fabs((double)weights[i]));
        }
        bias = (float)random_between(&r, -1.0, 1.0);
        nsk_requantise_multiplier m = nsk_weight_multiplier(&l, 0, 1, in, out);
        double value = ldexp(m.factor, -m.shift);
        double needed = most / 127.0 * (double)in.scale / (double)out.scale;
        CU_ASSERT(m.factor >= 8 && m.factor <= 15 && m.shift >= 1 && m.shift <= 31);
        CU_ASSERT(value >= needed * (1.0 - 1e-5) || (m.factor == 15 && m.shift == 1));
        CU_ASSERT(value <= needed * 9.0 / 8.0 * (1.0 + 1e-5) || value < 1e-3);
        double scale = nsk_weight_scale(&l, 0, 1, in, out);
        CU_ASSERT_DOUBLE_EQUAL(scale * (double)in.scale / (double)out.scale, value, 1e-12 * value);
        float steps = (float)scale; /* as a file of quantised ONNX carries it */
        l.steps = &steps;
        nsk_requantise_multiplier again = nsk_weight_multiplier(&l, 0, 1, in, out);
        CU_ASSERT(again.factor == m.factor && again.shift == m.shift);
        l.steps = NULL;
    }
}

/* A dense layer whose weights are all as large as they get; proves that its sums stay in reach. */
static bool dense_fits(int taps, nsk_error *error) {
    nsk_lowered_layer l = {
        .kind = NSK_KIND_DENSE, .name = "wide", .taps = taps, .low = -INFINITY, .high = INFINITY};
    nsk_integer_layer r = {.channels = 1};
    const nsk_scale in = {0.01F, -128};
    const nsk_scale out = {1.0F, 0};
    float bias = 0.0F;
    l.weights = g_new(float, taps);
    l.bias = &bias;
    for (int i = 0; i < taps; i++) {
        l.weights[i] = i % 2 == 0 ? 1.0F : -1.0F;
    }
    bool good = nsk_integer_layer_make(&l, in, in, out, &r, error);
    int64_t most = good ? labs(nsk_requantise_bias(r.requantise[0])) : 0;
    for (int i = 0; good && i < taps; i++) {
        CU_ASSERT(r.weights[i] != 0);
        most += 128 * abs(r.weights[i]);
    }
    CU_ASSERT(most <= NSK_SUM_MOST);
    nsk_integer_layer_clear(&r);
    g_free(l.weights);
    return good;
}

/* Wide layers get coarser weights, up to a point. */
static void overflow_is_proven_away(void) {
    nsk_error error = {.text = ""};
    CU_ASSERT(dense_fits(100, &error));
    CU_ASSERT(dense_fits(NSK_SUM_MOST / (127 * 128), &error));
    CU_ASSERT(dense_fits(30000, &error));
    assert_error(&error, "");
    CU_ASSERT_FALSE(dense_fits(60000, &error));
    assert_error(&error, "layer 'wide': output channel 0 could add up to ");
    assert_error(&error, "more than the device's sums hold; give it fewer inputs (it has 60000)");
}

/* What the kiln line's model file has besides weights and biases: three parts in a hundred. */
static void files_are_little_more_than_weights(void) {
    kiln k;
    kiln_load(&k, 6);
    CU_ASSERT(k.file->size > k.file->weight_bytes);
    CU_ASSERT((double)k.file->size <= 1.03 * (double)k.file->weight_bytes);
    kiln_free(&k);
}

/* A bias that dwarfs its weights must neither overflow nor be lost. */
static void large_biases_survive(void) {
    float weight = 1e-9F;
    float bias = 5.0F;
    nsk_lowered_layer l = {.kind = NSK_KIND_DENSE,
                           .name = "b",
                           .taps = 1,
                           .weights = &weight,
                           .bias = &bias,
                           .low = -INFINITY,
                           .high = INFINITY};
    nsk_integer_layer r = {.channels = 1};
    const nsk_scale in = {0.01F, 0};
    const nsk_scale out = {0.1F, 0};
    nsk_error error = {.text = ""};
    CU_ASSERT(nsk_integer_layer_make(&l, in, in, out, &r, &error));
    double level =
        nsk_requantise_bias(r.requantise[0]) *
        ldexp(nsk_requantise_factor(r.requantise[0]), -nsk_requantise_shift(r.requantise[0]));
    CU_ASSERT_DOUBLE_EQUAL(level, 50.0, 0.01);
    nsk_integer_layer_clear(&r);
}

static char *names[] = {(char *)"a", (char *)"b", (char *)"c", (char *)"d", NULL};
static const nsk_labels labels = {.count = 4, .names = names};

/* Quantises the made network on noise and returns the share of images on which the top class is
 * the float's, and the worst difference of a probability. */
static double agreement(onnx_maker *maker, double *worst) {
    char *folder = scratch_new();
    char *path = scratch_path(folder, "m.onnx");
    char *noise = scratch_path(folder, "noise");
    nsk_error error = {.text = ""};
    nsk_input input = {.mean = {0.5, 0.5, 0.5}, .deviation = {0.3, 0.3, 0.3}, .top = 1.0};
    onnx_finish(maker, path);
    nsk_network *network = nsk_network_read(path, &input, NULL, &error);
    nsk_comparison *c = NULL;
    if (network != NULL) {
        noise_set(noise, &labels, 40, input.width, input.height);
        nsk_images *images = nsk_images_open(noise, &labels, &input, 0, false, &error);
        nsk_model_file *file = images != NULL ? nsk_quantise(network, images, NULL, &error) : NULL;
        c = file != NULL ? nsk_compare(network, file, images, NULL, NULL, &error) : NULL;
        nsk_model_file_free(file);
        nsk_images_free(images);
    }
    if (c == NULL) {
        fprintf(stderr, "\n    %s\n", error.text);
    }
    CU_ASSERT_PTR_NOT_NULL_FATAL(c);
    *worst = 0.0;
    for (int i = 0; i < c->images; i++) {
        const nsk_answer *a = &c->answers[i];
        if (a->float_class == a->integer_class) {
            *worst = fmax(*worst, fabs((double)(a->float_probability - a->integer_probability)));
        }
    }
    double share = (double)c->agree / c->images;
    nsk_comparison_free(c);
    nsk_network_free(network);
    g_free(noise);
    g_free(path);
    scratch_remove(folder);
    return share;
}

static void requantise_with_dense(onnx_maker *m, const char *from, int inputs, random_state *r) {
    onnx_floats(m, "last", 2, (int[]){inputs, 4}, r, 1);
    onnx_floats(m, "last_bias", 1, (int[]){4}, r, 1);
    onnx_node(m, "Flatten", from, "flat", "");
    onnx_node(m, "Gemm", "flat last last_bias", "y", "");
}

/* A residual sum, a channel gate (a product with one pixel), every pool, an unfolded clip. */
static onnx_maker *branching(void) {
    random_state r = {31};
    onnx_maker *m = onnx_new(13, 3, 12, 12);
    onnx_floats(m, "w1", 4, (int[]){8, 3, 3, 3}, &r, 1);
    onnx_floats(m, "w2", 4, (int[]){8, 8, 1, 1}, &r, 1);
    onnx_floats(m, "w3", 4, (int[]){8, 4, 3, 3}, &r, 1);
    onnx_floats(m, "w4", 4, (int[]){16, 1, 3, 3}, &r, 1);
    onnx_floats(m, "two", 1, (int[]){1}, NULL, 2);
    onnx_node(m, "Conv", "x w1", "a", "pads=l1,1,1,1");
    onnx_node(m, "Relu", "a", "b", "");
    onnx_node(m, "Conv", "b w2", "c", "");
    onnx_node(m, "Add", "b c", "d", "");
    onnx_node(m, "GlobalAveragePool", "d", "e", "");
    onnx_node(m, "Mul", "e d", "f", "");
    onnx_node(m, "MaxPool", "f", "g", "kernel_shape=l2,2 strides=l2,2");
    onnx_node(m, "Conv", "g w3", "h", "group=i2 pads=l1,1,1,1");
    onnx_node(m, "Add", "g h", "i", "");
    onnx_node(m, "Clip", "h - two", "j", "");
    onnx_node(m, "Add", "i j", "k", "");
    onnx_node(m, "AveragePool", "k", "l", "kernel_shape=l3,3 strides=l2,2 pads=l1,1,1,1");
    onnx_node(m, "Conv", "l w4", "n", "group=i8 pads=l1,1,1,1");
    requantise_with_dense(m, "n", 16 * 9, &r);
    return m;
}

static void branching_networks_agree(void) {
    double worst;
    double share = agreement(branching(), &worst);
    CU_ASSERT(share >= 0.93); /* noise pictures lie close to the borders between classes */
    CU_ASSERT(worst < 0.06);
}

/* A flattened picture: the dense weights must follow from ONNX's order into the device's. */
static void flattening_keeps_the_order(void) {
    random_state r = {32};
    double worst;
    onnx_maker *m = onnx_new(11, 3, 6, 5);
    requantise_with_dense(m, "x", 90, &r);
    CU_ASSERT(agreement(m, &worst) >= 0.95);
    CU_ASSERT(worst < 0.02);
}

/* The smallest network on pictures of the given channels, and its labels' pictures. */
static nsk_model_file *quantise_small(const nsk_input *given, nsk_error *error) {
    random_state r = {34};
    char *folder = scratch_new();
    char *path = scratch_path(folder, "m.onnx");
    char *noise = scratch_path(folder, "noise");
    nsk_input input = *given;
    onnx_maker *m = onnx_new(13, input.colour == NSK_COLOUR_GREY ? 1 : 3, 0, 0);
    onnx_node(m, "GlobalAveragePool", "x", "p", "");
    requantise_with_dense(m, "p", input.colour == NSK_COLOUR_GREY ? 1 : 3, &r);
    onnx_finish(m, path);
    nsk_network *network = nsk_network_read(path, &input, NULL, error);
    CU_ASSERT_PTR_NOT_NULL_FATAL(network);
    noise_set(noise, &labels, 4, 9, 7);
    nsk_images *images = nsk_images_open(noise, &labels, &input, 0, false, error);
    CU_ASSERT_PTR_NOT_NULL_FATAL(images);
    nsk_model_file *file = nsk_quantise(network, images, NULL, error);
    nsk_images_free(images);
    nsk_network_free(network);
    g_free(noise);
    g_free(path);
    scratch_remove(folder);
    return file;
}

/* Every byte of every channel comes out as the formula of docs/arithmetic.md has it. */
static void preparation_is_the_formula(void) {
    static const nsk_input inputs[] = {
        {4,
         64,
         NSK_COLOUR_RGB,
         NSK_FIT_STRETCH,
         NSK_RESAMPLE_AREA,
         {0.5, 0.5, 0.5},
         {0.25, 0.25, 0.25},
         1.0,
         {0},
         0,
         0},
        {4,
         64,
         NSK_COLOUR_BGR,
         NSK_FIT_CROP,
         NSK_RESAMPLE_NEAREST,
         {0.485, 0.456, 0.406},
         {0.229, 0.224, 0.225},
         1.0,
         {0},
         0,
         0},
        {4,
         64,
         NSK_COLOUR_RGB,
         NSK_FIT_PAD,
         NSK_RESAMPLE_BILINEAR,
         {100, 120, 140},
         {50, 60, 1},
         255.0,
         {0},
         0,
         0},
        {4,
         64,
         NSK_COLOUR_GREY,
         NSK_FIT_STRETCH,
         NSK_RESAMPLE_AREA,
         {0, 0, 0},
         {1, 1, 1},
         1.0,
         {0},
         0,
         0},
    };
    for (size_t i = 0; i < G_N_ELEMENTS(inputs); i++) {
        nsk_error error = {.text = ""};
        nsk_model model;
        nsk_model_file *file = quantise_small(&inputs[i], &error);
        CU_ASSERT_PTR_NOT_NULL_FATAL(file);
        CU_ASSERT_EQUAL_FATAL(nsk_open(&model, file->bytes, file->size), NSK_STATUS_OK);
        CU_ASSERT(model.colour == inputs[i].colour && model.fit == inputs[i].fit);
        CU_ASSERT_EQUAL(model.channels, inputs[i].colour == NSK_COLOUR_GREY ? 1 : 3);
        uint8_t frame[256 * 3 + 64 * 5]; /* rows five bytes longer than they need be */
        size_t row = (size_t)4 * model.channels;
        for (size_t b = 0; b < 256; b++) {
            for (size_t c = 0; c < model.channels; c++) {
                frame[b / 4 * (row + 5) + b % 4 * model.channels + c] = (uint8_t)b;
            }
        }
        int8_t *workspace = g_malloc(model.workspace_bytes);
        nsk_prepare(&model, frame, row + 5, workspace);
        nsk_tensor t = nsk_tensor_at(&model, model.input);
        float scale;
        memcpy(&scale, &t.scale_bits, sizeof scale);
        for (int b = 0; b < 256; b++) {
            for (int c = 0; c < model.channels; c++) {
                double value =
                    (b / 255.0 * inputs[i].top - inputs[i].mean[c]) / inputs[i].deviation[c];
                double level = floor(value / (double)scale + 0.5) + t.zero;
                level = fmin(fmax(level, -128.0), 127.0);
                CU_ASSERT_EQUAL(workspace[t.offset + (uint32_t)(b * model.channels + c)], level);
                CU_ASSERT(fabs((double)scale * (level - t.zero) - value) <= 0.51 * (double)scale ||
                          level <= -128.0 || level >= 127.0);
            }
        }
        g_free(workspace);
        nsk_model_file_free(file);
    }
}

static void without_integer_form(void) {
    static const struct {
        const char *op, *inputs, *attributes, *said;
    } cases[] = {
        {"Conv", "x x1", "", "its weights are computed; export them as constants"},
        {"LogSoftmax", "x", "axis=i1", "only the network's last layer may be one"},
        {"Pow", "x row", "", "its exponent is not one constant number"},
        {"ReduceProd", "x", "axes=l1 keepdims=i1", "the device has no such layer"},
    };
    for (size_t i = 0; i < G_N_ELEMENTS(cases); i++) {
        random_state r = {33};
        onnx_maker *m = onnx_new(13, 3, 6, 6);
        onnx_floats(m, "row", 2, (int[]){6, 6}, &r, 1);
        onnx_node(m, "Relu", "x", "x1", "");
        onnx_node(m, cases[i].op, cases[i].inputs, "q", cases[i].attributes);
        onnx_node(m, "GlobalAveragePool", "q", "g", "");
        onnx_node(m, "Concat", "g g", "c", "axis=i1");
        onnx_node(m, "Flatten", "c", "y", "");
        char *folder = scratch_new();
        char *path = scratch_path(folder, "m.onnx");
        char *noise = scratch_path(folder, "noise");
        nsk_error error = {.text = ""};
        nsk_input input = {.deviation = {1, 1, 1}, .top = 1.0};
        onnx_finish(m, path);
        nsk_network *network = nsk_network_read(path, &input, NULL, &error);
        CU_ASSERT_PTR_NOT_NULL_FATAL(network);
        nsk_labels some = {.count = nsk_network_classes(network),
                           .names = (char *[]){(char *)"a", (char *)"b", (char *)"c", (char *)"d",
                                               (char *)"e", (char *)"f", (char *)"g", (char *)"h",
                                               (char *)"i", (char *)"j", (char *)"k", (char *)"l",
                                               NULL}};
        some.names[some.count] = NULL;
        noise_set(noise, &some, 1, 6, 6);
        nsk_images *images = nsk_images_open(noise, &some, &input, 0, false, &error);
        CU_ASSERT_PTR_NOT_NULL_FATAL(images);
        CU_ASSERT_PTR_NULL(nsk_quantise(network, images, NULL, &error));
        assert_error(&error, "has no integer form");
        assert_error(&error, cases[i].said);
        nsk_images_free(images);
        nsk_network_free(network);
        g_free(noise);
        g_free(path);
        scratch_remove(folder);
    }
}

static void the_same_bytes_on_any_threads(void) {
    kiln k;
    nsk_error error;
    int threads = omp_get_max_threads();
    kiln_load(&k, 24);
    for (int n = 1; n <= 3; n++) {
        omp_set_num_threads(n);
        nsk_model_file *again = nsk_quantise(k.network, k.calibration, NULL, &error);
        CU_ASSERT_PTR_NOT_NULL_FATAL(again);
        CU_ASSERT(again->size == k.file->size &&
                  memcmp(again->bytes, k.file->bytes, again->size) == 0);
        nsk_model_file_free(again);
    }
    omp_set_num_threads(threads);
    kiln_free(&k);
}

static void files_go_out_and_come_back(void) {
    kiln k;
    nsk_error error = {.text = ""};
    nsk_model model;
    kiln_load(&k, 6);
    char *folder = scratch_new();
    char *path = scratch_path(folder, "k.nsk");
    CU_ASSERT(nsk_model_file_write(k.file, path, &error));
    nsk_model_file *back = nsk_model_file_read(path, &error);
    CU_ASSERT_PTR_NOT_NULL_FATAL(back);
    CU_ASSERT(back->size == k.file->size && back->weight_bytes == k.file->weight_bytes);
    CU_ASSERT_EQUAL(nsk_open(&model, back->bytes, back->size), NSK_STATUS_OK);
    CU_ASSERT_STRING_EQUAL(nsk_label(&model, 4), "pinhole");
    CU_ASSERT_STRING_EQUAL(nsk_layer_name(&model, 0), "conv1");
    CU_ASSERT_FALSE(nsk_model_file_write(k.file, "/nowhere/k.nsk", &error));
    assert_error(&error, "/nowhere/k.nsk: cannot be written");
    CU_ASSERT_FALSE(nsk_model_file_write_c(k.file, path, "2fast", &error));
    assert_error(&error, "'2fast' cannot be a C name");
    nsk_model_file_free(back);
    g_free(path);
    scratch_remove(folder);
    kiln_free(&k);
}

/* Sigmoids at the end are probabilities by themselves: no softmax is put behind them, and the
 * integer scores are theirs within a few levels. */
static void sigmoids_may_end_it(void) {
    noisy n;
    nsk_model model;
    nsk_error error = {.text = ""};
    noisy_load(&n,
               "Conv x w_8_3_3_3 b_8 > a; Relu a > r; GlobalAveragePool r > g; Flatten g > f; "
               "Gemm f h_5_8 c_5 > z transB=i1; Sigmoid z > y",
               5);
    CU_ASSERT_EQUAL(nsk_open(&model, n.file->bytes, n.file->size), NSK_STATUS_OK);
    CU_ASSERT_EQUAL(nsk_layer_kind(&model, model.layers - 1U), NSK_KIND_SCORES);
    uint8_t *frame = g_malloc(nsk_images_frame_bytes(n.images));
    void *workspace = g_malloc(model.workspace_bytes);
    float wanted[5];
    float given[5];
    for (int i = 0; i < nsk_images_count(n.images); i += 7) {
        CU_ASSERT_FATAL(nsk_images_frame(n.images, i, frame, &error));
        CU_ASSERT_FATAL(
            nsk_network_score(n.network, nsk_images_input(n.images), frame, wanted, &error));
        nsk_prepare(&model, frame, (size_t)model.width * model.channels, workspace);
        nsk_run(&model, workspace, NULL);
        nsk_probabilities(&model, nsk_scores(&model, workspace), given);
        float sum = 0.0F;
        for (int c = 0; c < 5; c++) {
            CU_ASSERT_DOUBLE_EQUAL((double)given[c], (double)wanted[c], 4.0 / 256.0);
            sum += wanted[c];
        }
        CU_ASSERT(sum < 0.98F || sum > 1.02F); /* no softmax's */
    }
    g_free(frame);
    g_free(workspace);
    noisy_free(&n);
}

/* A convolution that ends in one pixel is a dense layer there, whose logits have 16 bits; an
 * average has them, too, and what neither makes has 8. */
static void logits_are_wide(void) {
    static const struct {
        const char *text;
        nsk_kind maker;
        int element;
    } cases[] = {
        {"Conv x w_5_3_3_3 > a; GlobalAveragePool a > g; Flatten g > z", NSK_KIND_AVERAGE_POOL, 2},
        {"GlobalAveragePool x > g; Conv g u_5_3_1_1 c_5 > a; Flatten a > z", NSK_KIND_DENSE, 2},
        {"MaxPool x > p kernel_shape=l3,3 strides=l3,3; Conv p w_5_3_3_3 c_5 > a; Flatten a > z",
         NSK_KIND_DENSE, 2},
        {"GlobalAveragePool x > g; Flatten g > f; Gemm f h_5_3 c_5 > l transB=i1; Relu l > z",
         NSK_KIND_DENSE, 1},
        {"GlobalAveragePool x > g; Flatten g > f; Gemm f h_5_3 c_5 > l transB=i1; Mul l l > z",
         NSK_KIND_LUT, 1},
    };
    for (size_t i = 0; i < G_N_ELEMENTS(cases); i++) {
        noisy n;
        nsk_model model;
        noisy_load(&n, cases[i].text, 5);
        CU_ASSERT_EQUAL_FATAL(nsk_open(&model, n.file->bytes, n.file->size), NSK_STATUS_OK);
        unsigned before = model.layers - 2U;
        nsk_tensor logits = nsk_tensor_at(&model, nsk_layer_output(&model, before));
        if (nsk_layer_kind(&model, before) != cases[i].maker ||
            logits.element != cases[i].element) {
            fprintf(stderr, "\n    %s: kind %d, %d bytes\n", cases[i].text,
                    (int)nsk_layer_kind(&model, before), logits.element);
        }
        CU_ASSERT_EQUAL(nsk_layer_kind(&model, before), cases[i].maker);
        CU_ASSERT_EQUAL(logits.element, cases[i].element);
        noisy_free(&n);
    }
}

/* A sigmoid's and a hyperbolic tangent's ranges are known, however little of them is seen. */
static void known_ranges_are_pinned(void) {
    static const struct {
        const char *function;
        float scale;
        int zero;
    } cases[] = {{"Sigmoid", 1.0F / 256.0F, -128}, {"Tanh", 1.0F / 128.0F, 0}};
    for (size_t i = 0; i < G_N_ELEMENTS(cases); i++) {
        noisy n;
        nsk_model model;
        int found = 0;
        char *text = g_strdup_printf("Conv x w_8_3_3_3 b_8 > a; Mul a k_0.01 > m; %s m > y; "
                                     "GlobalAveragePool y > g; Flatten g > f; "
                                     "Gemm f h_5_8 c_5 > z transB=i1",
                                     cases[i].function);
        noisy_load(&n, text, 5);
        CU_ASSERT_EQUAL(nsk_open(&model, n.file->bytes, n.file->size), NSK_STATUS_OK);
        for (unsigned k = 0; k < model.layers; k++) {
            nsk_tensor t = nsk_tensor_at(&model, nsk_layer_output(&model, k));
            uint32_t bits;
            memcpy(&bits, &cases[i].scale, sizeof bits);
            found += nsk_layer_kind(&model, k) == NSK_KIND_LUT && t.scale_bits == bits &&
                     t.zero == cases[i].zero;
        }
        CU_ASSERT_EQUAL(found, 1);
        g_free(text);
        noisy_free(&n);
    }
}

CU_TestInfo quantise_tests[] = {
    {"scales cover their range", scales_cover_their_range},
    {"known ranges are pinned", known_ranges_are_pinned},
    {"sigmoids may end it", sigmoids_may_end_it},
    {"logits are wide", logits_are_wide},
    {"multipliers are close", multipliers_are_close},
    {"multipliers of weights are the least", weight_multipliers_are_the_least},
    {"overflow is proven away", overflow_is_proven_away},
    {"files are little more than weights", files_are_little_more_than_weights},
    {"large biases survive", large_biases_survive},
    {"branching networks agree with float", branching_networks_agree},
    {"flattening keeps the order", flattening_keeps_the_order},
    {"preparation is the formula", preparation_is_the_formula},
    {"what has no integer form is said", without_integer_form},
    {"the same bytes on any number of threads", the_same_bytes_on_any_threads},
    {"model files go out and come back", files_go_out_and_come_back},
    CU_TEST_INFO_NULL,
};
