/* Gradients of the integer network, and what refining makes of them. */
#include <math.h>
#include <omp.h>
#include <stdlib.h>
#include <string.h>

#include "../network_text.h"
#include "../suites.h"
#include "float/forward.h"
#include "lower/lower.h"
#include "lower/views.h"
#include "netsuke/stress.h"
#include "network/network.h"
#include "pipeline/pipeline.h"
#include "refine/backward.h"
#include "refine/gradient.h"
#include "scene.h"

/* ---- backwards, beside differences of the float pass ---- */

/* Networks whose every layer is smooth where the noise lies, or nearly so. */
static const struct {
    const char *name, *text;
} chains[] = {
    {"convolutions", "Conv x w_6_3_3_3 b_6 > a pads=l1,0,1,2 strides=l2,1; Conv a u_4_3_3_2 > y "
                     "group=i2 dilations=l1,2"},
    {"depthwise", "Conv x w_6_1_3_3 b_6 > a group=i3 pads=l1,1,1,1 strides=l2,2; "
                  "Conv a u_6_1_2_3 > y group=i6"},
    {"transposed", "ConvTranspose x w_3_4_3_3 b_4 > a strides=l2,2 pads=l1,1,0,1; "
                   "ConvTranspose a u_4_1_2_2 > y group=i2"},
    {"pools", "MaxPool x > a kernel_shape=l3,3 strides=l2,2; AveragePool a > b kernel_shape=l2,2 "
              "pads=l1,1,0,0; GlobalAveragePool b > y"},
    {"averages that count the margin",
     "AveragePool x > y kernel_shape=l3,2 pads=l1,1,1,0 count_include_pad=i1"},
    {"sums and products", "Conv x w_3_3_1_1 > a; Add x a > b; Sub b x > c; Mul c b > d; "
                          "GlobalAveragePool d > g; Mul d g > y"},
    {"the larger and the smaller", "Conv x w_3_3_1_1 > a; Max x a > b; Min b x > y"},
    {"functions", "Tanh x > a; Softplus a > b; Mul b a > y"},
    {"moves", "Transpose x > a perm=l0,2,3,1; Reshape a i_1_9_9_3 > b; Slice b i_2 i_8 i_1 > y"},
    {"parts of a concatenation",
     "Conv x w_5_3_1_1 > a; Conv x u_3_3_3_3 > b pads=l1,1,1,1; Concat a b > y axis=i1"},
    {"normalisations of pictures", "Conv x w_6_3_3_3 b_6 > a; InstanceNormalization a s_6 b_6 > y"},
    {"normalisations of channels",
     "Transpose x > e perm=l0,2,3,1; LayerNormalization e s_3 c_3 > y"},
    {"dense", "Flatten x > f; Gemm f w_7_243 b_7 > y transB=i1"},
    {"resize", "Resize x - - i_1_3_13_20 > y mode=slinear"},
};

typedef struct bench {
    nsk_network *network;
    nsk_lowered *lowered;
    nsk_pass *pass;
    nsk_backward_tensor *tensors;
    float *aim; /* the loss is the output's product with it */
} bench;

static void fill_tensor(const bench *b, int tensor) {
    const nsk_lowered_tensor *t = nsk_lowered_tensor_at(b->lowered, tensor);
    const nsk_value *v = nsk_graph_value(b->network->graph, t->value);
    const float *from = nsk_pass_value(b->pass, t->value);
    size_t count = (size_t)t->height * (size_t)t->width * (size_t)t->channels;
    nsk_backward_tensor *to = &b->tensors[tensor];
    for (size_t i = 0; i < nsk_value_count(v) && nsk_value_count(v) == count; i++) {
        size_t place = t->order == NSK_ORDER_OF_ONNX ? i : (size_t)nsk_plain_place(v, i);
        size_t at = place / (size_t)t->channels * (size_t)to->step + place % (size_t)t->channels;
        to->value[at] = from[i];
        to->level[at] = (int8_t)CLAMP(floorf(from[i] / 0.02F + 0.5F), -127.0F, 127.0F);
    }
}

