/* Runs the product's loop on pictures of the camera's size, and compares every decision with what
 * the host computed; then the frames that came along, and compares every score. Prints, in lines of
 * words:
 *
 *     step PICTURE FAULT LINE DECIDED     the loop's; "differ" behind one that does
 *     loop PICTURES
 *     network NAME
 *     prepare TICKS               of the first frame: what is not in a layer
 *     layer INDEX TICKS NAME      of the first frame, layer by layer
 *     scores FRAME S0 S1 ...      each from 0 to 2^30
 *     slices CALLS MOST TICKS     of the first frame in slices of what the dearest row costs, by
 *                                 estimate: the longest call took so many ticks; "differ" behind
 *                                 scores that do
 *     loop-stack BYTES            that the loop used at its deepest, where the board can tell it
 *     stack BYTES                 the same of the runtime by itself
 *     passed, or FAILED and the number of frames and pictures that differ
 *
 * A tick is what board.h's timer counts: nanoseconds on a host, on an emulated core what its timer
 * ticks by. Returns 0 when everything is equal. */
#include "self_test.h"

#include <string.h>

#include "board.h"
#include "test_camera.h"

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

static bool are_expected(const nsk_model *model, const int32_t *expected) {
    const int32_t *scores = nsk_scores(model, self_test_memory);
    return memcmp(scores, expected, model->classes * sizeof *scores) == 0;
}

/* Whether the scores are those that were expected. */
static bool run_frame(const nsk_model *model, const self_test_network *network, unsigned index,
                      uint32_t *stack) {
    static stopwatch watch;
    size_t row = (size_t)model->width * model->channels;
    const nsk_observer observer = {before_layer, after_layer, &watch};
    const int32_t *expected = network->expected + (size_t)index * model->classes;
    nsk_feed feed;
    memset(&watch, 0, sizeof watch);
    uint32_t prepare = 0;
    const uint8_t *frame = network->frame + index * row * model->height;
    stack_mark();
    stack_paint();
    nsk_start(&feed, model, self_test_memory, &observer);
    for (unsigned y = 0; y < model->height; y++, frame += row) { /* as a camera gives them */
        uint32_t start = timer_now();
        nsk_feed_rows(&feed, frame, row, 1);
        prepare += timer_between(start, timer_now());
    }
    prepare -= watch.in_layers;
    nsk_run(model, self_test_memory, &observer);
    *stack = stack_used() > *stack ? stack_used() : *stack;
    if (index == 0) {
        print_ticks(model, prepare, &watch);
    }
    const int32_t *scores = nsk_scores(model, self_test_memory);
    const bool same = are_expected(model, expected);
    board_print("scores");
    board_print_number((int32_t)index);
    for (unsigned c = 0; c < model->classes; c++) {
        board_print_number(scores[c]);
    }
    board_print(same ? "\n" : " differ\n");
    return same;
}

/* The first frame once more, in slices. */
static bool run_in_slices(const nsk_model *model, const self_test_network *network) {
    const size_t row = (size_t)model->width * model->channels;
    uint32_t most = 1;
    uint32_t longest = 0;
    int32_t calls = 0;
    bool done = false;
    nsk_feed feed;
    nsk_slices at;
    for (unsigned i = 0; i < model->layers; i++) {
        most = network->row_costs[i] > most ? network->row_costs[i] : most;
    }
    nsk_start(&feed, model, self_test_memory, NULL);
    nsk_feed_rows(&feed, network->frame, row, model->height);
    nsk_slices_start(&at, model);
    for (; !done; calls++) {
        const uint32_t start = timer_now();
        done = nsk_run_some(model, self_test_memory, &at, network->row_costs, most, NULL);
        const uint32_t ticks = timer_between(start, timer_now());
        longest = ticks > longest ? ticks : longest;
    }
    const bool same = are_expected(model, network->expected);
    board_print("slices");
    board_print_number(calls);
    board_print_number((int32_t)most);
    board_print_number((int32_t)longest);
    board_print(same ? "\n" : " differ\n");
    return same;
}

/* Where no frames came along, one of noise: for the depth of the stack, not for its scores. */
static void run_noise(const nsk_model *model, uint32_t *stack) {
    static test_camera camera;
    const size_t bytes = (size_t)model->width * model->channels;
    uint8_t *row = (uint8_t *)self_test_memory + (model->workspace_bytes + 3U) / 4U * 4U;
    nsk_feed feed;
    camera.width = camera.frame_width = model->width;
    camera.height = camera.frame_height = model->height;
    camera.channels = model->channels;
    stack_mark();
    stack_paint();
    nsk_start(&feed, model, self_test_memory, NULL);
    for (unsigned y = 0; y < model->height; y++) {
        test_camera_pixels(&camera, 0, y, row);
        nsk_feed_rows(&feed, row, bytes, 1);
    }
    nsk_run(model, self_test_memory, NULL);
    *stack = stack_used() > *stack ? stack_used() : *stack;
}

