/* Which channels go together, and networks without some of them. */
#include <math.h>
#include <stdlib.h>
#include <string.h>

#include "../network_text.h"
#include "../suites.h"
#include "base/random.h"
#include "channels/channels.h"
#include "float/forward.h"
#include "network/network.h"

#define PICTURE "; GlobalAveragePool y > yp; Flatten yp > z"
#define LINES   "; Flatten y > z"

/* What of each may go: how many channels, in how many sets. What y has are the classes. */
static const struct {
    const char *name, *text, *end;
    int sets, channels;
} texts[] = {
    {"a chain", "Conv x w_6_3_3_3 > a; Relu a > r; Conv r u_8_6_1_1 b_8 > y", PICTURE, 1, 6},
    {"depthwise layers follow",
     "Conv x w_6_3_1_1 > a; Conv a d_12_1_3_3 b_12 > c group=i6; Conv c u_4_12_1_1 > y", PICTURE, 1,
     6},
    {"groups go evenly",
     "Conv x w_8_3_1_1 > a; Conv a u_12_4_3_3 > c group=i2; Conv c v_5_12_1_1 > y", PICTURE, 2, 10},
    {"sums are tied",
     "Conv x w_6_3_1_1 > a; Conv a u_6_6_1_1 > b; Add a b > c; Conv c v_6_6_1_1 > d; "
     "Sub d c > e; Conv e t_4_6_1_1 > y",
     PICTURE, 1, 6},
    {"an input is no channel", "Conv x w_3_3_1_1 > a; Add a x > b; Conv b u_5_3_1_1 > y", PICTURE,
     0, 0},
    {"channels weighed",
     "Conv x w_6_3_1_1 > a; GlobalAveragePool a > g; Conv g u_3_6_1_1 > h; Relu h > r; "
     "Conv r v_6_3_1_1 > s; Sigmoid s > t; Mul a t > m; Conv m t_4_6_1_1 > y",
     PICTURE, 2, 9},
    {"weighed by what all of them say",
     "Conv x w_6_3_1_1 > a; ReduceMean a > m axes=l1 keepdims=i1; Sigmoid m > s; Mul a s > n; "
     "Conv n t_4_6_1_1 > y",
     PICTURE, 0, 0},
    {"weighed by place",
     "Conv x w_6_3_1_1 > a; Conv a u_1_6_3_3 > m pads=l1,1,1,1; Sigmoid m > s; Mul a s > n; "
     "Conv n t_4_6_1_1 > y",
     PICTURE, 1, 6},
    {"concatenations",
     "Conv x w_4_3_1_1 > a; Conv x u_6_3_1_1 > b; Concat a b > c axis=i1; Conv c v_5_10_3_3 > y",
     PICTURE, 2, 10},
    {"half of them, by turns",
     "Conv x w_8_3_1_1 > a; Split a > b c axis=i1; Conv b u_4_4_1_1 > d; Concat c d > e axis=i1; "
     "Reshape e i_1_2_4_9_9 > f; Transpose f > g perm=l0,2,1,3,4; Reshape g i_1_8_9_9 > h; "
     "Conv h v_5_8_1_1 > y",
     PICTURE, 1, 8},
    {"a slice", "Conv x w_8_3_1_1 > a; Slice a i_2 i_7 i_1 > b; Conv b u_4_5_1_1 > y", PICTURE, 1,
     8},
    {"runs of them, and one alone, which stays",
     "Conv x w_8_3_1_1 > a; Gather a i_1_2_3_7 > b axis=i1; Conv b u_4_4_1_1 > y", PICTURE, 1, 7},
    {"depth to space",
     "Conv x w_16_3_1_1 > a; DepthToSpace a > b blocksize=i2; Conv b u_6_4_1_1 > y", PICTURE, 1, 4},
    {"flattened",
     "Conv x w_6_3_3_3 > a; MaxPool a > p kernel_shape=l2,2 strides=l2,2; Flatten p > f; "
     "Gemm f g_10_54 b_10 > h transB=i1; Relu h > r; Gemm r h_10_7 > y",
     LINES, 2, 16},
    {"transposed convolutions",
     "Conv x w_6_3_1_1 > a; ConvTranspose a u_6_5_2_2 b_5 > c strides=l2,2; Conv c v_4_5_1_1 > y",
     PICTURE, 2, 11},
    {"margins and sizes",
     "Conv x w_6_3_1_1 > a; Pad a i_0_0_1_1_0_0_1_1 > b; Resize b - - i_1_6_22_22 > c "
     "mode=snearest; Conv c v_4_6_1_1 > y",
     PICTURE, 1, 6},
    {"normalised pictures",
     "Conv x w_6_3_1_1 > a; InstanceNormalization a s_6 b_6 > c; Conv c v_4_6_1_1 > y", PICTURE, 1,
     6},
    {"attention",
     "Conv x w_8_3_3_3 > a strides=l3,3; Reshape a i_1_8_9 > t; Transpose t > e perm=l0,2,1; "
     "MatMul e q_8_6 > q; MatMul e p_8_6 > p; MatMul e v_8_6 > v; Transpose p > o perm=l0,2,1; "
     "MatMul q o > s; Softmax s > m axis=i2; MatMul m v > u; MatMul u o_6_8 > c; Add c e > g; "
     "MatMul g t_8_2 > y",
     LINES, 3, 20},
    {"two heads",
     "Conv x w_8_3_3_3 > a strides=l3,3; Reshape a i_1_8_9 > t; Transpose t > e perm=l0,2,1; "
     "MatMul e q_8_6 > q; Reshape q i_1_9_2_3 > h; Transpose h > j perm=l0,2,1,3; "
     "Transpose h > l perm=l0,2,3,1; MatMul j l > s; Softmax s > m axis=i3; MatMul m j > u; "
     "Transpose u > c perm=l0,2,1,3; Reshape c i_1_9_6 > g; MatMul g t_6_2 > y",
     LINES, 2, 11},
};

