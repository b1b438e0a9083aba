/* Reading ONNX: what is refused, and how it is said; what is inferred and folded. */
#include <stdio.h>
#include <string.h>

#include "../suites.h"
#include "../support.h"
#include "float/forward.h"
#include "graph/graph.h"
#include "onnx.pb-c.h"
#include "onnx/read.h"
#include "onnx/tensor.h"

/* The smallest classifier: x -> Conv -> GlobalAveragePool -> Flatten -> Gemm. */
static onnx_maker *small(int opset) {
    random_state r = {3};
    onnx_maker *m = onnx_new(opset, 3, 8, 8);
    onnx_floats(m, "w", 4, (int[]){4, 3, 3, 3}, &r, 1);
    onnx_node(m, "Conv", "x w", "a", "");
    onnx_node(m, "GlobalAveragePool", "a", "b", "");
    onnx_node(m, "Flatten", "b", "c", "");
    onnx_floats(m, "g", 2, (int[]){2, 4}, &r, 1);
    onnx_node(m, "Gemm", "c g", "y", "transB=i1");
    return m;
}

static nsk_network *read_made(onnx_maker *maker, nsk_input *input, nsk_error *error) {
    char *folder = scratch_new();
    char *path = scratch_path(folder, "m.onnx");
    onnx_finish(maker, path);
    nsk_network *network = nsk_network_read(path, input, NULL, error);
    g_free(path);
    scratch_remove(folder);
    return network;
}

static void expect_refusal(onnx_maker *maker, const char *said) {
    nsk_error error = {.text = ""};
    nsk_network *network = read_made(maker, NULL, &error);
    CU_ASSERT_PTR_NULL(network);
    assert_error(&error, "m.onnx: ");
    assert_error(&error, said);
    nsk_network_free(network);
}

static void opsets(void) {
    nsk_error error = {.text = ""};
    for (int opset = 6; opset <= 40; opset++) {
        nsk_network *network = read_made(small(opset), NULL, &error);
        CU_ASSERT_PTR_NOT_NULL_FATAL(network);
        CU_ASSERT_EQUAL(nsk_network_notes(network), opset > 25);
        CU_ASSERT(opset <= 25 || strstr(nsk_network_note(network, 0), "newer than any") != NULL);
        nsk_network_free(network);
    }
    expect_refusal(small(5), "ONNX operator set 5; 6 and newer ones are read");
}

static void files_that_are_no_models(void) {
    size_t size;
    uint8_t *bytes = onnx_bytes(small(13), &size);
    nsk_error error = {.text = ""};
    const nsk_onnx_options options = {0};
    int accepted = 0;
    for (size_t cut = 0; cut < size; cut++) {
        uint8_t *part = g_memdup2(bytes, cut + 1);
        nsk_graph *graph = nsk_onnx_read(part, cut, &options, &error);
        accepted += graph != NULL;
        nsk_graph_free(graph);
        g_free(part);
    }
    CU_ASSERT(accepted <= 2); /* a cut behind the graph leaves a whole model without its opset */
    CU_ASSERT_PTR_NULL(nsk_network_read("/nowhere/m.onnx", NULL, NULL, &error));
    assert_error(&error, "/nowhere/m.onnx: No such file");
    g_free(bytes);
}

static void unknown_operators(void) {
    onnx_maker *m = small(13);
    onnx_node(m, "Bends", "y", "z", "");
    expect_refusal(m, "node 'Bends_of_z': operator 'Bends' is not known; write it in those that "
                      "docs/onnx-support.md lists");
    m = small(13);
    onnx_node(m, "LSTM", "y", "z", "");
    expect_refusal(m, "node 'LSTM_of_z' (LSTM): remembers what came before");
    static const char *const above[][2] = {
        {"Relu", ""}, {"HardSigmoid", ""}, {"Softmax", "axis=i1"}};
    for (int i = 0; i < 3; i++) {
        m = small(13);
        onnx_node(m, "ReduceMax", "y", "one", "axes=l1 keepdims=i1");
        onnx_node(m, above[i][0], "one", "z", above[i][1]);
        expect_refusal(m, "its one output comes out of '");
    }
    m = small(13);
    onnx_node(m, "ArgMax", "y", "best", "axis=i1");
    onnx_node(m, "Sqrt", "best", "z", "");
    expect_refusal(m,
                   "node 'Sqrt_of_z' (Sqrt): reads 'best', numbers of classes and not scores; name "
                   "the scores as [model] output");
}