/* What the softmax that every network ends in reads. */
static int scores_of(const nsk_graph *g) {
    return nsk_graph_producer(g, g->output)->input[0];
}

static double loss_of(const bench *b) {
    int scores = scores_of(b->network->graph);
    const float *y = nsk_pass_value(b->pass, scores);
    double loss = 0.0;
    nsk_pass_run(b->pass);
    for (size_t i = 0; i < nsk_value_count(nsk_graph_value(b->network->graph, scores)); i++) {
        loss += (double)b->aim[i] * (double)y[i];
    }
    return loss;
}

/* All layers backwards. For those with weights: what the output's gradient makes of the output is
 * what the weights' gradients make of the weights, since the one is linear in the other. */
static void go_back(const bench *b, const char *name) {
    for (int i = (int)b->lowered->layers->len - 2; i >= 0; i--) {
        const nsk_lowered_layer *l = nsk_lowered_layer_at(b->lowered, i);
        bool scratch = l->kind == NSK_KIND_CONV || l->kind == NSK_KIND_DEPTHWISE;
        const nsk_backward_tensor *out = &b->tensors[l->out];
        size_t weights = (size_t)l->taps * (size_t)out->channels;
        nsk_backward_step s = {.layer = l,
                               .in = &b->tensors[l->in],
                               .second = l->second != NSK_NONE && !scratch ? &b->tensors[l->second]
                                                                           : NULL,
                               .out = out,
                               .in_scale = {0.02F, 0},
                               .low = -129,
                               .high = 128,
                               .weight = l->weights,
                               .weight_gradient = g_new0(float, weights + 1),
                               .bias_gradient = g_new0(float, out->channels),
                               .scratch = g_new0(float, nsk_backward_scratch(l, out) + 1),
                               .input_counts = true};
        nsk_backward(&s);
        double by_weights = 0.0;
        double by_outputs = 0.0;
        for (size_t k = 0; k < weights; k++) {
            by_weights += (double)s.weight_gradient[k] * (double)l->weights[k];
        }
        for (int c = 0; c < out->channels && weights > 0; c++) {
            by_weights += (double)s.bias_gradient[c] * (double)l->bias[c];
            for (int p = 0; p < out->height * out->width; p++) {
                by_outputs += (double)out->gradient[p * out->step + c] *
                              (double)out->value[p * out->step + c];
            }
        }
        if (fabs(by_weights - by_outputs) > 1e-3 * (1.0 + fabs(by_outputs))) {
            fprintf(stderr, "\n    %s: %g by weights, %g by outputs\n", name, by_weights,
                    by_outputs);
            CU_FAIL("weights");
        }
        g_free(s.weight_gradient);
        g_free(s.bias_gradient);
        g_free(s.scratch);
    }
}

static void load_chain(bench *b, int index, random_state *r) {
    nsk_error error = {.text = ""};
    size_t size;
    nsk_input input = {.width = 9, .height = 9, .deviation = {1, 1, 1}, .top = 1};
    char *folder = scratch_new();
    char *path = scratch_path(folder, "m.onnx");
    char *text = g_strdup_printf("%s; Flatten y > z", chains[index].text);
    uint8_t *bytes = network_of_text(text, &size);
    scratch_write(path, bytes, size);
    b->network = nsk_network_read(path, &input, NULL, &error);
    assert_error(&error, "");
    CU_ASSERT_PTR_NOT_NULL_FATAL(b->network);
    b->lowered = nsk_lower_and_join(b->network->graph, &error);
    assert_error(&error, "");
    CU_ASSERT_PTR_NOT_NULL_FATAL(b->lowered);
    b->pass = nsk_pass_new(b->network->graph, &error);
    int classes = nsk_network_classes(b->network);
    b->aim = g_new0(float, classes);
    for (int i = 0; i < classes; i++) {
        b->aim[i] = (float)random_normal(r);
    }
    for (int i = 0; i < 3 * 9 * 9; i++) {
        nsk_pass_input(b->pass)[i] = (float)random_normal(r);
    }
    nsk_pass_run(b->pass);
    b->tensors = nsk_backward_tensors_new(b->lowered);
    for (int i = 0; i < (int)b->lowered->tensors->len; i++) {
        fill_tensor(b, i);
    }
    const nsk_lowered_layer *last =
        nsk_lowered_layer_at(b->lowered, (int)b->lowered->layers->len - 1);
    memcpy(b->tensors[last->in].gradient, b->aim, (size_t)classes * sizeof(float));
    g_free(bytes);
    g_free(text);
    g_free(path);
    scratch_remove(folder);
}

