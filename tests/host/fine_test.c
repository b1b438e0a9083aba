/* Tensors of 16 bits between layers, where a brief asks for them. */
#include <math.h>
#include <stdio.h>
#include <string.h>

#include "../network_text.h"
#include "../suites.h"
#include "netsuke/compare.h"
#include "netsuke/finer.h"
#include "reference/reference.h"

/* Every kind that takes fine tensors, and others behind them. */
static const char *const all_kinds =
    "Conv x w_8_3_3_3 b_8 > c1 pads=l1,1,1,1; Sigmoid c1 > s1; Mul c1 s1 > m1; "
    "Conv m1 d_8_1_3_3 e_8 > c2 pads=l1,1,1,1 group=i8; Relu c2 > r2; "
    "Conv r2 f_8_8_1_1 g_8 > c3; Add c3 m1 > a3; Conv a3 h_6_8_3_3 o_6 > c4; Relu c4 > r4; "
    "GlobalAveragePool r4 > p; Flatten p > q; Gemm q j_5_6 c_5 > z transB=i1";

/* Nodes go by their outputs. */
static const char *names_of(const noisy *n, const char *part) {
    nsk_outline *o = nsk_network_outline(n->network);
    const char *found = NULL;
    for (int i = 0; i < o->count; i++) {
        found = strstr(o->layers[i].name, part) != NULL ? o->layers[i].name : found;
    }
    nsk_outline_free(o);
    return found;
}

static nsk_model_file *quantise(const noisy *n, const char *const *layers, nsk_error *error) {
    for (; *layers != NULL; layers++) {
        const char *name = names_of(n, *layers);
        CU_ASSERT_PTR_NOT_NULL_FATAL(name);
        CU_ASSERT(nsk_network_make_fine(n->network, name, error));
    }
    return nsk_quantise(n->network, n->images, NULL, error);
}

/* The device's scores are the formulas', picture by picture. */
static void check_formulas(const noisy *n, const nsk_model_file *file) {
    nsk_model model;
    nsk_error error = {.text = ""};
    CU_ASSERT_EQUAL_FATAL(nsk_open(&model, file->bytes, file->size), NSK_STATUS_OK);
    uint8_t *frame = g_malloc(nsk_images_frame_bytes(n->images));
    int32_t *scores = g_new(int32_t, model.classes);
    void *workspace = g_malloc(model.workspace_bytes);
    for (int i = 0; i < nsk_images_count(n->images); i++) {
        CU_ASSERT(nsk_images_frame(n->images, i, frame, &error));
        nsk_reference_scores(&model, frame, scores);
        nsk_prepare(&model, frame, (size_t)model.width * model.channels, workspace);
        nsk_run(&model, workspace, NULL);
        CU_ASSERT_EQUAL(
            memcmp(scores, nsk_scores(&model, workspace), model.classes * sizeof *scores), 0);
    }
    g_free(workspace);
    g_free(scores);
    g_free(frame);
}

/* How many tensors have parts, and how far both models are apart. */
static int count_fine(const nsk_model_file *file) {
    nsk_model model;
    int count = 0;
    CU_ASSERT_EQUAL_FATAL(nsk_open(&model, file->bytes, file->size), NSK_STATUS_OK);
    for (unsigned i = 0; i < model.tensors; i++) {
        nsk_tensor t = nsk_tensor_at(&model, i);
        count += t.fraction == 8 && t.element == 2;
    }
    return count;
}

static double apart(const noisy *n, const nsk_model_file *file) {
    nsk_error error = {.text = ""};
    nsk_comparison *c = nsk_compare(n->network, file, n->images, NULL, NULL, &error);
    CU_ASSERT_PTR_NOT_NULL_FATAL(c);
    double sum = c->apart;
    nsk_comparison_free(c);
    return sum;
}

/* Row by row as the frame comes in, fine or not: the same scores, in less RAM. */
static void finer_numbers_are_streamed(void) {
    static const char *const layers[] = {"c1", "c2", "c3", "a3", NULL};
    static const nsk_streaming_wish wishes[] = {NSK_STREAMING_NEVER, NSK_STREAMING_ALWAYS};
    nsk_error error = {.text = ""};
    nsk_model models[2];
    noisy n;
    noisy_load(&n, all_kinds, 5);
    for (int k = 0; k < 2; k++) {
        nsk_recipe recipe;
        nsk_recipe_init(&recipe);
        recipe.streaming = wishes[k];
        nsk_model_file *first = k == 0 ? quantise(&n, layers, &error) : NULL;
        nsk_model_file *file = nsk_quantise(n.network, n.images, &recipe, &error);
        assert_error(&error, "");
        CU_ASSERT_PTR_NOT_NULL_FATAL(file);
        check_formulas(&n, file);
        nsk_open(&models[k], file->bytes, file->size);
        nsk_model_file_free(first);
        nsk_model_file_free(file);
    }
    CU_ASSERT_EQUAL(models[0].streamed, 0);
    CU_ASSERT(models[1].streamed > 5);
    CU_ASSERT(models[1].workspace_bytes < models[0].workspace_bytes);
    noisy_free(&n);
}