static int run_network(const self_test_network *network, uint32_t *stack) {
    nsk_model model;
    nsk_status status = nsk_open(&model, network->model, network->model_bytes);
    if (status == NSK_STATUS_OK && model.workspace_bytes > self_test_memory_bytes) {
        status = NSK_STATUS_WORKSPACE_SMALL;
    }
    board_print("network ");
    board_print(network->name);
    board_print("\n");
    if (status != NSK_STATUS_OK) {
        board_print("the model is ");
        board_print(nsk_status_text(status));
        board_print("\n");
        return 1;
    }
    int wrong = 0;
    if (network->frames == 0) {
        run_noise(&model, stack);
    }
    for (unsigned i = 0; i < network->frames; i++) {
        const bool same = run_frame(&model, network, i, stack);
        wrong += !same;
        wrong += i == 0 && !run_in_slices(&model, network) && same; /* a frame counts once */
    }
    return wrong;
}

/* ---- the product's loop ---- */

/* The port, on pictures that are made here. */
typedef struct test_port {
    const self_test_network *network;
    test_camera camera;
    size_t taken; /* of the memory, bytes */
    unsigned picture, step;
    int wrong;
} test_port;

static void *take_memory(void *context, size_t bytes) {
    test_port *t = (test_port *)context;
    uint8_t *memory = (uint8_t *)self_test_memory + t->taken;
    t->taken += (bytes + 3U) / 4U * 4U;
    return t->taken <= self_test_memory_bytes ? memory : NULL;
}

static nsk_row show_row(void *context, uint8_t *to, size_t bytes, unsigned y) {
    test_port *t = (test_port *)context;
    if (y == test_camera_first(&t->camera) && t->picture++ == t->network->step_count) {
        return NSK_ROW_END;
    }
    test_camera_row(&t->camera, t->picture - 1U, y, to, bytes);
    return NSK_ROW_THERE;
}

static void pass_prepared(void *context) {
    (void)context;
}

static void pass_layer(void *context, const nsk_model *model, unsigned layer) {
    (void)context;
    (void)model;
    (void)layer;
}

static void take_step(test_port *t, int fault, int line, int decided, int32_t sum) {
    const self_test_step *want = &t->network->step[t->step];
    bool same = t->step < t->network->step_count && want->fault == fault && want->line == line &&
                want->decided == decided && want->sum == sum;
    board_print("step");
    board_print_number((int32_t)t->step);
    board_print_number(fault);
    board_print_number(line);
    board_print_number(decided);
    board_print(same ? "\n" : " differ\n");
    t->step++;
    t->wrong += !same;
}

static void take_answer(void *context, const nsk_answered *answer) {
    uint32_t sum = 0;
    for (unsigned c = 0; c < answer->model->classes; c++) {
        sum += (c + 1U) * (uint32_t)answer->scores[c];
    }
    take_step((test_port *)context, 0, answer->line, answer->decided, (int32_t)sum);
}

static void take_fault(void *context, nsk_fault fault) {
    take_step((test_port *)context, (int)fault, 0, 0, 0);
}

/* The camera of the product, in front of frames of the model. */
static void set_camera(test_port *t, const nsk_model *model) {
    const nsk_firmware *f = t->network->firmware;
    t->camera.frames = t->network->frames > 0 ? t->network->frame : NULL;
    t->camera.frame_count = t->network->step_count / t->network->each; /* the first of them */
    t->camera.each = t->network->each;
    t->camera.frame_width = model->width;
    t->camera.frame_height = model->height;
    t->camera.channels = model->channels;
    t->camera.width = f->camera_width > 0 ? f->camera_width : model->width;
    t->camera.height = f->camera_height > 0 ? f->camera_height : model->height;
    t->camera.sensor = f->sensing != NULL ? &f->sensing->sensor : NULL;
}

static int run_loop(const self_test_network *network, uint32_t *stack) {
    static test_port t;
    static nsk_port port;
    nsk_model model;
    memset(&t, 0, sizeof t);
    t.network = network;
    port.context = &t;
    port.memory = take_memory;
    port.row = show_row;
    port.prepared = pass_prepared;
    port.layer_done = pass_layer;
    port.answer = take_answer;
    port.fault = take_fault;
    if (nsk_open(&model, network->model, network->model_bytes) != NSK_STATUS_OK) {
        return 1; /* as was said of its frames */
    }
    set_camera(&t, &model);
    stack_mark();
    stack_paint();
    nsk_status status = nsk_firmware_run(&port, network->firmware);
    *stack = stack_used() > *stack ? stack_used() : *stack;
    board_print("loop");
    board_print_number((int32_t)t.step);
    board_print(status == NSK_STATUS_OK ? "\n" : " cannot begin\n");
    return t.wrong + (status != NSK_STATUS_OK || t.step != network->step_count);
}

int main(void) {
    int wrong = 0;
    uint32_t stack = 0;
    uint32_t loop_stack = 0;
    for (unsigned i = 0; i < self_test_count;
         i++) { /* first: a timer's interrupt would be on its stack */
        wrong += run_loop(&self_test_networks[i], &loop_stack);
    }
    timer_start();
    for (unsigned i = 0; i < self_test_count; i++) {
        wrong += run_network(&self_test_networks[i], &stack);
    }
    if (loop_stack > 0) {
        board_print("loop-stack");
        board_print_number((int32_t)loop_stack);
        board_print("\n");
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