static void bench_clear(bench *b) {
    nsk_backward_tensors_free(b->lowered, b->tensors);
    g_free(b->aim);
    nsk_pass_free(b->pass);
    nsk_lowered_free(b->lowered);
    nsk_network_free(b->network);
}

/* The input's gradient, number by number; a corner between two slopes may lie at one or two. */
static void gradients_are_differences(void) {
    const float STEP = 4e-3F;
    for (int index = 0; index < (int)G_N_ELEMENTS(chains); index++) {
        random_state r = {(uint64_t)index + 70};
        bench b = {0};
        load_chain(&b, index, &r);
        go_back(&b, chains[index].name);
        const nsk_value *in = nsk_graph_value(b.network->graph, b.network->graph->input);
        float *x = nsk_pass_input(b.pass);
        int wrong = 0;
        for (size_t i = 0; i < nsk_value_count(in); i++) {
            float kept = x[i];
            x[i] = kept + STEP;
            double above = loss_of(&b);
            x[i] = kept - STEP;
            double below = loss_of(&b);
            x[i] = kept;
            double difference = (above - below) / (2.0 * (double)STEP);
            double own = (double)b.tensors[0].gradient[nsk_plain_place(in, i)];
            wrong += fabs(own - difference) > 0.02 * (1.0 + fabs(difference));
        }
        if (wrong > 5) {
            fprintf(stderr, "\n    %s: %d of %zu differ\n", chains[index].name, wrong,
                    nsk_value_count(in));
        }
        CU_ASSERT(wrong <= 5);
        bench_clear(&b);
    }
}

/* ---- the whole way: forward by the device's kernels, backward in float ---- */

typedef struct whole_way {
    noisy n;
    nsk_model_file *file;
    nsk_model model;
    nsk_lowered *lowered;
    nsk_scale scales[64];
    nsk_learned learned[64];
    nsk_gradient *gradient;
    uint8_t *frame;
    int dense; /* the last layer with weights */
} whole_way;

