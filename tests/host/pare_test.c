/* What paring is made of: numbers that come home, networks written, prices, and a small ladder. */
#include <math.h>
#include <omp.h>
#include <stdlib.h>
#include <string.h>

#include "../suites.h"
#include "../support.h"
#include "channels/channels.h"
#include "netsuke/pare.h"
#include "network/network.h"
#include "pare/price.h"
#include "pare/step.h"
#include "pare/worth.h"
#include "pipeline/homes.h"
#include "scene.h"

static const char *const networks[] = {"kiln",       "kiln-gated",       "kiln-third",
                                       "kiln-large", "kiln-transformer", "kiln-mixer"};

static nsk_network *read_demo(const char *name) {
    nsk_error error = {.text = ""};
    char *path = g_strdup_printf(NSK_SOURCE_DIR "/demo/%s.onnx", name);
    nsk_input input = {.width = 48, .height = 48, .deviation = {1, 1, 1}, .top = 1};
    nsk_network *network = nsk_network_read(path, &input, NULL, &error);
    assert_error(&error, "");
    CU_ASSERT_PTR_NOT_NULL_FATAL(network);
    g_free(path);
    return network;
}

static nsk_lowered *lower(const nsk_graph *graph) {
    nsk_error error = {.text = ""};
    nsk_lowered *lowered = nsk_lower_and_join(graph, &error);
    assert_error(&error, "");
    CU_ASSERT_PTR_NOT_NULL_FATAL(lowered);
    return lowered;
}

/* What became of the layers' numbers, once the graph is lowered again. */
static void numbers_come_home(void) {
    for (size_t i = 0; i < G_N_ELEMENTS(networks); i++) {
        nsk_error error = {.text = ""};
        nsk_network *network = read_demo(networks[i]);
        nsk_graph_own_constants(network->graph);
        nsk_lowered *before = lower(network->graph);
        nsk_homes *homes = nsk_homes_find(network->graph, &error);
        CU_ASSERT_PTR_NOT_NULL_FATAL(homes);
        for (int k = 0; k < (int)before->layers->len; k++) {
            nsk_lowered_layer *l = nsk_lowered_layer_at(before, k);
            const int channels = nsk_lowered_tensor_at(before, l->out)->channels;
            CU_ASSERT(!nsk_homes_none(homes)[k]);
            for (int w = 0; l->weights != NULL && w < l->taps * channels; w++) {
                l->weights[w] = l->weights[w] * 2.0F + (float)w;
            }
            for (int c = 0; l->bias != NULL && c < channels; c++) {
                l->bias[c] += (float)(c + 1);
            }
        }
        nsk_homes_bring_back(homes, before, network->graph);
        nsk_lowered *after = lower(network->graph);
        for (int k = 0; k < (int)before->layers->len; k++) {
            const nsk_lowered_layer *a = nsk_lowered_layer_at(before, k);
            const nsk_lowered_layer *b = nsk_lowered_layer_at(after, k);
            const size_t channels = (size_t)nsk_lowered_tensor_at(before, a->out)->channels;
            CU_ASSERT(a->weights == NULL ||
                      memcmp(a->weights, b->weights, channels * (size_t)a->taps * sizeof(float)) ==
                          0);
            CU_ASSERT(a->bias == NULL || memcmp(a->bias, b->bias, channels * sizeof(float)) == 0);
        }
        nsk_homes_free(homes);
        nsk_lowered_free(before);
        nsk_lowered_free(after);
        nsk_network_free(network);
    }
}

/* A network that was read, written and read again says the same. */
static void networks_are_written(void) {
    char *folder = scratch_new();
    for (size_t i = 0; i < G_N_ELEMENTS(networks); i++) {
        nsk_error error = {.text = ""};
        nsk_network *network = read_demo(networks[i]);
        const int classes = nsk_network_classes(network);
        char *path = scratch_path(folder, "again.onnx");
        nsk_input input = {.width = 48, .height = 48, .deviation = {1, 1, 1}, .top = 1};
        CU_ASSERT(nsk_network_write(network, path, &error));
        nsk_network *again = nsk_network_read(path, &input, NULL, &error);
        assert_error(&error, "");
        CU_ASSERT_PTR_NOT_NULL_FATAL(again);
        uint8_t frame[48 * 48 * 3];
        float said[2][16];
        random_state r = {i + 1};
        for (size_t k = 0; k < sizeof frame; k++) {
            frame[k] = (uint8_t)random_below(&r, 256);
        }
        CU_ASSERT(nsk_network_score(network, &input, frame, said[0], &error));
        CU_ASSERT(nsk_network_score(again, &input, frame, said[1], &error));
        for (int c = 0; c < classes; c++) {
            CU_ASSERT_DOUBLE_EQUAL(said[0][c], said[1][c], 1e-6);
        }
        nsk_network_free(again);
        nsk_network_free(network);
        g_free(path);
    }
    scratch_remove(folder);
}

