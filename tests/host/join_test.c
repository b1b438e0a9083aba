/* Concatenations: no copy where the parts can be written where they belong, one where not. */
#include <math.h>
#include <stdio.h>
#include <string.h>

#include "../network_text.h"
#include "../suites.h"
#include "device/format.h"
#include "device/layer.h"
#include "lower/lower.h"
#include "modelfile/build.h"
#include "netsuke/emit.h"
#include "network/network.h"
#include "pipeline/pipeline.h"

#define FIRST "Conv x w_8_3_3_3 b_8 > a pads=l1,1,1,1; "
#define LAST  "; GlobalAveragePool y > g; Flatten g > f; Gemm f h_5_20 c_5 > z transB=i1"

static const struct {
    const char *name, *text;
    int copies;
} cases[] = {
    {"two convolutions",
     FIRST "Conv a u_12_8_1_1 v_12 > l; Relu l > p; Conv a r_8_8_3_3 b_8 > r pads=l1,1,1,1; "
           "Concat p r > y axis=i1" LAST,
     0},
    {"three branches, an average and a convolution in groups, of odd widths",
     FIRST "AveragePool a > l kernel_shape=l3,3 pads=l1,1,1,1; Conv a u_7_8_1_1 > m; "
           "Conv x r_5_3_3_3 > n pads=l1,1,1,1; Concat m l n > y axis=i1" LAST,
     0},
    {"depthwise beside its input's other reader",
     FIRST "Conv a d_8_1_3_3 > l pads=l1,1,1,1 group=i8; Conv a u_12_8_1_1 > m; "
           "Concat m l > y axis=i1" LAST,
     0},
    {"a concatenation of another",
     FIRST "Conv a u_6_8_1_1 > l; Conv a v_6_8_1_1 > m; Conv a r_8_8_3_3 > n pads=l1,1,1,1; "
           "Concat l m > o axis=i1; Concat n o > y axis=i1" LAST,
     0},
    {"transposed and plain",
     FIRST "ConvTranspose a t_8_12_3_3 > l pads=l1,1,1,1; Conv a u_8_8_1_1 > m; "
           "Concat l m > y axis=i1" LAST,
     0},
    {"a part that another layer reads", FIRST "Conv a u_12_8_1_1 > l; Concat a l > y axis=i1" LAST,
     1},
    {"a maximum, which has no scale of its own",
     FIRST "MaxPool a > l kernel_shape=l3,3 pads=l1,1,1,1; Conv a u_12_8_1_1 > m; "
           "Concat l m > y axis=i1" LAST,
     1},
    {"rows, not channels",
     FIRST "Conv a u_20_8_1_1 > l; Conv a v_20_8_1_1 > m; Concat l m > y axis=i2" LAST, 2},
    {"a part that would wait beside a wide layer",
     FIRST "Conv a u_8_8_1_1 > l; Conv a o_80_8_1_1 > m; Conv m r_12_80_1_1 > n; "
           "Concat l n > y axis=i1" LAST,
     2},
    {"single pixels",
     "Conv x w_8_3_3_3 b_8 > a; GlobalAveragePool a > g; Flatten g > f; Gemm f u_4_8 > l "
     "transB=i1; "
     "Sigmoid l > s; Gemm f v_6_8 > m transB=i1; Concat s m > k axis=i1; "
     "Gemm k h_5_10 c_5 > z transB=i1",
     0},
};

static int count_moves(const nsk_model *m) {
    int moves = 0;
    for (unsigned i = 0; i < m->layers; i++) {
        moves += nsk_layer_kind(m, i) == NSK_KIND_COPY;
    }
    return moves;
}

/* The integer network's numbers stay near the float network's. */
static void parts_are_written_in_place(void) {
    for (size_t i = 0; i < G_N_ELEMENTS(cases); i++) {
        noisy n;
        nsk_model model;
        double worst = 0.0;
        noisy_load(&n, cases[i].text, 5);
        CU_ASSERT_EQUAL(nsk_open(&model, n.file->bytes, n.file->size), NSK_STATUS_OK);
        if (count_moves(&model) != cases[i].copies) {
            fprintf(stderr, "\n    %s: %d copies\n", cases[i].name, count_moves(&model));
        }
        CU_ASSERT_EQUAL(count_moves(&model), cases[i].copies);
        for (int k = 0; k < n.comparison->images; k++) {
            const nsk_answer *a = &n.comparison->answers[k];
            double apart = (double)a->float_probability - (double)a->integer_probability;
            worst = a->float_class == a->integer_class ? fmax(worst, fabs(apart)) : worst;
        }
        CU_ASSERT(n.comparison->agree >= 0.9 * n.comparison->images);
        CU_ASSERT(worst < 0.04);
        noisy_free(&n);
    }
}