/* A small network with that end; `fine`: a layer whose output has 16 bits, or NULL. */
static whole_way *way_open(const char *end, const char *fine) {
    whole_way *w = g_new0(whole_way, 1);
    nsk_error error = {.text = ""};
    char *text =
        g_strdup_printf("Conv x w_8_3_3_3 b_8 > a pads=l1,1,1,1; Relu a > y; Conv y d_8_8_1_1 e_8 "
                        "> v; GlobalAveragePool v > g; Flatten g > f; Gemm f h_5_8 c_5 > z "
                        "transB=i1%s",
                        end);
    noisy_load(&w->n, text, 5);
    CU_ASSERT(fine == NULL || nsk_network_make_fine(w->n.network, fine, &error));
    w->file = nsk_quantise(w->n.network, w->n.images, NULL, &error);
    assert_error(&error, "");
    CU_ASSERT_PTR_NOT_NULL_FATAL(w->file);
    CU_ASSERT_EQUAL_FATAL(nsk_open(&w->model, w->file->bytes, w->file->size), NSK_STATUS_OK);
    w->lowered = nsk_lower_and_join(w->n.network->graph, &error);
    CU_ASSERT_PTR_NOT_NULL_FATAL(w->lowered);
    CU_ASSERT(nsk_gradient_can(w->lowered, &error));
    for (unsigned t = 0; t < w->model.tensors; t++) {
        nsk_tensor tensor = nsk_tensor_at(&w->model, t);
        memcpy(&w->scales[t].scale, &tensor.scale_bits, sizeof tensor.scale_bits);
        w->scales[t].zero = tensor.zero;
    }
    for (int i = 0; i < (int)w->lowered->layers->len; i++) {
        const nsk_lowered_layer *l = nsk_lowered_layer_at(w->lowered, i);
        int channels = nsk_lowered_tensor_at(w->lowered, l->out)->channels;
        w->learned[i] = l->bias == NULL ? (nsk_learned){0, 0, NULL}
                                        : (nsk_learned){(size_t)l->taps * (size_t)channels,
                                                        channels, l->weights};
        w->dense = l->bias != NULL ? i : w->dense;
    }
    w->gradient = nsk_gradient_new(w->lowered, w->scales, w->learned);
    w->frame = g_malloc(nsk_images_frame_bytes(w->n.images));
    CU_ASSERT(nsk_images_frame(w->n.images, 3, w->frame, &error));
    nsk_gradient_clear(w->gradient);
    g_free(text);
    return w;
}

static void way_close(whole_way *w) {
    nsk_gradient_free(w->gradient);
    nsk_lowered_free(w->lowered);
    nsk_model_file_free(w->file);
    g_free(w->frame);
    noisy_free(&w->n);
    g_free(w);
}

/* The loss is that of the device's logits, gradients of several frames add up, and nothing is
 * learned of a frame that is only looked at. */
static void gradients_add_up(void) {
    const float target[5] = {0.1F, 0.2F, 0.3F, 0.4F, 0.0F};
    whole_way *w = way_open("", NULL);
    double looked = nsk_gradient_add(w->gradient, &w->model, w->frame, target, false);
    for (int c = 0; c < 5; c++) {
        CU_ASSERT_EQUAL(nsk_gradient_biases(w->gradient, w->dense)[c], 0.0F);
    }
    double once = nsk_gradient_add(w->gradient, &w->model, w->frame, target, true);
    CU_ASSERT_DOUBLE_EQUAL(once, looked, 0.0);
    float first[5];
    double sum = 0.0;
    memcpy(first, nsk_gradient_biases(w->gradient, w->dense), sizeof first);
    for (int c = 0; c < 5; c++) { /* softmax less target: all add up to nothing */
        sum += (double)first[c];
        CU_ASSERT(first[c] > -target[c] && first[c] < 1.0F - target[c]);
    }
    CU_ASSERT_DOUBLE_EQUAL(sum, 0.0, 1e-5);
    CU_ASSERT(once >= 1.27985 - 1e-4); /* the target's entropy, which no answer goes below */
    nsk_gradient_add(w->gradient, &w->model, w->frame, target, true);
    for (int c = 0; c < 5; c++) {
        CU_ASSERT_DOUBLE_EQUAL(nsk_gradient_biases(w->gradient, w->dense)[c], 2.0F * first[c],
                               1e-6);
    }
    way_close(w);
}

/* Of sigmoids, each label is a question for itself: what is said of it less what is aimed at. */
static void gradients_of_sigmoids(void) {
    const float target[5] = {1.0F, 0.0F, 0.25F, 1.0F, 0.5F};
    whole_way *w = way_open("; Sigmoid z > s", NULL);
    double loss = nsk_gradient_add(w->gradient, &w->model, w->frame, target, true);
    double entropy = 0.0;
    for (int c = 0; c < 5; c++) {
        double p = nsk_gradient_scores(w->gradient)[c] / (double)NSK_CERTAIN;
        double t = (double)target[c];
        entropy -= t * log(p) + (1.0 - t) * log(1.0 - p);
        CU_ASSERT_DOUBLE_EQUAL((double)nsk_gradient_biases(w->gradient, w->dense)[c], p - t, 1e-4);
    }
    CU_ASSERT_DOUBLE_EQUAL(loss, entropy, 1e-3);
    way_close(w);
}

