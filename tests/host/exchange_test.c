/* Quantised ONNX: written, computed as it is written, and read back. */
#include <math.h>
#include <stdio.h>
#include <string.h>

#include "../suites.h"
#include "../support.h"
#include "base/element.h"
#include "device/format.h"
#include "device/layer.h"
#include "float/forward.h"
#include "lower/lower.h"
#include "lower/views.h"
#include "lowered/integer.h"
#include "network/network.h"
#include "onnx/read.h"
#include "pipeline/pipeline.h"

/* The file's graph with every rounding, as another tool would compute it. */
static nsk_graph *graph_as_written(const char *path, nsk_input *input) {
    nsk_error error = {.text = ""};
    size_t size;
    uint8_t *bytes = nsk_file_read(path, 1 << 24, &size, &error);
    const nsk_onnx_options options = {.input = input};
    nsk_graph *graph = bytes != NULL ? nsk_onnx_read(bytes, size, &options, &error) : NULL;
    CU_ASSERT(graph != NULL && nsk_graph_infer(graph, nsk_evaluate, &error));
    assert_error(&error, "");
    g_free(bytes);
    return graph;
}

/* The written network in float, each layer on the levels that the integer model has in front of it.
 */
typedef struct beside {
    const nsk_network *network;
    const nsk_lowered *lowered;
    int8_t *levels[64]; /* what each layer left in its output */
    int8_t *input;
    const int8_t *workspace;
    int checked, halves, wrong;
} beside;

static void keep_levels(void *context, const nsk_model *model, unsigned layer) {
    beside *b = context;
    nsk_tensor t = nsk_tensor_at(model, nsk_layer_output(model, layer));
    g_free(b->levels[layer]);
    b->levels[layer] = g_memdup2(b->workspace + t.offset, nsk_tensor_bytes(&t));
}

/* Halfway between two levels (where the standard takes the even one, and the device the upper), or
 * so near it that single precision cannot tell, either will do; else there is one level. */
static void check_levels(const void *context, int value, float *numbers, size_t count) {
    beside *b = (beside *)context;
    const nsk_value *v = nsk_graph_value(b->network->graph, value);
    for (int i = 0; i < (int)b->lowered->layers->len; i++) {
        if (nsk_lowered_tensor_at(b->lowered, nsk_lowered_layer_at(b->lowered, i)->out)->value !=
            value) {
            continue;
        }
        unsigned bytes = v->pinned_wide ? 2 : 1;
        double most = v->pinned_wide ? 32768.0 : 128.0;
        double slack =
            v->pinned_wide ? 0.05 : 0.001; /* single precision, by levels so much finer */
        for (size_t e = 0; e < count && (v->pinned || v->pinned_wide); e++) {
            int level = nsk_element_at(b->levels[i] + (size_t)nsk_plain_place(v, e) * bytes, bytes);
            double exact = (double)numbers[e] / (double)v->pinned_scale + v->pinned_zero;
            double apart = fabs(fmin(fmax(exact, -most), most - 1.0) - level);
            b->checked++;
            b->halves += apart > 0.5 - slack && apart <= 0.5 + slack;
            b->wrong += apart > 0.5 + slack;
            numbers[e] = v->pinned_scale * (float)(level - v->pinned_zero);
        }
    }
    if (value == b->network->graph->input) {
        const nsk_scale s = {v->pinned_scale, v->pinned_zero};
        for (size_t e = 0; e < count; e++) {
            numbers[e] = s.scale * (float)(b->input[nsk_plain_place(v, e)] - s.zero);
        }
    }
}

