/* The float pass against plain loops, and folded against unfolded networks. */
#include <math.h>
#include <stdio.h>
#include <string.h>

#include "../suites.h"
#include "../support.h"
#include "float/forward.h"
#include "graph/graph.h"
#include "onnx/read.h"
#include "rewrite/rewrite.h"

static nsk_graph *read_graph(onnx_maker *maker, bool fold) {
    size_t size;
    nsk_error error = {.text = ""};
    const nsk_onnx_options options = {0};
    uint8_t *bytes = onnx_bytes(maker, &size);
    nsk_graph *graph = nsk_onnx_read(bytes, size, &options, &error);
    bool good = graph != NULL && nsk_graph_infer(graph, nsk_evaluate, &error) &&
                (!fold || nsk_graph_fold(graph, &error));
    if (!good) {
        fprintf(stderr, "\n    %s\n", error.text);
    }
    CU_ASSERT_FATAL(good);
    g_free(bytes);
    return graph;
}

static nsk_pass *run_noise(const nsk_graph *graph, uint64_t seed) {
    nsk_error error;
    random_state r = {seed};
    nsk_pass *pass = nsk_pass_new(graph, &error);
    CU_ASSERT_PTR_NOT_NULL_FATAL(pass);
    size_t count = nsk_value_count(nsk_graph_value(graph, graph->input));
    size_t plane = count / (size_t)nsk_graph_value(graph, graph->input)->dims[1];
    for (size_t i = 0; i < count; i++) { /* what the graph's own preparation makes of noise */
        nsk_pass_input(pass)[i] = (float)(random_normal(&r) * graph->input_gain[i / plane % 3] +
                                          graph->input_offset[i / plane % 3]);
    }
    nsk_pass_run(pass);
    return pass;
}

/* The definition of ONNX's Conv, as loops. */
static double conv_at(const nsk_value *in, const float *x, const nsk_value *weight,
                      const nsk_window_attributes *w, int64_t o, int64_t oy, int64_t ox) {
    int64_t inputs = weight->dims[1];
    int64_t group = o / (weight->dims[0] / w->groups);
    double sum = 0.0;
    for (int64_t i = 0; i < inputs; i++) {
        for (int64_t ky = 0; ky < weight->dims[2]; ky++) {
            for (int64_t kx = 0; kx < weight->dims[3]; kx++) {
                int64_t y = oy * w->stride[0] - w->pad_before[0] + ky * w->dilation[0];
                int64_t xx = ox * w->stride[1] - w->pad_before[1] + kx * w->dilation[1];
                if (y >= 0 && y < in->dims[2] && xx >= 0 && xx < in->dims[3]) {
                    int64_t c = group * inputs + i;
                    sum += (double)x[(c * in->dims[2] + y) * in->dims[3] + xx] *
                           (double)weight
                               ->data[((o * inputs + i) * weight->dims[2] + ky) * weight->dims[3] +
                                      kx];
                }
            }
        }
    }
    return sum;
}