static void graphs_that_do_not_hold_together(void) {
    onnx_maker *m = small(13);
    onnx_node(m, "Relu", "nothing", "z", "");
    expect_refusal(m, "node 'Relu_of_z' (Relu): input 'nothing' comes from nowhere before it");
    m = small(13);
    onnx_node(m, "Relu", "y", "a", "");
    expect_refusal(m, "'a' is defined twice");
    m = small(13);
    onnx_node(m, "Relu", "y y y", "z", "");
    expect_refusal(m, "node 'Relu_of_z' (Relu): 3 inputs; it takes 1 to 1");
    m = onnx_new(13, 3, 0, 0);
    onnx_node(m, "Relu", "x", "z", "");
    expect_refusal(m, "the input leaves its height open; give 'size'");
    m = onnx_new(13, 3, 9999, 9);
    onnx_node(m, "Relu", "x", "z", "");
    expect_refusal(m, "the input's height is 9999; at most 4096");
    m = onnx_new(13, 3, 8, 8);
    onnx_node(m, "Relu", "x", "z", "");
    expect_refusal(m, "output 'z' is 1 x 3 x 8 x 8; a classifier gives one number a "
                      "class");
}

static void shapes_that_cannot_be(void) {
    static const struct {
        const char *op, *inputs, *attributes, *said;
    } cases[] = {
        {"Conv", "x w5", "", "input 1 is 1 x 3 x 8 x 8; its weights expect 5 channels"},
        {"Conv", "x w", "kernel_shape=l5,5", "input 2 is 4 x 3 x 3 x 3; this contradicts kernel"},
        {"Conv", "x w", "strides=l0,1", "a kernel, stride, dilation or pad is negative, zero"},
        {"Conv", "x w", "pads=l-1,0,0,0", "a kernel, stride, dilation or pad is negative"},
        {"Conv", "x w", "dilations=l9,9", "input 1 is 1 x 3 x 8 x 8; smaller than the kernel"},
        {"Conv", "x w", "pads=l1,1", "its window has another number of axes"},
        {"Conv", "x w", "strides=l1,1,1", "only windows along a line, or over rows and columns"},
        {"Conv", "x w", "strides=l1,1 pads=l1,1", "only windows along a line, or over rows"},
        {"Conv", "x w", "pads=l1,1,1", "its pads are not two for each axis of its window"},
        {"Conv", "x w", "strides=l1", "its window has another number of axes"},
        {"Conv", "x w", "auto_pad=sHALF",
         "its auto_pad is 'HALF'; what is read: NOTSET, SAME_UPPER"},
        {"Conv", "x w", "group=i2", "its weights expect 6 channels in 2 groups"},
        {"Conv", "x w", "group=i4611686018427387904", "as many groups as channels are the most"},
        {"Conv", "x w", "group=i-4611686018427387904", "as many groups as channels are the most"},
        {"Conv", "x w v", "", "one bias an output channel is needed"},
        {"MaxPool", "x", "", "a kernel, stride, dilation or pad is negative, zero"},
        {"Gemm", "x g", "", "input 1 is 1 x 3 x 8 x 8; two axes are needed; add a Flatten"},
        {"Add", "x w", "", "input 1 is 1 x 3 x 8 x 8; it cannot meet the other input's 4 x 3"},
        {"Flatten", "x", "axis=i9", "its axis attribute lies outside"},
        {"Softmax", "x", "axis=i4", "its axis attribute lies outside"},
        {"Reshape", "x s", "", "its elements do not fill the shape asked for"},
        {"Reshape", "x g", "", "its shape must be a constant list"},
        {"BatchNormalization", "x v v v v", "", "another number of channels"},
        {"BatchNormalization", "x v v v v", "training_mode=i1", "export the network for inference"},
        {"Clip", "x g", "", "a bound must be one constant number"},
        {"Pad", "x s", "", "its pads must be constant, two for each axis"},
        {"Pad", "x s", "mode=sround",
         "its mode is 'round'; what is read: constant, reflect, edge, wrap"},
        {"MatMul", "x g", "", "its weights expect 2 inputs"},
        {"Add", "x s", "", "one input is of integers, the other is not"},
        {"Concat", "x w", "axis=i1", "input 2 is 4 x 3 x 3 x 3; it cannot be joined"},
        {"Slice", "x s s", "axes=l1", "differ in length"},
        {"Transpose", "x", "perm=l0,1,1,2", "its order does not name each axis once"},
        {"Pad", "x wide", "mode=swrap", "it reflects or wraps further than its input is wide"},
        {"Resize", "x - - -", "", "a constant scale or size"},
        {"Resize", "x - two -", "", "a constant scale or size is needed for each axis"},
        {"Resize", "x - two -", "axes=l9", "an axis in its axes attribute lies outside of that"},
        {"Resize", "x - minus -", "axes=l2", "an axis can be resized to 1 to 65535"},
        {"Resize", "x - nought -", "axes=l2 antialias=i1", "an axis can be resized to 1 to 65535"},
        {"Resize", "x - two -", "axes=l2 mode=sround",
         "its mode is 'round'; what is read: nearest, linear, cubic"},
        {"Resize", "x - - long", "axes=l2 keep_aspect_ratio_policy=sround",
         "its keep_aspect_ratio_policy is 'round'; what is read: stretch, not_larger"},
        {"Attention", "x x x - x", "", "with keys of earlier calls, a network remembers"},
        {"DepthToSpace", "x", "blocksize=i2", "its block does not divide that evenly"},
        {"Conv", "x w", "strides=stwo", "its strides is not a list of whole numbers"},
        {"Conv", "x w", "group=l1,1", "its group is not a whole number"},
        {"Flatten", "x", "axis=f1", "its axis is not a whole number"},
        {"Conv", "x w", "kernel_shape=l0,3", "its kernel_shape is zero or negative"},
        {"Conv", "x w", "kernel_shape=l3,-3", "its kernel_shape is zero or negative"},
        {"Clip", "x two minus", "", "its lower bound is above its upper one"},
        {"QuantizeLinear", "x minus level", "", "a scale is zero, negative or not finite"},
        {"QuantizeLinear", "x nought level", "", "a scale is zero, negative or not finite"},
        {"QuantizeLinear", "x two long", "", "levels and zero point must be of 8 bits"},
        {"QuantizeLinear", "x two two", "", "levels and zero point must be of 8 bits"},
        {"DequantizeLinear", "long two", "", "levels and zero point must be of 8 bits"},
        {"Split", "x", "axis=i2", "cannot be split into so many equal parts"},
    };
    random_state r = {4};
    for (size_t i = 0; i < G_N_ELEMENTS(cases); i++) {
        onnx_maker *m = onnx_new(13, 3, 8, 8);
        onnx_floats(m, "w", 4, (int[]){4, 3, 3, 3}, &r, 1);
        onnx_floats(m, "w5", 4, (int[]){4, 5, 3, 3}, &r, 1);
        onnx_floats(m, "g", 2, (int[]){2, 7}, &r, 1);
        onnx_floats(m, "v", 1, (int[]){5}, &r, 1);
        onnx_integers(m, "s", 2, (int64_t[]){1, 100});
        onnx_floats(m, "two", 1, (int[]){1}, NULL, 2);
        onnx_floats(m, "minus", 1, (int[]){1}, NULL, -1);
        onnx_floats(m, "nought", 1, (int[]){1}, NULL, 0);
        onnx_bytes_constant(m, "level", true, 1, (int8_t[]){3});
        onnx_integers(m, "long", 1, (int64_t[]){3});
        onnx_integers(m, "wide", 8, (int64_t[]){0, 0, 9, 0, 0, 0, 0, 0});
        bool split = strcmp(cases[i].op, "Split") == 0; /* 8 rows in three */
        onnx_node(m, cases[i].op, cases[i].inputs, split ? "y p q" : "y", cases[i].attributes);
        expect_refusal(m, cases[i].said);
    }
}