/* Saved as quantised ONNX and read back: the same file. */
static void they_come_back_from_onnx(void) {
    for (size_t i = 0; i < G_N_ELEMENTS(cases); i++) {
        nsk_error error = {.text = ""};
        noisy n;
        noisy_load(&n, cases[i].text, 5);
        char *path = scratch_path(n.folder, "q.onnx");
        nsk_input input = *nsk_images_input(n.images);
        CU_ASSERT(nsk_quantise_onnx(n.network, n.images, NULL, path, &error));
        assert_error(&error, "");
        nsk_network *again = nsk_network_read(path, &input, NULL, &error);
        assert_error(&error, "");
        CU_ASSERT_PTR_NOT_NULL_FATAL(again);
        nsk_model_file *file = nsk_quantise(again, n.images, NULL, &error);
        assert_error(&error, "");
        CU_ASSERT_PTR_NOT_NULL_FATAL(file);
        bool same =
            file->size == n.file->size && memcmp(file->bytes, n.file->bytes, file->size) == 0;
        if (!same) {
            fprintf(stderr, "\n    %s: another file\n", cases[i].name);
        }
        CU_ASSERT(same);
        nsk_model_file_free(file);
        nsk_network_free(again);
        g_free(path);
        noisy_free(&n);
    }
}

/* ---- joined and copied ---- */

/* Copies the pixels of a part to where they belong in the whole. */
static nsk_lowered_layer copy_of(const nsk_lowered *lowered, int tensor, int whole, int first) {
    const nsk_lowered_tensor *t = nsk_lowered_tensor_at(lowered, tensor);
    const int32_t moves[] = {
        [NSK_M_OUT_ORIGIN] = first,
        [NSK_M_LOOPS] = t->channels,
        1,
        1,
        t->height * t->width,
        t->channels,
        nsk_lowered_tensor_at(lowered, whole)->channels,
    };
    nsk_lowered_layer l = {.kind = NSK_KIND_COPY,
                           .name = "copy",
                           .in = tensor,
                           .second = NSK_NONE,
                           .out = whole,
                           .loops = 2,
                           .joins_at = NSK_NONE,
                           .low = -INFINITY,
                           .high = INFINITY};
    l.moves = g_memdup2(moves, sizeof moves);
    return l;
}

/* Every slice becomes a tensor of its own again, and a layer behind its writer copies it. */
static int part_again(const nsk_lowered *lowered) {
    int parted = 0;
    for (int i = 0; i < (int)lowered->layers->len; i++) {
        int tensor = nsk_lowered_layer_at(lowered, i)->out;
        nsk_lowered_tensor *t = nsk_lowered_tensor_at(lowered, tensor);
        if (t->slice) {
            nsk_lowered_layer copy = copy_of(lowered, tensor, t->alias_of, t->first_channel);
            t->slice = false;
            t->alias_of = NSK_NONE;
            g_array_insert_val(lowered->layers, (guint)i + 1, copy);
            parted++;
        }
    }
    return parted;
}

static nsk_model_file *build(const noisy *n, const nsk_lowered *lowered, const nsk_scale *scales) {
    static const char *const facts[NSK_FACTS] = {"", "", "", "", ""};
    nsk_error error = {.text = ""};
    nsk_model_file *file =
        nsk_model_build(n->network->graph, lowered, scales, facts, nsk_images_labels(n->images),
                        nsk_images_input(n->images), NULL, &error);
    assert_error(&error, "");
    CU_ASSERT_PTR_NOT_NULL_FATAL(file);
    return file;
}