static void finer_numbers_are_nearer(void) {
    static const char *const layers[] = {"c1", "m1", "c2", "c3", "a3", NULL};
    nsk_error error = {.text = ""};
    noisy n;
    noisy_load(&n, all_kinds, 5);
    double before = apart(&n, n.file);
    CU_ASSERT_EQUAL(count_fine(n.file), 0);
    nsk_model_file *file = quantise(&n, layers, &error);
    assert_error(&error, "");
    CU_ASSERT_PTR_NOT_NULL_FATAL(file);
    CU_ASSERT(count_fine(file) >= 4);
    check_formulas(&n, file);
    double now = apart(&n, file);
    CU_ASSERT(now < 0.9 * before);
    nsk_model_file_free(file);
    noisy_free(&n);
}

/* A sum that a normalisation reads, as blocks of attention have it. */
static void normalisation_reads_them(void) {
    static const char *const network =
        "Conv x w_8_3_3_3 b_8 > c1 pads=l1,1,1,1; Relu c1 > r1; Conv r1 f_8_8_1_1 g_8 > c2; "
        "Add c2 c1 > a3; Transpose a3 > t3 perm=l0,2,3,1; "
        "LayerNormalization t3 s_8 o_8 > n3 epsilon=f0.001; Transpose n3 > u3 perm=l0,3,1,2; "
        "Conv u3 h_6_8_3_3 e_6 > c4; Relu c4 > r4; GlobalAveragePool r4 > p; Flatten p > q; "
        "Gemm q j_5_6 c_5 > z transB=i1";
    static const char *const layers[] = {"c1", "c2", "a3", NULL};
    nsk_error error = {.text = ""};
    nsk_model model;
    int normalised = 0;
    noisy n;
    noisy_load(&n, network, 5);
    nsk_model_file *file = quantise(&n, layers, &error);
    assert_error(&error, "");
    CU_ASSERT_PTR_NOT_NULL_FATAL(file);
    check_formulas(&n, file);
    nsk_open(&model, file->bytes, file->size);
    for (unsigned i = 0; i < model.layers; i++) {
        normalised += nsk_layer_kind(&model, i) == NSK_KIND_NORMALISE_FINE;
    }
    CU_ASSERT_EQUAL(normalised, 1);
    nsk_model_file_free(file);
    noisy_free(&n);
}

/* Written as ONNX and read back, the same levels come with the file, and the same model of them. */
static void levels_travel(void) {
    static const char *const layers[] = {"c1", "c2", NULL};
    nsk_error error = {.text = ""};
    noisy n;
    noisy_load(&n, all_kinds, 5);
    nsk_model_file *file = quantise(&n, layers, &error);
    CU_ASSERT_PTR_NOT_NULL_FATAL(file);
    char *path = scratch_path(n.folder, "fine.onnx");
    CU_ASSERT(nsk_quantise_onnx(n.network, n.images, NULL, path, &error));
    assert_error(&error, "");
    nsk_input input = *nsk_images_input(n.images);
    nsk_network *back = nsk_network_read(path, &input, NULL, &error);
    assert_error(&error, "");
    CU_ASSERT_PTR_NOT_NULL_FATAL(back);
    CU_ASSERT_EQUAL(nsk_network_notes(back), 0);
    nsk_model_file *again = nsk_quantise(back, n.images, NULL, &error);
    CU_ASSERT_PTR_NOT_NULL_FATAL(again);
    CU_ASSERT_EQUAL(count_fine(again), count_fine(file));
    nsk_comparison *c = nsk_compare(back, file, n.images, NULL, NULL, &error);
    CU_ASSERT_PTR_NOT_NULL_FATAL(c);
    CU_ASSERT(c->apart < 0.02); /* the file's own network rounds where the device does */
    nsk_comparison_free(c);
    nsk_model_file_free(again);
    nsk_network_free(back);
    nsk_model_file_free(file);
    g_free(path);
    noisy_free(&n);
}

static void what_cannot_is_named(void) {
    static const struct {
        const char *kind;
        int before; /* it, so many layers */
        const char *said;
    } cases[] = {{"GlobalAveragePool", 1, "which writes or reads it, takes levels of 8 bits only"},
                 {"GlobalAveragePool", 0, "takes levels of 8 bits only"},
                 {"Gemm", 0, "takes levels of 8 bits only"},
                 {"Flatten", 0, "it is no layer of its own in integers"}};
    for (size_t i = 0; i < G_N_ELEMENTS(cases); i++) {
        nsk_error error = {.text = ""};
        noisy n;
        noisy_load(&n, all_kinds, 5);
        nsk_outline *o = nsk_network_outline(n.network);
        const char *layer = NULL;
        for (int k = 0; k < o->count; k++) {
            bool found = strcmp(o->layers[k].kind, cases[i].kind) == 0;
            layer = found ? o->layers[k - cases[i].before].name : layer;
        }
        CU_ASSERT_PTR_NOT_NULL_FATAL(layer);
        CU_ASSERT(nsk_network_make_fine(n.network, layer, &error));
        CU_ASSERT_PTR_NULL(nsk_quantise(n.network, n.images, NULL, &error));
        assert_error(&error, cases[i].said);
        assert_error(&error, layer);
        CU_ASSERT_FALSE(nsk_network_make_fine(n.network, "nobody", &error));
        assert_error(&error, "[ranges] nobody: no layer has this name");
        nsk_outline_free(o);
        noisy_free(&n);
    }
}