/* From 4096 rows to 4097: no table would hold that; neighbours need none. */
static void resizes_that_are_too_large(void) {
    const char *const ways[] = {"mode=slinear antialias=i1", "mode=scubic", "mode=slinear"};
    for (size_t i = 0; i < G_N_ELEMENTS(ways); i++) {
        onnx_maker *m = onnx_new(19, 1, 4096, 2);
        onnx_integers(m, "sizes", 4, (int64_t[]){1, 1, 4097, 2});
        onnx_node(m, "Resize", "x - - sizes", "y", ways[i]);
        expect_refusal(m, i < 2 ? "it is resized between sizes that are too large; resize in two"
                                : "a classifier gives one number a class");
    }
}

static void constants_that_cannot_be(void) {
    onnx_maker *m = small(13);
    onnx_floats(m, "bad", 1, (int[]){3}, NULL, 1.0F / 0.0F);
    expect_refusal(m, "constant 'bad' holds a number that is not finite");
    m = small(13);
    onnx_floats(m, "w", 1, (int[]){3}, NULL, 1.0F);
    expect_refusal(m, "'w' is defined twice");
}

static void sizes_and_the_brief(void) {
    nsk_error error = {.text = ""};
    nsk_input input = {.width = 8, .height = 9, .deviation = {1, 1, 1}, .top = 1};
    CU_ASSERT_PTR_NULL(read_made(small(13), &input, &error));
    assert_error(&error, "the input's height is 8 in the file and 9 in the brief");
    input.height = 0;
    nsk_network *network = read_made(small(13), &input, &error);
    CU_ASSERT_PTR_NOT_NULL(network);
    CU_ASSERT_EQUAL(input.height, 8);
    nsk_network_free(network);
    input.colour = NSK_COLOUR_GREY;
    CU_ASSERT_PTR_NULL(read_made(small(13), &input, &error));
    assert_error(&error, "the input's count of channels is 3 in the file and 1 in the brief");
}