/* Through a tensor of 16 bits the same gradients come back, as near as its finer numbers allow. */
static void gradients_through_parts(void) {
    const float target[5] = {0.1F, 0.2F, 0.3F, 0.4F, 0.0F};
    whole_way *both[2] = {way_open("", NULL), way_open("", "Conv_of_a")};
    double size = 0.0;
    double apart = 0.0;
    for (int k = 0; k < 2; k++) {
        nsk_gradient_add(both[k]->gradient, &both[k]->model, both[k]->frame, target, true);
        nsk_tensor t = nsk_tensor_at(&both[k]->model, nsk_layer_output(&both[k]->model, 0));
        CU_ASSERT_EQUAL(t.fraction, k == 0 ? 0 : 8);
    }
    for (size_t i = 0; i < both[0]->learned[0].weights; i++) {
        double plain = (double)nsk_gradient_weights(both[0]->gradient, 0)[i];
        double fine = (double)nsk_gradient_weights(both[1]->gradient, 0)[i];
        size += plain * plain;
        apart += (plain - fine) * (plain - fine);
    }
    CU_ASSERT(size > 0.0 && apart < 0.01 * size);
    way_close(both[0]);
    way_close(both[1]);
}

/* ---- refining ---- */

/* A third of the channels, and ranges that were seen on so many pictures. */
static void load_third(kiln *k, int seen) {
    nsk_error error = {.text = ""};
    kiln_load(k, seen);
    nsk_network_free(k->network);
    k->network =
        nsk_network_read(NSK_SOURCE_DIR "/demo/kiln-third.onnx", &k->brief->input, NULL, &error);
    assert_error(&error, "");
    CU_ASSERT_PTR_NOT_NULL_FATAL(k->network);
}

static void load_hurt(kiln *k) {
    load_third(k, 2);
}

static nsk_model_file *refine(const kiln *k, const nsk_images *training, int epochs,
                              nsk_refine_result *told) {
    nsk_error error = {.text = ""};
    const nsk_refine_settings how = {
        .training = training, .epochs = epochs, .rate = NSK_REFINE_RATE, .result = told};
    nsk_recipe recipe;
    nsk_recipe_init(&recipe);
    recipe.refine = epochs > 0 ? &how : NULL;
    nsk_model_file *file = nsk_quantise(k->network, k->calibration, &recipe, &error);
    assert_error(&error, "");
    CU_ASSERT_PTR_NOT_NULL_FATAL(file);
    return file;
}

/* On images that it did not learn from. */
static void refining_helps(void) {
    kiln k;
    nsk_refine_result told = {0};
    char *folder = scratch_new();
    load_hurt(&k);
    nsk_images *training = kiln_fresh(&k, folder, 61, 150 * KILN_CLASSES);
    nsk_model_file *file = refine(&k, training, 4, &told);
    printf("[loss %.4f, before %.4f, on %d set aside] ", told.loss[1], told.loss[0], told.aside);
    CU_ASSERT_EQUAL(told.learned_from, 720);
    CU_ASSERT_EQUAL(told.aside, 180);
    CU_ASSERT(told.best_epoch >= 1 && told.best_epoch <= 4);
    CU_ASSERT(told.loss[1] < told.loss[0] - 0.003);
    nsk_model_file_free(file);
    nsk_images_free(training);
    kiln_free(&k);
    scratch_remove(folder);
}