static void layers_agree_but_for_halves(const nsk_network *written, const nsk_model *model,
                                        const nsk_images *images) {
    nsk_error error = {.text = ""};
    beside b = {.network = written, .lowered = nsk_lower_and_join(written->graph, &error)};
    const nsk_observer observer = {NULL, keep_levels, &b};
    nsk_pass *pass = nsk_pass_new(written->graph, &error);
    int8_t *workspace = g_malloc0(model->workspace_bytes);
    uint8_t *frame = g_malloc(nsk_images_frame_bytes(images));
    CU_ASSERT_EQUAL_FATAL(b.lowered->layers->len, model->layers);
    b.workspace = workspace;
    for (int i = 0; i < 12; i++) {
        CU_ASSERT(nsk_images_frame(images, i * nsk_images_count(images) / 12, frame, &error));
        nsk_prepare(model, frame, (size_t)model->width * model->channels, workspace);
        nsk_tensor in = nsk_tensor_at(model, model->input);
        b.input = g_memdup2(workspace + in.offset, nsk_tensor_bytes(&in));
        nsk_run(model, workspace, &observer);
        nsk_float_prepare(written->graph, nsk_images_input(images), frame, nsk_pass_input(pass));
        nsk_pass_run_changed(pass, check_levels, &b);
        g_free(b.input);
    }
    printf("[%d levels, %d halfway] ", b.checked, b.halves);
    CU_ASSERT(b.checked > 12 * 40000);
    CU_ASSERT(b.halves < b.checked / 200);
    CU_ASSERT_EQUAL(b.wrong, 0);
    for (unsigned i = 0; i < model->layers; i++) {
        g_free(b.levels[i]);
    }
    g_free(workspace);
    g_free(frame);
    nsk_pass_free(pass);
    nsk_lowered_free((nsk_lowered *)b.lowered);
}

static void kiln_goes_out_and_comes_back(void) {
    kiln k;
    nsk_error error = {.text = ""};
    nsk_model model;
    kiln_load(&k, 60);
    char *folder = scratch_new();
    char *path = scratch_path(folder, "kiln.onnx"); /* the name is part of the model */
    CU_ASSERT(nsk_quantise_onnx(k.network, k.calibration, NULL, path, &error));
    nsk_network *back = nsk_network_read(path, &k.brief->input, NULL, &error);
    CU_ASSERT_PTR_NOT_NULL_FATAL(back);
    nsk_model_file *again = nsk_quantise(back, k.calibration, NULL, &error);
    CU_ASSERT_PTR_NOT_NULL_FATAL(again);
    CU_ASSERT_EQUAL_FATAL(again->size, k.file->size);
    CU_ASSERT_EQUAL(memcmp(again->bytes, k.file->bytes, again->size), 0);
    CU_ASSERT_EQUAL(nsk_open(&model, again->bytes, again->size), NSK_STATUS_OK);

    nsk_graph *graph = graph_as_written(path, &k.brief->input);
    nsk_pass *pass = nsk_pass_new(graph, &error);
    CU_ASSERT_PTR_NOT_NULL_FATAL(pass);
    void *workspace = g_malloc(model.workspace_bytes);
    uint8_t *frame = g_malloc(nsk_images_frame_bytes(k.held_out));
    double farthest = 0.0;
    for (int i = 0; i < 120; i++) {
        int image = i * nsk_images_count(k.held_out) / 120;
        CU_ASSERT(nsk_images_frame(k.held_out, image, frame, &error));
        nsk_float_prepare(graph, &k.brief->input, frame, nsk_pass_input(pass));
        nsk_pass_run(pass);
        nsk_prepare(&model, frame, (size_t)model.width * 3, workspace);
        nsk_run(&model, workspace, NULL);
        const int32_t *scores = nsk_scores(&model, workspace);
        const float *written = nsk_pass_value(pass, graph->output);
        for (int c = 0; c < model.classes; c++) {
            double score = scores[c] / (double)NSK_CERTAIN;
            farthest = fmax(farthest, fabs((double)written[c] - score));
        }
    }
    CU_ASSERT(farthest <= 8.0 / 256.0);
    layers_agree_but_for_halves(back, &model, k.held_out);
    g_free(workspace);
    g_free(frame);
    nsk_pass_free(pass);
    nsk_graph_free(graph);
    nsk_model_file_free(again);
    nsk_network_free(back);
    g_free(path);
    scratch_remove(folder);
    kiln_free(&k);
}

static void byte_constant(onnx_maker *m, const char *name, int value) {
    onnx_bytes_constant(m, name, true, 1, (const int8_t[]){(int8_t)value});
}