static void folding_leaves_one_layer(void) {
    random_state r = {6};
    nsk_error error = {.text = ""};
    onnx_maker *m = onnx_new(13, 3, 8, 8);
    onnx_floats(m, "w", 4, (int[]){4, 3, 3, 3}, &r, 1);
    onnx_floats(m, "v", 1, (int[]){4}, NULL, 0.7F);
    onnx_floats(m, "p", 3, (int[]){4, 1, 1}, &r, 1);
    onnx_integers(m, "s", 8, (int64_t[]){0, 0, 1, 1, 0, 0, 1, 1});
    onnx_node(m, "Identity", "x", "i", "");
    onnx_node(m, "Pad", "i s", "q", "");
    onnx_node(m, "Conv", "q w", "a", "");
    onnx_node(m, "BatchNormalization", "a v v v v", "b", "");
    onnx_node(m, "Mul", "b p", "c", "");
    onnx_node(m, "Add", "p c", "d", "");
    onnx_node(m, "Dropout", "d", "e", "");
    onnx_node(m, "Relu", "e", "f", "");
    onnx_node(m, "GlobalAveragePool", "f", "h", "");
    onnx_node(m, "Flatten", "h", "y", "");
    nsk_network *network = read_made(m, NULL, &error);
    CU_ASSERT_PTR_NOT_NULL_FATAL(network);
    nsk_outline *o = nsk_network_outline(network);
    CU_ASSERT_EQUAL(o->count, 4); /* Conv, GlobalAveragePool, Flatten, the softmax added */
    CU_ASSERT_STRING_EQUAL(o->layers[0].kind, "Conv");
    CU_ASSERT_EQUAL(o->layers[0].height, 8);
    CU_ASSERT_EQUAL(o->layers[0].parameters, 4 * 27 + 4);
    /* 3x3 on 8x8 with a rim of padding: 22 of 24 taps along each axis meet the picture */
    CU_ASSERT_EQUAL(o->layers[0].macs, 22 * 22 * 3 * 4);
    CU_ASSERT_STRING_EQUAL(o->layers[0].folded,
                           "Pad_of_q, BatchNormalization_of_b, Mul_of_c, Add_of_d, Relu_of_f");
    CU_ASSERT_STRING_EQUAL(o->layers[3].name, "softmax (added)");
    nsk_outline_free(o);
    nsk_network_free(network);
}