static void the_same_on_any_threads(void) {
    kiln k;
    int threads = omp_get_max_threads();
    char *folder = scratch_new();
    load_hurt(&k);
    nsk_images *training = kiln_fresh(&k, folder, 63, 20 * KILN_CLASSES);
    nsk_model_file *files[3];
    for (int i = 0; i < 3; i++) {
        nsk_refine_result told;
        omp_set_num_threads(1 + i);
        files[i] = refine(&k, training, 1, &told);
        CU_ASSERT(files[i]->size == files[0]->size &&
                  memcmp(files[i]->bytes, files[0]->bytes, files[0]->size) == 0);
    }
    omp_set_num_threads(threads);
    for (int i = 0; i < 3; i++) {
        nsk_model_file_free(files[i]);
    }
    nsk_images_free(training);
    kiln_free(&k);
    scratch_remove(folder);
}

/* How often the set is right in integers, changed in all ways at the three weaker strengths. */
static int right_when_changed(const kiln *k, const nsk_model_file *file, const nsk_images *images) {
    nsk_error error = {.text = ""};
    int right = 0;
    nsk_stress *s =
        nsk_stress_measure(k->network, file, images, NSK_NO_CLASS, 1, NULL, NULL, &error);
    CU_ASSERT_PTR_NOT_NULL_FATAL(s);
    for (int i = 0; i < 3 * s->changes; i++) {
        right += s->change[i / 3].count[i % 3].integer_correct;
    }
    nsk_stress_free(s);
    return right;
}

/* What is learned from changed pictures holds on changed ones that it has not seen, and is the same
 * on any number of threads. */
static void changed_pictures_are_learned_from(void) {
    kiln k;
    char *folder = scratch_new();
    const int threads = omp_get_max_threads();
    nsk_error error = {.text = ""};
    load_hurt(&k);
    nsk_images *training = kiln_fresh(&k, folder, 65, 200 * KILN_CLASSES);
    nsk_recipe recipe;
    nsk_recipe_init(&recipe);
    const nsk_refine_settings how = {
        .training = training, .changes = NSK_EVERY_CHANGE, .epochs = 4, .rate = NSK_ROBUST_RATE};
    recipe.refine = &how;
    nsk_model_file *files[2];
    for (int i = 0; i < 2; i++) {
        omp_set_num_threads(1 + 2 * i);
        files[i] = nsk_quantise(k.network, k.calibration, &recipe, &error);
        assert_error(&error, "");
        CU_ASSERT_PTR_NOT_NULL_FATAL(files[i]);
    }
    omp_set_num_threads(threads);
    CU_ASSERT(files[0]->size == files[1]->size &&
              memcmp(files[0]->bytes, files[1]->bytes, files[0]->size) == 0);
    nsk_images *others = kiln_fresh(&k, folder, 66, 30 * KILN_CLASSES);
    recipe.refine = NULL;
    nsk_model_file *plain = nsk_quantise(k.network, k.calibration, &recipe, &error);
    const int before = right_when_changed(&k, plain, others);
    const int now = right_when_changed(&k, files[0], others);
    printf("[right of %d changed: %d, before %d] ", 33 * nsk_images_count(others), now, before);
    CU_ASSERT(now > before + nsk_images_count(others) / 2);
    nsk_model_file_free(plain);
    nsk_model_file_free(files[0]);
    nsk_model_file_free(files[1]);
    nsk_images_free(others);
    nsk_images_free(training);
    kiln_free(&k);
    scratch_remove(folder);
}

/* Where weights move far, the integers are like the network that was learned, not like the one that
 * there was; whether channels were evened out or not, and whoever was the teacher. */