/* A network and its graph, whose constants are its own. */
typedef struct pair {
    nsk_network *network;
    nsk_graph *graph;
    nsk_channels *channels;
    bool *gone;
    float *input;
} pair;

static void pair_open(pair *p, nsk_network *network) {
    p->network = network;
    p->graph = nsk_graph_copy(network->graph);
    nsk_graph_own_constants(p->graph);
    p->channels = nsk_channels_find(p->graph);
    p->gone = g_new0(bool, p->channels->count + 1);
}

static void pair_close(pair *p) {
    nsk_channels_free(p->channels);
    nsk_graph_free(p->graph);
    nsk_network_free(p->network);
    g_free(p->gone);
}

static nsk_network *of_text(const char *text, const char *end) {
    nsk_error error = {.text = ""};
    size_t size;
    nsk_input input = {.width = 9, .height = 9, .deviation = {1, 1, 1}, .top = 1};
    char *whole = g_strconcat(text, end, NULL);
    uint8_t *bytes = network_of_text(whole, &size);
    nsk_network *n = nsk_network_from(bytes, size, "text", &input, NULL, &error);
    assert_error(&error, "");
    CU_ASSERT_PTR_NOT_NULL_FATAL(n);
    g_free(bytes);
    g_free(whole);
    return n;
}

/* About a third of each set, never all of it. */
static void choose(pair *p, random_state *r) {
    const nsk_channels *c = p->channels;
    int *left = g_new(int, c->sets + 1);
    for (int i = 0; i < c->sets; i++) {
        left[i] = c->sets_of[i].size;
    }
    for (int i = 0; i < c->count; i++) {
        p->gone[i] = left[c->set[i]] > 1 && random_below(r, 3) == 0;
        left[c->set[i]] -= p->gone[i];
    }
    g_free(left);
}

/* What is to go is nothing wherever it stands. */
static void silence(const void *context, int value, float *numbers, size_t count) {
    const pair *p = context;
    const nsk_value *v = nsk_graph_value(p->graph, value);
    size_t inner = count;
    for (int axis = 0; axis < v->rank; axis++) {
        const int *places = p->channels->places[value].at[axis];
        inner /= (size_t)v->dims[axis];
        for (size_t i = 0; places != NULL && i < count; i++) {
            const int channel = places[i / inner % (size_t)v->dims[axis]];
            numbers[i] = channel != NSK_NONE && p->gone[channel] ? 0.0F : numbers[i];
        }
    }
}

/* The classes' scores of a noisy picture; g_free. */
static float *scores_of(const pair *p, const nsk_graph *g, nsk_pass_change *change, uint64_t seed) {
    nsk_error error = {.text = ""};
    random_state r = {seed};
    nsk_pass *pass = nsk_pass_new(g, &error);
    assert_error(&error, "");
    const int scores = nsk_graph_producer(g, g->output)->input[0];
    for (size_t i = 0; i < nsk_value_count(nsk_graph_value(g, g->input)); i++) {
        nsk_pass_input(pass)[i] = (float)random_normal(&r);
    }
    nsk_pass_run_changed(pass, change, p);
    float *copy = g_memdup2(nsk_pass_value(pass, scores),
                            nsk_value_count(nsk_graph_value(g, scores)) * sizeof *copy);
    nsk_pass_free(pass);
    return copy;
}