/* The gated network's early layers, which its depthwise convolution takes small differences of. */
static void the_gated_network_gains(void) {
    nsk_error error = {.text = ""};
    double both[2];
    nsk_brief *brief = nsk_brief_read(NSK_SOURCE_DIR "/demo/kiln-gated.ini", &error);
    CU_ASSERT_PTR_NOT_NULL_FATAL(brief);
    nsk_network *network = nsk_network_read(brief->model, &brief->input, NULL, &error);
    nsk_images *calibration =
        nsk_images_open(brief->calibration, &brief->labels, &brief->input, 120, false, &error);
    nsk_images *held_out =
        nsk_images_open(brief->held_out, &brief->labels, &brief->input, 300, false, &error);
    CU_ASSERT_FATAL(network != NULL && calibration != NULL && held_out != NULL);
    for (int k = 0; k < 2; k++) {
        CU_ASSERT(k == 0 || (nsk_network_make_fine(network, "conv2", &error) &&
                             nsk_network_make_fine(network, "swish2", &error)));
        nsk_model_file *file = nsk_quantise(network, calibration, NULL, &error);
        assert_error(&error, "");
        CU_ASSERT_PTR_NOT_NULL_FATAL(file);
        CU_ASSERT_EQUAL(count_fine(file), 2 * k);
        nsk_comparison *c = nsk_compare(network, file, held_out, NULL, NULL, &error);
        CU_ASSERT_PTR_NOT_NULL_FATAL(c);
        both[k] = c->apart;
        nsk_comparison_free(c);
        nsk_model_file_free(file);
    }
    CU_ASSERT(both[1] < 0.75 * both[0]);
    nsk_images_free(held_out);
    nsk_images_free(calibration);
    nsk_network_free(network);
    nsk_brief_free(brief);
}

/* The third network, on a board: what is chosen is nearer to the float network, and what it costs
 * is what the board then says; limits that leave nothing are kept. */
static void what_pays_is_chosen(void) {
    nsk_error error = {.text = ""};
    nsk_brief *brief = nsk_brief_read(NSK_SOURCE_DIR "/demo/kiln-third.ini", &error);
    CU_ASSERT_PTR_NOT_NULL_FATAL(brief);
    nsk_board *board = nsk_board_read(brief->board, &error);
    nsk_images *calibration =
        nsk_images_open(brief->calibration, &brief->labels, &brief->input, 60, false, &error);
    CU_ASSERT_FATAL(board != NULL && calibration != NULL);
    double seconds = INFINITY;
    for (int k = 0; k < 2; k++) {
        brief->limits.latency = seconds;
        nsk_network *network = nsk_network_read(brief->model, &brief->input, NULL, &error);
        nsk_finer *f = nsk_finer_choose(network, calibration, calibration, &brief->recipe, board,
                                        &brief->product, &brief->limits, NULL, NULL, &error);
        assert_error(&error, "");
        CU_ASSERT_PTR_NOT_NULL_FATAL(f);
        nsk_model_file *file = nsk_quantise(network, calibration, &brief->recipe, &error);
        nsk_budget *b = nsk_budget_make(file, board, &brief->product, &brief->limits, &error);
        CU_ASSERT_PTR_NOT_NULL_FATAL(b);
        CU_ASSERT_EQUAL(f->images, 60);
        CU_ASSERT_EQUAL(count_fine(file), f->chosen);
        CU_ASSERT_DOUBLE_EQUAL(b->seconds, f->after.seconds, 1e-9);
        CU_ASSERT_DOUBLE_EQUAL(b->ram, f->after.ram, 0.5);
        if (k == 0) {
            CU_ASSERT(f->chosen >= 1);
            CU_ASSERT(f->after.odds < 0.95 * f->before.odds);
            CU_ASSERT(f->after.seconds > f->before.seconds);
            seconds = 1.01 * f->before.seconds;
        } else {
            CU_ASSERT(f->count >= 1);
            CU_ASSERT_EQUAL(f->chosen, 0);
        }
        nsk_budget_free(b);
        nsk_model_file_free(file);
        nsk_finer_free(f);
        nsk_network_free(network);
    }
    nsk_images_free(calibration);
    nsk_board_free(board);
    nsk_brief_free(brief);
}

CU_TestInfo fine_tests[] = {
    {"finer numbers are nearer", finer_numbers_are_nearer},
    {"finer numbers are streamed", finer_numbers_are_streamed},
    {"normalisation reads them", normalisation_reads_them},
    {"levels travel", levels_travel},
    {"what cannot is named", what_cannot_is_named},
    CU_TEST_INFO_NULL,
};

CU_TestInfo fine_gain_tests[] = {
    {"what pays is chosen", what_pays_is_chosen},
    {"the gated network gains", the_gated_network_gains},
    CU_TEST_INFO_NULL,
};