static void convolutions(void) {
    static const struct {
        int in, out, groups, kernel_h, kernel_w, height, width;
        const char *attributes;
    } cases[] = {
        {6, 12, 1, 3, 3, 10, 14, "strides=l1,1 dilations=l1,1 group=i1 pads=l1,1,1,1"},
        {6, 12, 1, 3, 3, 5, 7, "strides=l2,2 dilations=l1,1 group=i1 auto_pad=sSAME_UPPER"},
        {6, 12, 1, 2, 4, 5, 7, "strides=l2,2 dilations=l1,1 group=i1 auto_pad=sSAME_LOWER"},
        {6, 12, 2, 3, 1, 8, 6, "strides=l2,1 dilations=l1,1 group=i2 pads=l0,0,1,1"},
        {6, 6, 6, 3, 3, 4, 4, "strides=l1,1 dilations=l2,1 group=i6 pads=l2,1,1,0"},
        {6, 12, 6, 1, 1, 10, 14, "strides=l1,1 dilations=l1,1 group=i6"},
        {6, 12, 1, 1, 1, 10, 14, "auto_pad=sVALID"},
        {6, 12, 3, 3, 3, 3, 5, "strides=l3,3 dilations=l1,2 group=i3 auto_pad=sVALID"},
    };
    for (size_t i = 0; i < G_N_ELEMENTS(cases); i++) {
        random_state r = {7};
        int width = cases[i].width;
        int height = cases[i].height;
        onnx_maker *m = onnx_new(13, cases[i].in, height, width);
        onnx_floats(m, "w", 4,
                    (int[]){cases[i].out, cases[i].in / cases[i].groups, cases[i].kernel_h,
                            cases[i].kernel_w},
                    &r, 0);
        onnx_node(m, "Conv", "x w", "y", cases[i].attributes);
        nsk_graph *g = read_graph(m, false);
        nsk_pass *pass = run_noise(g, i);
        const nsk_node *node = nsk_graph_node(g, 0);
        const nsk_value *out = nsk_graph_value(g, g->output);
        double worst = 0.0;
        for (int64_t k = 0; k < (int64_t)nsk_value_count(out); k++) {
            int64_t plane = out->dims[2] * out->dims[3];
            double expected = conv_at(nsk_node_input(g, node, 0), nsk_pass_input(pass),
                                      nsk_node_input(g, node, 1), &node->attributes.window,
                                      k / plane, k % plane / out->dims[3], k % out->dims[3]);
            worst = fmax(worst, fabs(expected - (double)nsk_pass_value(pass, g->output)[k]));
        }
        CU_ASSERT(worst < 1e-5);
        nsk_pass_free(pass);
        nsk_graph_free(g);
    }
}

/* Small cases worked by hand on the input 0, 1, ... 8 as a 3 x 3 picture. */
static void worked_by_hand(void) {
    static const struct {
        const char *op, *inputs, *attributes;
        int count;
        double expected[9];
    } cases[] = {
        {"MaxPool", "x", "kernel_shape=l2,2", 4, {4, 5, 7, 8}},
        {"MaxPool", "x", "kernel_shape=l2,2 strides=l2,2 ceil_mode=i1", 4, {4, 5, 7, 8}},
        {"MaxPool", "x", "kernel_shape=l2,2 strides=l2,2", 1, {4}},
        {"MaxPool", "x", "kernel_shape=l2,2 dilations=l2,2", 1, {8}},
        {"AveragePool", "x", "kernel_shape=l2,2", 4, {2, 3, 5, 6}},
        {"AveragePool", "x", "kernel_shape=l2,2 strides=l2,2 pads=l1,1,0,0", 4, {0, 1.5, 4.5, 6}},
        {"AveragePool",
         "x",
         "kernel_shape=l2,2 strides=l2,2 pads=l1,1,0,0 count_include_pad=i1",
         4,
         {0, 0.75, 2.25, 6}},
        {"AveragePool", "x", "kernel_shape=l2,2 strides=l2,2 ceil_mode=i1", 4, {2, 3.5, 6.5, 8}},
        {"GlobalAveragePool", "x", "", 1, {4}},
        {"GlobalMaxPool", "x", "", 1, {8}},
        {"Add", "x two", "", 9, {2, 3, 4, 5, 6, 7, 8, 9, 10}},
        {"Mul", "two x", "", 9, {0, 2, 4, 6, 8, 10, 12, 14, 16}},
        {"Add", "x row", "", 9, {1, 2, 3, 4, 5, 6, 7, 8, 9}},
        {"Clip", "x two six", "", 9, {2, 2, 2, 3, 4, 5, 6, 6, 6}},
        {"Clip", "x - six", "", 9, {0, 1, 2, 3, 4, 5, 6, 6, 6}},
        {"Flatten", "x", "", 9, {0, 1, 2, 3, 4, 5, 6, 7, 8}},
        {"Softmax", "x", "axis=i1", 9, {1, 1, 1, 1, 1, 1, 1, 1, 1}},
        {"Reshape", "x nine", "", 9, {0, 1, 2, 3, 4, 5, 6, 7, 8}},
        {"BatchNormalization",
         "x one one two six",
         "epsilon=f3",
         9,
         {1 - 2 / 3.0, 1 - 1 / 3.0, 1, 1 + 1 / 3.0, 1 + 2 / 3.0, 2, 1 + 4 / 3.0, 1 + 5 / 3.0, 3}},
    };
    for (size_t i = 0; i < G_N_ELEMENTS(cases); i++) {
        onnx_maker *m = onnx_new(13, 1, 3, 3);
        onnx_floats(m, "one", 1, (int[]){1}, NULL, 1);
        onnx_floats(m, "two", 1, (int[]){1}, NULL, 2);
        onnx_floats(m, "six", 1, (int[]){1}, NULL, 6);
        onnx_floats(m, "row", 2, (int[]){1, 3}, NULL, 1);
        onnx_integers(m, "nine", 2, (int64_t[]){0, -1});
        onnx_node(m, cases[i].op, cases[i].inputs, "y", cases[i].attributes);
        nsk_graph *g = read_graph(m, false);
        nsk_error error;
        nsk_pass *pass = nsk_pass_new(g, &error);
        for (int k = 0; k < 9; k++) {
            nsk_pass_input(pass)[k] = (float)k;
        }
        nsk_pass_run(pass);
        CU_ASSERT_EQUAL((int)nsk_value_count(nsk_graph_value(g, g->output)), cases[i].count);
        for (int k = 0; k < cases[i].count; k++) {
            double got = (double)nsk_pass_value(pass, g->output)[k];
            if (fabs(got - cases[i].expected[k]) > 1e-6) {
                fprintf(stderr, "\n    %s %s: %g is not %g\n", cases[i].op, cases[i].attributes,
                        got, cases[i].expected[k]);
                CU_FAIL("not as worked by hand");
            }
        }
        nsk_pass_free(pass);
        nsk_graph_free(g);
    }
}