static void unchanged(const void *context, int value, float *numbers, size_t count) {
    (void)context;
    (void)value;
    (void)numbers;
    (void)count;
}

/* Largest difference between two graphs' scores, of the largest score. */
static double apart(const pair *p, const nsk_graph *one, nsk_pass_change *change,
                    const nsk_graph *other) {
    float *a = scores_of(p, one, change, 5);
    float *b = scores_of(p, other, unchanged, 5);
    double most = 1e-6;
    double difference = 0.0;
    for (int i = 0; i < nsk_network_classes(p->network); i++) {
        most = fmax(most, fabs((double)a[i]));
        difference = fmax(difference, fabs((double)a[i] - (double)b[i]));
    }
    g_free(a);
    g_free(b);
    return difference / most;
}

/* Shapes are what inference makes of the graph that is left. */
static void check_shapes(const nsk_graph *cut) {
    nsk_error error = {.text = ""};
    nsk_graph *again = nsk_graph_copy(cut);
    CU_ASSERT(nsk_graph_infer(again, nsk_evaluate, &error));
    assert_error(&error, "");
    for (int i = 0; i < (int)cut->nodes->len; i++) {
        const nsk_node *node = nsk_graph_node(cut, i);
        if (!node->dead) {
            const nsk_value *a = nsk_graph_value(cut, node->output);
            const nsk_value *b = nsk_graph_value(again, node->output);
            CU_ASSERT(a->rank == b->rank &&
                      memcmp(a->dims, b->dims, (size_t)a->rank * sizeof *a->dims) == 0);
        }
    }
    nsk_graph_free(again);
}

static void cut_and_compare(const char *name, nsk_network *network, int sets, int channels,
                            bool same) {
    pair p;
    pair_open(&p, network);
    CU_ASSERT(apart(&p, network->graph, unchanged, p.graph) < 1e-5);
    if (sets >= 0 && (p.channels->sets != sets || p.channels->count != channels)) {
        fprintf(stderr, "\n    %s: %d channels in %d sets\n", name, p.channels->count,
                p.channels->sets);
        CU_FAIL("channels");
    }
    for (uint64_t seed = 1; seed <= 3; seed++) {
        random_state r = {seed};
        choose(&p, &r);
        nsk_graph *cut = nsk_graph_copy(p.graph);
        nsk_graph_cut(cut, p.channels, p.gone);
        check_shapes(cut);
        const double difference = apart(&p, p.graph, silence, cut);
        if (same && difference > 1e-4) {
            fprintf(stderr, "\n    %s: differs by %g\n", name, difference);
            CU_FAIL("scores");
        }
        nsk_graph_free(cut);
    }
    pair_close(&p);
}

/* What a cut network computes is what it did with those channels silent. */
static void cutting_is_silence(void) {
    for (size_t i = 0; i < G_N_ELEMENTS(texts); i++) {
        cut_and_compare(texts[i].name, of_text(texts[i].text, texts[i].end), texts[i].sets,
                        texts[i].channels, true);
    }
}

/* Normalised channels are less than silent without some of them: those have another mean. */
static void demo_networks_are_cut(void) {
    static const struct {
        const char *brief;
        bool same;
    } briefs[] = {{"kiln", true},        {"kiln-gated", true},        {"kiln-third", true},
                  {"kiln-large", false}, {"kiln-transformer", false}, {"kiln-mixer", false}};
    for (size_t i = 0; i < G_N_ELEMENTS(briefs); i++) {
        nsk_error error = {.text = ""};
        char *path = g_strdup_printf(NSK_SOURCE_DIR "/demo/%s.onnx", briefs[i].brief);
        nsk_input input = {.width = 48, .height = 48, .deviation = {1, 1, 1}, .top = 1};
        nsk_network *network = nsk_network_read(path, &input, NULL, &error);
        assert_error(&error, "");
        CU_ASSERT_PTR_NOT_NULL_FATAL(network);
        cut_and_compare(briefs[i].brief, network, -1, 0, briefs[i].same);
        g_free(path);
    }
}

CU_TestInfo channel_tests[] = {
    {"a network without channels is one with them silent", cutting_is_silence},
    {"the demo's networks", demo_networks_are_cut},
    CU_TEST_INFO_NULL,
};