/* ---- on the kiln line ---- */

typedef struct ground {
    kiln k;
    nsk_error error;
    nsk_board *board;
    nsk_recipe recipe;
    nsk_limits limits;
    nsk_pare_ground ground;
    nsk_images *training, *judged;
    char *folder;
} ground;

static void ground_open(ground *g, int per_class) {
    kiln_load(&g->k, 20);
    nsk_network_free(g->k.network);
    g->error = (nsk_error){.text = ""};
    g->k.network = nsk_network_read(NSK_SOURCE_DIR "/demo/kiln-third.onnx", &g->k.brief->input,
                                    NULL, &g->error);
    g->board = nsk_board_read(NSK_SOURCE_DIR "/boards/trimmer.ini", &g->error);
    CU_ASSERT_PTR_NOT_NULL_FATAL(g->board);
    nsk_recipe_init(&g->recipe);
    nsk_limits_init(&g->limits);
    g->folder = scratch_new();
    g->training = kiln_fresh(&g->k, g->folder, 71, per_class * KILN_CLASSES);
    g->ground = (nsk_pare_ground){g->k.network, g->k.calibration, &g->recipe, g->board,
                                  NULL,         &g->limits,       &g->error};
}

static void ground_close(ground *g) {
    assert_error(&g->error, "");
    nsk_images_free(g->training);
    nsk_board_free(g->board);
    scratch_remove(g->folder);
    kiln_free(&g->k);
}

/* What is reckoned for a network with nothing but zeroes is what the budget says of it. */
static void prices_are_budgets(void) {
    ground g = {.error = {.text = ""}};
    nsk_pipeline p;
    nsk_price price;
    ground_open(&g, 6);
    g.recipe.equalise = false;
    CU_ASSERT_FATAL(nsk_pipeline_start(&p, g.k.network, g.k.calibration, &g.recipe, &g.error));
    nsk_scale *scales = nsk_price_scales(&p);
    CU_ASSERT_FATAL(nsk_price_of(&g.ground, g.k.network->graph, scales, &price));
    nsk_model_file *model = nsk_quantise(g.k.network, g.k.calibration, &g.recipe, &g.error);
    nsk_budget *b = nsk_budget_make(model, g.board, NULL, &g.limits, &g.error);
    CU_ASSERT_PTR_NOT_NULL_FATAL(b);
    CU_ASSERT_DOUBLE_EQUAL(price.of[NSK_LIMIT_FLASH], b->flash, 0.0);
    CU_ASSERT_DOUBLE_EQUAL(price.of[NSK_LIMIT_RAM], b->ram, 0.0);
    CU_ASSERT(b->seconds_high > b->seconds);
    CU_ASSERT_DOUBLE_EQUAL(price.of[NSK_LIMIT_LATENCY], b->seconds_high, 0.0);
    nsk_budget_free(b);
    nsk_model_file_free(model);
    g_free(scales);
    nsk_pipeline_clear(&p);
    ground_close(&g);
}

/* A channel that nobody listens to is worth nothing, and is the first to go. */
static void worthless_channels_go_first(void) {
    ground g = {.error = {.text = ""}};
    nsk_pipeline p;
    ground_open(&g, 6);
    nsk_graph *graph = g.k.network->graph;
    nsk_graph_own_constants(graph);
    nsk_channels *c = nsk_channels_find(graph);
    int deaf = NSK_NONE; /* the third channel of the last convolution */
    for (int v = 0; v < c->values; v++) {
        const nsk_node *node = nsk_graph_producer(graph, v);
        if (node != NULL && node->op == NSK_OP_CONV && c->places[v].at[1] != NULL) {
            deaf = c->places[v].at[1][2];
        }
    }
    for (int i = 0; i < (int)graph->nodes->len; i++) {
        const nsk_node *node = nsk_graph_node(graph, i);
        nsk_value *w = node->op == NSK_OP_GEMM ? nsk_graph_value(graph, node->input[1]) : NULL;
        for (size_t k = 0; w != NULL && k < nsk_value_count(w); k++) {
            const int axis = node->attributes.transpose_b ? 1 : 0;
            const size_t at = axis == 1 ? k % (size_t)w->dims[1] : k / (size_t)w->dims[1];
            w->data[k] = c->places[node->input[1]].at[axis][at] == deaf ? 0.0F : w->data[k];
        }
    }
    g.recipe.equalise = false;
    CU_ASSERT_FATAL(nsk_pipeline_start(&p, g.k.network, g.k.calibration, &g.recipe, &g.error));
    nsk_lesson *lesson = nsk_lesson_new(g.k.network, g.training, 0.5, &g.error);
    double *worth = nsk_worth_of(&p, c, lesson, &g.error);
    nsk_scale *scales = nsk_price_scales(&p);
    CU_ASSERT_PTR_NOT_NULL_FATAL(worth);
    int nothing = 0;
    for (int i = 0; i < c->count; i++) {
        nothing += worth[i] <= 0.0;
    }
    CU_ASSERT(deaf != NSK_NONE && worth[deaf] <= 0.0);
    CU_ASSERT(nothing < c->count / 4);
    nsk_price price;
    bool ended;
    bool *gone = g_new0(bool, c->count);
    CU_ASSERT(nsk_price_of(&g.ground, graph, scales, &price));
    const nsk_price before = price;
    const nsk_pare_goal goal = {{price.of[NSK_LIMIT_FLASH] * 0.9, INFINITY, INFINITY}};
    const nsk_pare_scene chosen_by = {&g.ground, graph, scales, c, worth, &goal};
    CU_ASSERT(nsk_pare_choose(&chosen_by, 0.001, gone, &price, &ended));
    CU_ASSERT(gone[deaf] && !ended);
    CU_ASSERT(price.of[NSK_LIMIT_FLASH] < before.of[NSK_LIMIT_FLASH]);
    nsk_price again;
    CU_ASSERT(nsk_price_without(&g.ground, graph, scales, c, gone, &again));
    CU_ASSERT_DOUBLE_EQUAL(again.of[NSK_LIMIT_FLASH], price.of[NSK_LIMIT_FLASH], 0.0);
    g_free(gone);
    g_free(worth);
    g_free(scales);
    nsk_lesson_free(lesson);
    nsk_pipeline_clear(&p);
    nsk_channels_free(c);
    ground_close(&g);
}

