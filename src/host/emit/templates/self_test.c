/* Runs the frames that came along and compares every score with what the host computed. Prints, in
 * lines of words:
 *
 *     network NAME
 *     prepare TICKS               of the first frame: what is not in a layer
 *     layer INDEX TICKS NAME      of the first frame, layer by layer
 *     scores FRAME S0 S1 ...      each from -128 to 127
 *     stack BYTES                 that the runtime used at its deepest, where the board can tell it
 *     passed, or FAILED and the number of frames whose scores differ
 *
 * A tick is what board.h's timer counts: nanoseconds on a host, on an emulated core what its timer
 * ticks by. Returns 0 when everything is equal. */
#include "self_test.h"

#include <string.h>

#include "board.h"

enum { MOST_LAYERS = 256 };

typedef struct stopwatch {
    uint32_t start, in_layers;
    uint32_t ticks[MOST_LAYERS]; /* of all pieces of a streamed layer */
} stopwatch;

static void before_layer(void *context, const nsk_model *model, unsigned layer) {
    stopwatch *w = (stopwatch *)context;
    (void)model;
    (void)layer;
    w->start = timer_now();
}

static void after_layer(void *context, const nsk_model *model, unsigned layer) {
    stopwatch *w = (stopwatch *)context;
    uint32_t ticks = timer_between(w->start, timer_now());
    (void)model;
    w->in_layers += ticks;
    if (layer < MOST_LAYERS) {
        w->ticks[layer] += ticks;
    }
}

static void print_ticks(const nsk_model *model, uint32_t prepare, const stopwatch *watch) {
    board_print("prepare");
    board_print_number((int32_t)prepare);
    for (unsigned i = 0; i < model->layers && i < MOST_LAYERS; i++) {
        board_print("\nlayer");
        board_print_number((int32_t)i);
        board_print_number((int32_t)watch->ticks[i]);
        board_print(" ");
        board_print(nsk_layer_name(model, i));
    }
    board_print("\n");
}

/* Whether the scores are those that were expected. */
static bool run_frame(const nsk_model *model, const self_test_network *network, unsigned index,
                      uint32_t *stack) {
    static stopwatch watch;
    size_t row = (size_t)model->width * model->channels;
    const nsk_observer observer = {before_layer, after_layer, &watch};
    const int8_t *expected = network->expected + (size_t)index * model->classes;
    nsk_feed feed;
    memset(&watch, 0, sizeof watch);
    uint32_t prepare = 0;
    const uint8_t *frame = network->frame + index * row * model->height;
    stack_mark();
    stack_paint();
    nsk_start(&feed, model, self_test_workspace, &observer);
    for (unsigned y = 0; y < model->height; y++, frame += row) { /* as a camera gives them */
        uint32_t start = timer_now();
        nsk_feed_rows(&feed, frame, row, 1);
        prepare += timer_between(start, timer_now());
    }
    prepare -= watch.in_layers;
    nsk_run(model, self_test_workspace, &observer);
    *stack = stack_used() > *stack ? stack_used() : *stack;
    if (index == 0) {
        print_ticks(model, prepare, &watch);
    }
    const int8_t *scores = nsk_scores(model, self_test_workspace);
    bool same = true;
    board_print("scores");
    board_print_number((int32_t)index);
    for (unsigned c = 0; c < model->classes; c++) {
        board_print_number(scores[c]);
        same = same && scores[c] == expected[c];
    }
    board_print(same ? "\n" : " differ\n");
    return same;
}

static int run_network(const self_test_network *network, uint32_t *stack) {
    nsk_model model;
    nsk_status status = nsk_open(&model, network->model, network->model_bytes);
    if (status == NSK_OK && model.workspace_bytes > self_test_workspace_bytes) {
        status = NSK_TOO_SMALL;
    }
    board_print("network ");
    board_print(network->name);
    board_print("\n");
    if (status != NSK_OK) {
        board_print("the model is ");
        board_print(nsk_status_text(status));
        board_print("\n");
        return 1;
    }
    int wrong = 0;
    for (unsigned i = 0; i < network->frames; i++) {
        wrong += !run_frame(&model, network, i, stack);
    }
    return wrong;
}

int main(void) {
    int wrong = 0;
    uint32_t stack = 0;
    timer_start();
    for (unsigned i = 0; i < self_test_count; i++) {
        wrong += run_network(&self_test_networks[i], &stack);
    }
    if (stack > 0) {
        board_print("stack");
        board_print_number((int32_t)stack);
        board_print("\n");
    }
    board_print(wrong == 0 ? "passed" : "FAILED");
    if (wrong > 0) {
        board_print_number(wrong);
    }
    board_print("\n");
    return wrong == 0 ? 0 : 1;
}
