/* Runs the frames that came along and compares every score with what the host computed. Prints, in
 * lines of words:
 *
 *     network NAME
 *     prepare TICKS               of the first frame
 *     layer INDEX TICKS NAME      of the first frame, layer by layer
 *     scores FRAME S0 S1 ...      each from -128 to 127
 *     stack BYTES                 deepest use, where the board can tell it
 *     passed, or FAILED and the number of frames whose scores differ
 *
 * A tick is what board.h's timer counts: nanoseconds on a host, on an emulated core what its timer
 * ticks by. Returns 0 when everything is equal. */
#include "self_test.h"

#include "board.h"

enum { MOST_LAYERS = 256 };

typedef struct stopwatch {
    uint32_t last;
    uint32_t ticks[MOST_LAYERS];
} stopwatch;

static void print_number(int32_t number) {
    char text[13];
    char *at = text + sizeof text - 1;
    uint32_t rest = number < 0 ? 0U - (uint32_t)number : (uint32_t)number;
    *at = '\0';
    do {
        *--at = (char)('0' + rest % 10U);
        rest /= 10U;
    } while (rest > 0);
    if (number < 0) {
        *--at = '-';
    }
    *--at = ' ';
    board_print(at);
}

static void after_layer(void *context, const nsk_model *model, unsigned layer) {
    stopwatch *w = (stopwatch *)context;
    uint32_t now = timer_now();
    (void)model;
    if (layer < MOST_LAYERS) {
        w->ticks[layer] = timer_between(w->last, now);
    }
    w->last = timer_now();
}

static void print_ticks(const nsk_model *model, uint32_t prepare, const stopwatch *watch) {
    board_print("prepare");
    print_number((int32_t)prepare);
    for (unsigned i = 0; i < model->layers && i < MOST_LAYERS; i++) {
        board_print("\nlayer");
        print_number((int32_t)i);
        print_number((int32_t)watch->ticks[i]);
        board_print(" ");
        board_print(nsk_layer_name(model, i));
    }
    board_print("\n");
}

/* Whether the scores are those that were expected. */
static bool run_frame(const nsk_model *model, const self_test_network *network, unsigned index) {
    static stopwatch watch;
    size_t row = (size_t)model->width * model->channels;
    const nsk_observer observer = {after_layer, &watch};
    const int8_t *expected = network->expected + (size_t)index * model->classes;
    uint32_t start = timer_now();
    nsk_prepare(model, network->frame + index * row * model->height, row, self_test_workspace);
    watch.last = timer_now();
    uint32_t prepare = timer_between(start, watch.last);
    nsk_run(model, self_test_workspace, &observer);
    if (index == 0) {
        print_ticks(model, prepare, &watch);
    }
    const int8_t *scores = nsk_scores(model, self_test_workspace);
    bool same = true;
    board_print("scores");
    print_number((int32_t)index);
    for (unsigned c = 0; c < model->classes; c++) {
        print_number(scores[c]);
        same = same && scores[c] == expected[c];
    }
    board_print(same ? "\n" : " differ\n");
    return same;
}

static int run_network(const self_test_network *network) {
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
        wrong += !run_frame(&model, network, i);
    }
    return wrong;
}

int main(void) {
    int wrong = 0;
    timer_start();
    stack_paint();
    for (unsigned i = 0; i < self_test_count; i++) {
        wrong += run_network(&self_test_networks[i]);
    }
    if (stack_used() > 0) {
        board_print("stack");
        print_number((int32_t)stack_used());
        board_print("\n");
    }
    board_print(wrong == 0 ? "passed" : "FAILED");
    if (wrong > 0) {
        print_number(wrong);
    }
    board_print("\n");
    return wrong == 0 ? 0 : 1;
}