/* Metadata travels into the model file; what a brief says overrides it. */
static void facts_travel(void) {
    kiln k;
    nsk_error error = {.text = ""};
    gsize size;
    char *bytes;
    kiln_load(&k, 6);
    CU_ASSERT_FATAL(g_file_get_contents(k.brief->model, &bytes, &size, NULL));
    Onnx__ModelProto *model = onnx__model_proto__unpack(NULL, size, (const uint8_t *)bytes);
    Onnx__StringStringEntryProto entries[2] = {ONNX__STRING_STRING_ENTRY_PROTO__INIT,
                                               ONNX__STRING_STRING_ENTRY_PROTO__INIT};
    Onnx__StringStringEntryProto *list[2] = {&entries[0], &entries[1]};
    entries[0].key = (char *)"Author";
    entries[0].value = (char *)"the tile works\n";
    entries[1].key = (char *)"model_license";
    entries[1].value = (char *)"MIT";
    model->n_metadata_props = 2;
    model->metadata_props = list;
    model->has_model_version = 1;
    model->model_version = 7;
    char *folder = scratch_new();
    char *path = scratch_path(folder, "watch.onnx");
    size_t packed = onnx__model_proto__get_packed_size(model);
    uint8_t *file = g_malloc(packed);
    onnx__model_proto__pack(model, file);
    scratch_write(path, file, packed);
    nsk_network *n = nsk_network_read(path, &k.brief->input, NULL, &error);
    CU_ASSERT_PTR_NOT_NULL_FATAL(n);
    CU_ASSERT_STRING_EQUAL(nsk_network_fact(n, NSK_FACT_NAME), "watch");
    nsk_network_set_fact(n, NSK_FACT_DESCRIPTION, "sorts tiles");
    nsk_model_file *made = nsk_quantise(n, k.calibration, NULL, &error);
    nsk_model m;
    CU_ASSERT_FATAL(made != NULL && nsk_open(&m, made->bytes, made->size) == NSK_STATUS_OK);
    static const char *const expected[NSK_FACTS] = {"watch", "7", "the tile works", "MIT",
                                                    "sorts tiles"};
    for (int i = 0; i < NSK_FACTS; i++) {
        CU_ASSERT_STRING_EQUAL(nsk_model_fact(&m, (nsk_fact)i), expected[i]);
    }
    model->n_metadata_props = 0;
    model->metadata_props = NULL;
    onnx__model_proto__free_unpacked(model, NULL);
    nsk_model_file_free(made);
    nsk_network_free(n);
    g_free(file);
    g_free(bytes);
    g_free(path);
    scratch_remove(folder);
    kiln_free(&k);
}

static void computed_integers_are_refused(void) {
    onnx_maker *m = small(13);
    onnx_node(m, "Cast", "y", "n", "to=i7");
    onnx_node(m, "Cast", "n", "z", "to=i1");
    expect_refusal(m, "(Cast): it makes integers of computed numbers");
}

/* A message in a message in a message: graph, node, attribute, graph and so on. */
static GByteArray *nested(int depth) {
    static const uint8_t tags[] = {8 * 6 + 2, 8 * 5 + 2, 8 * 1 + 2}; /* g, attribute, node */
    GByteArray *all = g_byte_array_new();
    for (int i = 0; i <= depth; i++) {
        uint8_t head[6] = {i < depth ? tags[i % 3] : 8 * 7 + 2};
        guint length = 1;
        for (guint left = all->len; length == 1 || left > 0; left >>= 7) {
            head[length++] = (uint8_t)((left & 0x7fU) | (left > 0x7fU ? 0x80U : 0U));
            if (left <= 0x7fU) {
                break;
            }
        }
        g_byte_array_prepend(all, head, length);
    }
    return all;
}

/* What would take the parser's stack, or all memory, is refused before it is parsed. */
static void absurd_files_are_not_parsed(void) {
    static const struct {
        int depth;
        const char *said;
    } cases[] = {{6, "ONNX operator set 0"},
                 {63, "ONNX operator set 0"},
                 {66, "nested more than 64 deep"},
                 {5001, "nested more than 64 deep"}};
    const nsk_onnx_options options = {0};
    for (size_t i = 0; i < G_N_ELEMENTS(cases); i++) {
        nsk_error error = {.text = ""};
        GByteArray *bytes = nested(cases[i].depth);
        CU_ASSERT_PTR_NULL(nsk_onnx_read(bytes->data, bytes->len, &options, &error));
        assert_error(&error, cases[i].said);
        g_byte_array_free(bytes, TRUE);
    }
    nsk_error error = {.text = ""};
    enum { NODES = 2100000 };
    GByteArray *bytes = g_byte_array_new();
    static const uint8_t head[] = {8 * 7 + 2, 0xc0, 0xac, 0x80, 0x02}; /* 4,200,000 bytes follow */
    static const uint8_t node[] = {8 * 1 + 2, 0};
    g_byte_array_append(bytes, head, sizeof head);
    for (int i = 0; i < NODES; i++) {
        g_byte_array_append(bytes, node, sizeof node);
    }
    CU_ASSERT_PTR_NULL(nsk_onnx_read(bytes->data, bytes->len, &options, &error));
    assert_error(&error, "more than 2,000,000 messages");
    g_byte_array_free(bytes, TRUE);
}