/* Products with every transposition, alpha and beta, against loops. */
static void products(void) {
    for (int i = 0; i < 8; i++) {
        random_state r = {8};
        bool transposed = i % 2 == 1;
        onnx_maker *m = onnx_new(13, 3, 2, 2);
        char *attributes = g_strdup_printf("transB=i%d alpha=f0.5 beta=f%d", transposed, i / 4 + 1);
        onnx_floats(m, "b", 2, transposed ? (int[]){5, 12} : (int[]){12, 5}, &r, 1);
        onnx_floats(m, "c", 1, (int[]){5}, &r, 1);
        onnx_node(m, "Flatten", "x", "a", "");
        onnx_node(m, "Gemm", "a b c", "y", attributes);
        nsk_graph *g = read_graph(m, i / 2 % 2 == 1); /* folded or not */
        nsk_pass *pass = run_noise(g, 2);
        const float *b = nsk_graph_value(g, nsk_graph_find_value(g, "b"))->data;
        const float *c = nsk_graph_value(g, nsk_graph_find_value(g, "c"))->data;
        for (int o = 0; o < 5; o++) {
            double sum = 0.0;
            for (int k = 0; k < 12; k++) {
                sum += (double)nsk_pass_input(pass)[k] *
                       (double)b[transposed ? o * 12 + k : k * 5 + o];
            }
            double expected = 0.5 * sum + (i / 4 + 1) * (double)c[o];
            CU_ASSERT_DOUBLE_EQUAL((double)nsk_pass_value(pass, g->output)[o], expected, 1e-5);
        }
        nsk_pass_free(pass);
        nsk_graph_free(g);
        g_free(attributes);
    }
}