static void what_was_learned_comes_back(void) {
    kiln k;
    nsk_error error = {.text = ""};
    nsk_network *learned[2] = {NULL};
    nsk_recipe recipe;
    char *folder = scratch_new();
    char *path = scratch_path(folder, "learned.onnx");
    load_third(&k, 60);
    nsk_recipe_init(&recipe);
    nsk_network *teacher =
        nsk_network_read(NSK_SOURCE_DIR "/demo/kiln.onnx", &k.brief->input, NULL, &error);
    nsk_images *training = kiln_fresh(&k, folder, 67, 80 * KILN_CLASSES);
    nsk_images *others = kiln_fresh(&k, folder, 68, 40 * KILN_CLASSES);
    nsk_refine_result told;
    nsk_refine_settings how = {.training = training,
                               .changes = NSK_EVERY_CHANGE,
                               .epochs = 4,
                               .rate = NSK_ROBUST_RATE,
                               .result = &told};
    recipe.refine = &how;
    for (int i = 0; i < 2; i++) {
        recipe.equalise = i == 0;
        how.teacher = i == 0 ? NULL : teacher;
        how.learned = &learned[i];
        nsk_model_file *model = nsk_quantise(k.network, k.calibration, &recipe, &error);
        CU_ASSERT_PTR_NOT_NULL_FATAL(learned[i]);
        CU_ASSERT(nsk_network_write(learned[i], path, &error));
        nsk_network *again = nsk_network_read(path, &k.brief->input, NULL, &error);
        assert_error(&error, "");
        CU_ASSERT_PTR_NOT_NULL_FATAL(again);
        nsk_comparison *now = nsk_compare(again, model, others, NULL, NULL, &error);
        nsk_comparison *before = nsk_compare(k.network, model, others, NULL, NULL, &error);
        printf("[apart by %.4f, from the network before by %.4f] ", now->apart, before->apart);
        CU_ASSERT(told.best_epoch > 0);
        CU_ASSERT(now->apart < 0.7 * before->apart);
        nsk_comparison_free(now);
        nsk_comparison_free(before);
        nsk_network_free(again);
        nsk_model_file_free(model);
    }
    nsk_network_free(learned[0]);
    nsk_network_free(learned[1]);
    nsk_network_free(teacher);
    nsk_images_free(training);
    nsk_images_free(others);
    kiln_free(&k);
    g_free(path);
    scratch_remove(folder);
}

static void what_cannot_be_refined_is_said(void) {
    kiln k;
    nsk_error error = {.text = ""};
    kiln_load(&k, 8);
    const nsk_refine_settings how = {
        .training = k.calibration, .epochs = 1, .rate = NSK_REFINE_RATE};
    nsk_recipe recipe;
    nsk_recipe_init(&recipe);
    recipe.refine = &how;
    CU_ASSERT_PTR_NULL(nsk_quantise(k.network, k.calibration, &recipe, &error));
    assert_error(&error, "refining wants 5 training images of a class");
    char *folder = scratch_new();
    char *path = scratch_path(folder, "integers.onnx");
    CU_ASSERT(nsk_quantise_onnx(k.network, k.calibration, NULL, path, &error));
    nsk_network *carried = nsk_network_read(path, &k.brief->input, NULL, &error);
    CU_ASSERT_PTR_NOT_NULL_FATAL(carried);
    CU_ASSERT_PTR_NULL(nsk_quantise(carried, k.calibration, &recipe, &error));
    assert_error(&error, "the file gives its weights as integers already");
    nsk_network_free(carried);
    g_free(path);
    scratch_remove(folder);
    kiln_free(&k);
}

CU_TestInfo refine_tests[] = {
    {"gradients are differences", gradients_are_differences},
    {"gradients add up", gradients_add_up},
    {"gradients of sigmoids", gradients_of_sigmoids},
    {"gradients through parts", gradients_through_parts},
    {"refining helps a hurt network", refining_helps},
    {"the same bytes on any number of threads", the_same_on_any_threads},
    {"changed pictures are learned from", changed_pictures_are_learned_from},
    {"what was learned comes back", what_was_learned_comes_back},
    {"what cannot be refined is said", what_cannot_be_refined_is_said},
    CU_TEST_INFO_NULL,
};