/* x, rounded to unsigned bytes, through int8 weights to four scores. */
static void write_pairs(const char *path, const char *rescaled, bool paired) {
    const int8_t weights[12] = {127, -64, 3, 5, 90, -127, 1, 2, 3, 4, 127, 6};
    onnx_maker *m = onnx_new(13, 3, 4, 4);
    onnx_floats(m, "s", 0, NULL, NULL, 0.005F);
    onnx_floats(m, "s2", 0, NULL, NULL, 0.03F);
    onnx_floats(m, "w_s", 0, NULL, NULL, 0.01F);
    byte_constant(m, "z", 100);
    onnx_bytes_constant(m, "w_q", false, 12, weights);
    onnx_integers(m, "w_shape", 4, (const int64_t[]){4, 3, 1, 1});
    onnx_node(m, "QuantizeLinear", "x s z", "x_q", "");
    if (paired) {
        onnx_node(m, "DequantizeLinear", rescaled, "x_d", "");
    } else {
        onnx_node(m, "Cast", "x_q", "x_d", "to=i1");
    }
    onnx_node(m, "DequantizeLinear", "w_q w_s", "w_f", "");
    onnx_node(m, "Reshape", "w_f w_shape", "w", "");
    onnx_node(m, "Conv", "x_d w", "y", "");
    onnx_node(m, "GlobalAveragePool", "y", "g", "");
    onnx_node(m, "Flatten", "g", "f", "");
    onnx_finish(m, path);
}

/* Noise of four classes, and a place for a network that takes it. */
typedef struct small_noise {
    nsk_input input;
    char *folder, *path;
    nsk_images *images;
} small_noise;

static void small_noise_make(small_noise *n) {
    static char *names[] = {(char *)"a", (char *)"b", (char *)"c", (char *)"d", NULL};
    const nsk_labels labels = {.count = 4, .names = names};
    nsk_error error = {.text = ""};
    n->input = (nsk_input){.width = 4, .height = 4, .deviation = {0.5, 0.5, 0.5}, .top = 1};
    n->folder = scratch_new();
    n->path = scratch_path(n->folder, "m.onnx");
    char *noise = scratch_path(n->folder, "noise");
    noise_set(noise, &labels, 3, 4, 4);
    n->images = nsk_images_open(noise, &labels, &n->input, 0, false, &error);
    assert_error(&error, "");
    CU_ASSERT_PTR_NOT_NULL_FATAL(n->images);
    g_free(noise);
}

static void small_noise_clear(small_noise *n) {
    nsk_images_free(n->images);
    g_free(n->path);
    scratch_remove(n->folder);
}

static void carried_levels_are_taken(void) {
    small_noise n;
    nsk_error error = {.text = ""};
    nsk_model model;
    small_noise_make(&n);
    write_pairs(n.path, "x_q s z", true);
    nsk_network *network = nsk_network_read(n.path, &n.input, NULL, &error);
    CU_ASSERT_FATAL(network != NULL);
    nsk_model_file *file = nsk_quantise(network, n.images, NULL, &error);
    CU_ASSERT_FATAL(file != NULL && nsk_open(&model, file->bytes, file->size) == NSK_STATUS_OK);
    nsk_tensor in = nsk_tensor_at(&model, model.input);
    float scale;
    memcpy(&scale, &in.scale_bits, sizeof scale);
    CU_ASSERT_DOUBLE_EQUAL((double)scale, 0.005, 1e-9);
    CU_ASSERT_EQUAL(in.zero, 100 - 128);
    /* bright bytes are past the last level, so that no line fits: a table */
    uint8_t frame[48];
    int8_t *workspace = g_malloc(model.workspace_bytes);
    CU_ASSERT_EQUAL(file->bytes[NSK_H_TABLES], 1);
    for (int i = 0; i < 48; i++) {
        frame[i] = (uint8_t)(i * 5 + 3);
    }
    nsk_prepare(&model, frame, 12, workspace);
    for (int i = 0; i < 48; i++) {
        double level = floor(frame[i] / 255.0 / 0.5 / (double)scale + 0.5) + in.zero;
        CU_ASSERT_EQUAL(workspace[in.offset + (uint32_t)i], fmin(level, 127.0));
    }
    g_free(workspace);
    nsk_model_file_free(file);
    nsk_network_free(network);

    static const struct {
        const char *rescaled;
        bool paired;
        const char *said;
    } wrong[] = {
        {"x_q s2 z", true, "is not that of the QuantizeLinear before it"},
        {"x s z", true, "what it reads is computed, and by no QuantizeLinear"},
        {"x_q s z", false, "its levels are read by other operators"},
    };
    for (size_t i = 0; i < G_N_ELEMENTS(wrong); i++) {
        write_pairs(n.path, wrong[i].rescaled, wrong[i].paired);
        CU_ASSERT_PTR_NULL(nsk_network_read(n.path, &n.input, NULL, &error));
        assert_error(&error, wrong[i].said);
    }
    small_noise_clear(&n);
}