/* A function that scales by its attribute, and one that calls it twice; `call` uses them. */
static onnx_maker *with_functions(const char *call, const char *attributes, bool usual) {
    onnx_maker *m = small(18);
    onnx_node(m, "Constant", "", "by", "value_float=$factor");
    onnx_node(m, "Mul", "x by", "z", "");
    onnx_function(m, "ours.Scale", "x", "z", 2);
    onnx_node(m, "ours.Scale", "in", "once", "factor=$factor");
    onnx_node(m, "ours.Scale", "once", "out", "factor=f2");
    onnx_function(m, "ours.Twice", "in extra", "out", 2);
    if (usual) {
        onnx_default(m, "factor=f1.5");
    }
    onnx_node(m, "Identity", "y", "z0", "");
    onnx_node(m, call, "z0", "z", attributes);
    return m;
}

static void functions_become_their_bodies(void) {
    nsk_error error = {.text = ""};
    uint8_t frame[192];
    float scores[3][2];
    onnx_maker *plain = small(18);
    onnx_floats(plain, "three", 0, NULL, NULL, 3);
    onnx_node(plain, "Mul", "y three", "z", "");
    onnx_maker *const made[3] = {plain, with_functions("ours.Twice", "factor=f1.5", false),
                                 with_functions("ours.Twice", "", true)};
    const nsk_input input = {.width = 8, .height = 8, .deviation = {1, 1, 1}, .top = 255};
    for (int i = 0; i < 192; i++) {
        frame[i] = (uint8_t)(i * 37 % 251);
    }
    for (int i = 0; i < 3; i++) {
        nsk_network *n = read_made(made[i], NULL, &error);
        assert_error(&error, "");
        CU_ASSERT_PTR_NOT_NULL_FATAL(n);
        CU_ASSERT(nsk_network_score(n, &input, frame, scores[i], &error));
        nsk_network_free(n);
    }
    CU_ASSERT_DOUBLE_EQUAL(scores[0][0], scores[1][0], 1e-6);
    CU_ASSERT_DOUBLE_EQUAL(scores[0][0], scores[2][0], 1e-6);
    expect_refusal(with_functions("ours.Twice", "", false), "holds neither numbers nor integers");
    expect_refusal(with_functions("theirs.Twice", "", false),
                   "operator 'Twice' is one of 'theirs'");
    onnx_maker *m = small(18);
    onnx_node(m, "ours.Again", "a", "b", "");
    onnx_function(m, "ours.Again", "a", "b", 1);
    onnx_node(m, "ours.Again", "y", "z", "");
    expect_refusal(m, "functions that call each other more than 32 deep");
    m = small(18);
    onnx_node(m, "Relu", "a", "b", "");
    onnx_function(m, "ours.F0", "a", "b", 1);
    for (int i = 1; i <= 20; i++) { /* 2^20 of them in the end */
        char *op[2] = {g_strdup_printf("ours.F%d", i), g_strdup_printf("ours.F%d", i - 1)};
        onnx_node(m, op[1], "a", "c", "");
        onnx_node(m, op[1], "c", "b", "");
        onnx_function(m, op[0], "a", "b", 2);
        g_free(op[0]);
        g_free(op[1]);
    }
    onnx_node(m, "ours.F20", "y", "z", "");
    expect_refusal(m, "more than 20000 nodes, those of functions counted where they are called");
    m = small(18);
    onnx_node(m, "ours.Scale", "y y", "z", "factor=f1");
    onnx_node(m, "Relu", "x", "b", "");
    onnx_function(m, "ours.Scale", "x", "b", 1);
    expect_refusal(m, "more inputs or outputs than its function has");
}