/* A network with everything that folds, twice: as read, and folded. */
static onnx_maker *foldable(void) {
    random_state r = {9};
    onnx_maker *m = onnx_new(13, 3, 9, 9);
    onnx_floats(m, "w", 4, (int[]){6, 3, 3, 3}, &r, 1);
    onnx_floats(m, "v", 1, (int[]){6}, NULL, 0.6F);
    onnx_floats(m, "gain", 1, (int[]){6}, &r, 1);
    onnx_floats(m, "p", 3, (int[]){6, 1, 1}, &r, 1);
    onnx_floats(m, "half", 1, (int[]){1}, NULL, 0.5F);
    onnx_floats(m, "t", 2, (int[]){6, 4}, &r, 1);
    onnx_floats(m, "u", 1, (int[]){4}, &r, 1);
    onnx_integers(m, "s", 8, (int64_t[]){0, 0, 1, 0, 0, 0, 2, 1});
    onnx_node(m, "BatchNormalization", "x three three three three", "n", "");
    onnx_floats(m, "three", 1, (int[]){3}, NULL, 0.9F);
    onnx_node(m, "Pad", "n s", "q", "");
    onnx_node(m, "Conv", "q w", "a", "");
    onnx_node(m, "BatchNormalization", "a gain v v v", "b", "");
    onnx_node(m, "Relu", "b", "c", "");
    onnx_node(m, "Mul", "p c", "d", "");
    onnx_node(m, "Add", "d c", "e", "");
    onnx_node(m, "Clip", "e - half", "f", "");
    onnx_node(m, "GlobalAveragePool", "f", "h", "");
    onnx_node(m, "Flatten", "h", "i", "");
    onnx_node(m, "MatMul", "i t", "j", "");
    onnx_node(m, "Add", "j u", "y", "");
    return m;
}

static void folding_changes_nothing(void) {
    nsk_graph *folded = read_graph(foldable(), true);
    nsk_pass *short_pass = run_noise(folded, 5);
    nsk_graph *plain = read_graph(foldable(), false);
    nsk_pass *long_pass = run_noise(plain, 5);
    for (int c = 0; c < 4; c++) {
        CU_ASSERT_DOUBLE_EQUAL((double)nsk_pass_value(short_pass, folded->output)[c],
                               (double)nsk_pass_value(long_pass, plain->output)[c], 1e-5);
    }
    nsk_pass_free(short_pass);
    nsk_pass_free(long_pass);
    nsk_graph_free(folded);
    nsk_graph_free(plain);
}

/* What would not fit into memory is said, not tried. */
static void absurd_sizes_are_refused(void) {
    nsk_error error = {.text = ""};
    onnx_maker *m = onnx_new(13, 1, 4096, 4096);
    onnx_floats(m, "w", 4, (int[]){1, 1, 9, 9}, NULL, 1);
    onnx_node(m, "Conv", "x w", "y", "pads=l4,4,4,4");
    nsk_graph *g = read_graph(m, true);
    CU_ASSERT_PTR_NULL(nsk_pass_new(g, &error));
    assert_error(&error, "node 'Conv_of_y' (Conv): one picture would need more than 2 GiB");
    nsk_graph_free(g);
}

static void preparation_is_trainings(void) {
    const nsk_input input = {.width = 2,
                             .height = 1,
                             .mean = {0.5, 0.4, 0.3},
                             .deviation = {0.25, 0.5, 1.0},
                             .top = 1.0};
    const uint8_t frame[6] = {0, 102, 255, 255, 51, 0};
    float planes[6];
    const double expected[6] = {-2, 2, 0, -0.4, 0.7, -0.3};
    nsk_graph *graph = nsk_graph_new();
    nsk_float_prepare(graph, &input, frame, planes);
    nsk_graph_free(graph);
    for (int i = 0; i < 6; i++) {
        CU_ASSERT_DOUBLE_EQUAL((double)planes[i], expected[i], 1e-6);
    }
}

CU_TestInfo float_tests[] = {
    {"convolutions against loops", convolutions},
    {"operators worked by hand", worked_by_hand},
    {"products against loops", products},
    {"folding changes nothing", folding_changes_nothing},
    {"absurd sizes are refused", absurd_sizes_are_refused},
    {"preparation is training's", preparation_is_trainings},
    CU_TEST_INFO_NULL,
};