/* Levels of 16 bits: those in front of the scores are kept, what others become is said. */
static void wide_levels_are_kept_at_the_end(void) {
    small_noise n;
    nsk_error error = {.text = ""};
    nsk_model model;
    random_state r = {77};
    small_noise_make(&n);
    for (int16_t zero = 0; zero < 2; zero++) { /* only around 0 */
        onnx_maker *m = onnx_new(21, 3, 4, 4);
        onnx_floats(m, "w", 4, (const int[]){4, 3, 1, 1}, &r, 1.0F);
        onnx_floats(m, "h", 2, (const int[]){4, 4}, &r, 1.0F);
        onnx_floats(m, "s", 0, NULL, NULL, 0.001F);
        onnx_short(m, "z", 0);
        onnx_short(m, "y", zero);
        onnx_node(m, "Conv", "x w", "a", "");
        onnx_node(m, "QuantizeLinear", "a s z", "a_q", "");
        onnx_node(m, "DequantizeLinear", "a_q s z", "a_d", "");
        onnx_node(m, "GlobalAveragePool", "a_d", "g", "");
        onnx_node(m, "Flatten", "g", "f", "");
        onnx_node(m, "Gemm", "f h", "l", "transB=i1");
        onnx_node(m, "QuantizeLinear", "l s y", "l_q", "");
        onnx_node(m, "DequantizeLinear", "l_q s y", "l_d", "");
        onnx_finish(m, n.path);
        nsk_network *network = nsk_network_read(n.path, &n.input, NULL, &error);
        assert_error(&error, "");
        CU_ASSERT_PTR_NOT_NULL_FATAL(network);
        CU_ASSERT_EQUAL(nsk_network_carried_levels(network), 1 - zero);
        CU_ASSERT_EQUAL_FATAL(nsk_network_notes(network), 1);
        CU_ASSERT_PTR_NOT_NULL(strstr(nsk_network_note(network, 0),
                                      zero == 0 ? "1 of its tensors have levels of 16 bits"
                                                : "2 of its tensors have levels of 16 bits"));
        nsk_model_file *file = nsk_quantise(network, n.images, NULL, &error);
        CU_ASSERT_FATAL(file != NULL && nsk_open(&model, file->bytes, file->size) == 0);
        nsk_tensor logits = nsk_tensor_at(&model, nsk_layer_output(&model, model.layers - 2U));
        CU_ASSERT_EQUAL(logits.element, 2);
        CU_ASSERT_EQUAL(fabs((double)nsk_scale_of_tensor(&logits).scale - 0.001) < 1e-9, zero == 0);
        nsk_model_file_free(file);
        nsk_network_free(network);
    }
    small_noise_clear(&n);
}

CU_TestInfo exchange_tests[] = {
    {"the kiln line goes out and comes back", kiln_goes_out_and_comes_back},
    {"levels that a file carries are taken", carried_levels_are_taken},
    {"levels of 16 bits are kept at the end", wide_levels_are_kept_at_the_end},
    CU_TEST_INFO_NULL,
};