/* Two in a byte, the first in its lower half, in raw data and in the typed field. */
static void halves_of_bytes_are_read(void) {
    static const int64_t expected[2][5] = {{-8, 7, 1, -1, 5}, {8, 7, 1, 15, 5}};
    uint8_t raw[3] = {0x78, 0xf1, 0x05};
    int32_t typed[3] = {0x78, 0xf1, 0x05};
    int64_t five = 5;
    for (int i = 0; i < 4; i++) {
        nsk_error error = {.text = ""};
        nsk_value value = {.name = (char *)"w"};
        Onnx__TensorProto t = ONNX__TENSOR_PROTO__INIT;
        t.n_dims = 1;
        t.dims = &five;
        t.data_type = i % 2 == 0 ? 22 : 21; /* int4, uint4 */
        t.has_raw_data = i < 2;
        t.raw_data = (ProtobufCBinaryData){3, raw};
        t.int32_data = typed;
        t.n_int32_data = i < 2 ? 0 : 3;
        CU_ASSERT(nsk_onnx_tensor_load(&t, NULL, &value, &error));
        assert_error(&error, "");
        CU_ASSERT_PTR_NOT_NULL_FATAL(value.integers);
        CU_ASSERT_EQUAL(memcmp(value.integers, expected[i % 2], sizeof expected[0]), 0);
        CU_ASSERT(value.bits == 4 && value.is_unsigned == (i % 2 == 1));
        g_free(value.data);
        g_free(value.integers);
        t.raw_data.len = 2;
        t.n_int32_data = 2;
        CU_ASSERT_FALSE(nsk_onnx_tensor_load(&t, NULL, &value, &error));
        assert_error(&error, "constant 'w' is 5 but holds 2 bytes");
    }
}

/* 5 levels in blocks of 2, a scale each: 0.5 (1 + 2) + 2 (3 + 4) + 10 (5 - 4). */
static void levels_come_in_blocks(void) {
    static const int8_t levels[5] = {1, 2, 3, 4, 5};
    static const int8_t zeroes[3] = {0, 0, 4};
    static const char *const ways[] = {"axis=i0 block_size=i2", "axis=i0 block_size=i3"};
    for (int i = 0; i < 2; i++) {
        onnx_maker *m = small(21);
        nsk_error error = {.text = ""};
        onnx_bytes_constant(m, "q", false, 5, levels);
        onnx_bytes_constant(m, "zeroes", false, 3, zeroes);
        onnx_floats(m, "s0", 1, (int[]){1}, NULL, 0.5F);
        onnx_floats(m, "s1", 1, (int[]){1}, NULL, 2.0F);
        onnx_floats(m, "s2", 1, (int[]){1}, NULL, 10.0F);
        onnx_node(m, "Concat", "s0 s1 s2", "s", "axis=i0");
        onnx_node(m, "DequantizeLinear", "q s zeroes", "d", ways[i]);
        onnx_node(m, "ReduceSum", "d", "sum", "keepdims=i1");
        onnx_node(m, "Mul", "y sum", "z", "");
        nsk_graph *graph = NULL;
        size_t size;
        uint8_t *bytes = onnx_bytes(m, &size);
        const nsk_onnx_options options = {0};
        graph = nsk_onnx_read(bytes, size, &options, &error);
        CU_ASSERT_PTR_NOT_NULL_FATAL(graph);
        CU_ASSERT_EQUAL(nsk_graph_infer(graph, nsk_evaluate, &error), i == 0);
        assert_error(&error, i == 0 ? "" : "one for each block of block_size is needed");
        if (i == 0) {
            const nsk_value *sum = nsk_graph_value(graph, nsk_graph_find_value(graph, "sum"));
            CU_ASSERT_DOUBLE_EQUAL(sum->data[0], 25.5, 1e-6);
        }
        nsk_graph_free(graph);
        g_free(bytes);
    }
}

CU_TestInfo onnx_tests[] = {
    {"halves of bytes are read", halves_of_bytes_are_read},
    {"levels come in blocks", levels_come_in_blocks},
    {"functions become their bodies", functions_become_their_bodies},
    {"operator sets 6 and newer", opsets},
    {"files that are no models", files_that_are_no_models},
    {"operators that are not known", unknown_operators},
    {"graphs that do not hold together", graphs_that_do_not_hold_together},
    {"shapes that cannot be are explained", shapes_that_cannot_be},
    {"resizes that are too large", resizes_that_are_too_large},
    {"constants that cannot be", constants_that_cannot_be},
    {"sizes, and the brief's", sizes_and_the_brief},
    {"folding leaves one layer", folding_leaves_one_layer},
    {"metadata travels along", facts_travel},
    {"absurd files are not parsed", absurd_files_are_not_parsed},
    {"computed integers are refused", computed_integers_are_refused},
    CU_TEST_INFO_NULL,
};