/* At the same scales both ways give the same scores, whatever the picture. */
static void joined_is_copied(void) {
    int parted = 0;
    for (size_t i = 0; i < G_N_ELEMENTS(cases); i++) {
        nsk_error error = {.text = ""};
        noisy n;
        nsk_model model;
        random_state r = {90 + i};
        nsk_scale scales[64];
        uint8_t frame[3 * 9 * 9];
        noisy_load(&n, cases[i].text, 5);
        CU_ASSERT_EQUAL(nsk_open(&model, n.file->bytes, n.file->size), NSK_STATUS_OK);
        nsk_lowered *lowered = nsk_lower_and_join(n.network->graph, &error);
        CU_ASSERT_PTR_NOT_NULL_FATAL(lowered);
        for (int t = 0; t < (int)lowered->tensors->len; t++) {
            bool known = t < model.tensors;
            nsk_tensor tensor = nsk_tensor_at(&model, known ? (unsigned)t : 0);
            memcpy(&scales[t].scale, &tensor.scale_bits, sizeof tensor.scale_bits);
            scales[t].zero = tensor.zero;
        }
        nsk_model_file *joined = build(&n, lowered, scales);
        parted += part_again(lowered);
        nsk_model_file *copied = build(&n, lowered, scales);
        for (int k = 0; k < 20; k++) {
            int32_t one[8];
            int32_t other[8];
            for (size_t b = 0; b < sizeof frame; b++) {
                frame[b] = (uint8_t)random_below(&r, 256);
            }
            model_scores(joined, frame, one);
            model_scores(copied, frame, other);
            CU_ASSERT_EQUAL(memcmp(one, other, model.classes * sizeof *one), 0);
        }
        nsk_model_file_free(joined);
        nsk_model_file_free(copied);
        nsk_lowered_free(lowered);
        noisy_free(&n);
    }
    CU_ASSERT(parted >= 13);
}

/* Handed over, a network with slices compiles with the strictest flags and computes its scores. */
static void they_are_handed_over(void) {
    for (size_t i = 0; i < 5; i++) {
        nsk_error error = {.text = ""};
        noisy n;
        noisy_load(&n, cases[i].text, 5);
        nsk_images_keep(n.images, 10, true);
        char *folder = scratch_path(n.folder, "handed");
        const nsk_handed_network network = {.name = "tiles", .model = n.file, .tried = n.images};
        char **files = nsk_emit(&network, 1, folder, &error);
        assert_error(&error, "");
        CU_ASSERT_PTR_NOT_NULL_FATAL(files);
        char *command = g_strdup_printf("make -s -C '%s' CFLAGS=-O1 | tail -1", folder);
        char *arguments[] = {(char *)"sh", (char *)"-c", command, NULL};
        char *said = NULL;
        CU_ASSERT(g_spawn_sync(NULL, arguments, NULL, G_SPAWN_SEARCH_PATH, NULL, NULL, &said, NULL,
                               NULL, NULL));
        if (g_strcmp0(said, "passed\n") != 0) {
            fprintf(stderr, "\n    %s: %s\n", cases[i].name, said);
        }
        CU_ASSERT_STRING_EQUAL(said, "passed\n");
        g_free(said);
        g_free(command);
        g_free(folder);
        g_strfreev(files);
        noisy_free(&n);
    }
}

/* The same network with maxima of one pixel between, which have to be copied. */
static void joining_saves(void) {
    noisy joined;
    noisy copied;
    noisy_load(&joined, cases[0].text, 5);
    noisy_load(&copied,
               FIRST "Conv a u_12_8_1_1 v_12 > l; Relu l > p; Conv a r_8_8_3_3 b_8 > r "
                     "pads=l1,1,1,1; MaxPool p > p2 kernel_shape=l1,1; MaxPool r > r2 "
                     "kernel_shape=l1,1; Concat p2 r2 > y axis=i1" LAST,
               5);
    nsk_model a;
    nsk_model b;
    CU_ASSERT_EQUAL(nsk_open(&a, joined.file->bytes, joined.file->size), NSK_STATUS_OK);
    CU_ASSERT_EQUAL(nsk_open(&b, copied.file->bytes, copied.file->size), NSK_STATUS_OK);
    CU_ASSERT_EQUAL(count_moves(&a), 0);
    CU_ASSERT_EQUAL(count_moves(&b), 2);
    CU_ASSERT(a.workspace_bytes <= b.workspace_bytes);
    CU_ASSERT_EQUAL(a.workspace_bytes, joined.file->workspace_lower_bound);
    noisy_free(&joined);
    noisy_free(&copied);
}

CU_TestInfo join_tests[] = {
    {"parts of a concatenation are written in place", parts_are_written_in_place},
    {"joined is copied", joined_is_copied},
    {"they come back from quantised ONNX", they_come_back_from_onnx},
    {"they are handed over", they_are_handed_over},
    {"joining takes no more RAM", joining_saves},
    CU_TEST_INFO_NULL,
};