static nsk_ladder *pare(ground *g, int rungs, int epochs) {
    const nsk_paring how = {.training = g->training,
                            .judged = g->k.calibration,
                            .rungs = rungs,
                            .epochs = epochs,
                            .rate = NSK_PARE_RATE,
                            .trust = NSK_PARE_TRUST,
                            .seed = 1};
    nsk_ladder *l = nsk_pare(g->k.network, g->k.calibration, &g->recipe, g->board, NULL, &g->limits,
                             &how, &g->error);
    assert_error(&g->error, "");
    CU_ASSERT_PTR_NOT_NULL_FATAL(l);
    return l;
}

/* It goes down to each limit and past it, says which rung is the first to fit, and gives the same
 * bytes on any number of threads. */
static void ladders_reach_limits(void) {
    ground g = {.error = {.text = ""}};
    const int threads = omp_get_max_threads();
    nsk_ladder *both[2];
    ground_open(&g, 20);
    g.limits.latency = 14e-3;
    for (int i = 0; i < 2; i++) {
        omp_set_num_threads(1 + 2 * i);
        both[i] = pare(&g, 4, 1);
    }
    omp_set_num_threads(threads);
    CU_ASSERT_EQUAL(both[0]->rungs, 4);
    CU_ASSERT(both[0]->first == 0 || both[0]->first == 3 ||
              both[0]->rung[both[0]->first - 1].budget->seconds_high > 14e-3);
    for (int i = 0; i < both[0]->rungs; i++) {
        const nsk_rung *r = &both[0]->rung[i];
        CU_ASSERT(r->fits == (r->budget->seconds_high <= 14e-3));
        CU_ASSERT(i == 0 || r->budget->seconds < r[-1].budget->seconds);
        CU_ASSERT(i == 0 || r->macs < r[-1].macs);
        CU_ASSERT(r->model->size == both[1]->rung[i].model->size &&
                  memcmp(r->model->bytes, both[1]->rung[i].model->bytes, r->model->size) == 0);
    }
    CU_ASSERT(both[0]->rung[3].fits);
    nsk_ladder_free(both[0]);
    nsk_ladder_free(both[1]);
    ground_close(&g);
}

/* RAM is what several tensors take together. */
static void ladders_save_ram(void) {
    ground g = {.error = {.text = ""}};
    ground_open(&g, 10);
    g.recipe.streaming = NSK_STREAMING_NEVER;
    nsk_ladder *l = pare(&g, 2, 1);
    const double ram = l->rung[0].budget->ram;
    nsk_ladder_free(l);
    g.limits.ram = ram - 300.0;
    l = pare(&g, 2, 1);
    CU_ASSERT(!l->rung[0].fits && l->rung[1].fits && l->first == 1);
    CU_ASSERT(l->rung[1].budget->ram <= ram - 300.0);
    nsk_ladder_free(l);
    ground_close(&g);
}

CU_TestInfo pare_tests[] = {
    {"what is learned of layers comes home", numbers_come_home},
    {"networks are written in float", networks_are_written},
    {"a price is a budget", prices_are_budgets},
    {"channels that nobody listens to go first", worthless_channels_go_first},
    {"a ladder reaches its limits, on any threads", ladders_reach_limits},
    {"a ladder saves RAM", ladders_save_ram},
    CU_TEST_INFO_NULL,
};
