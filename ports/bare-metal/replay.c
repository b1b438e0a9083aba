/* replay MODEL FRAMES: runs every frame of a file (frames one behind the other, as the camera gives
 * them) and prints, in lines of words:
 *
 *     model INDEX
 *     scores FRAME S0 S1 ...          each from 0 to 2^30
 *     layer INDEX TICKS SUM STACK     of the first frame; SUM, a CRC-32 as an int32, of its
 *                                     output; 0 if it is streamed; STACK, the deepest byte used
 *     prepare TICKS STACK             of the first frame: what is not in a layer
 *     scale WAY WIDTH HEIGHT TICKS    a picture of the camera brought to the frame's size, by
 *                                     that nsk_resample
 *     frame-check WIDTH HEIGHT TICKS  looked at
 *     check TICKS                     the model looked at
 *
 * MODEL may be several model files, one behind another, each from a multiple of 16 bytes on: then
 * FRAMES holds one frame of each, without gaps.
 */
#include "board.h"

#include <string.h>

#include "format.h"
#include "netsuke/firmware.h"
#include "netsuke/link.h"

enum {
    MOST_MODEL = 1 << 20,
    MOST_FRAMES = 1 << 20,
    MOST_WORKSPACE = 1 << 20,
    MOST_LAYERS = 256,
    MOST_ROW = 4096
};

static uint32_t model_bytes[MOST_MODEL / 4];
static uint8_t frames[MOST_FRAMES];
/* Behind what the model asks for nothing may be written. */
enum { GUARD_WORDS = 1024, GUARD = 0x5a5a5a5a };
static uint32_t workspace[MOST_WORKSPACE / 4 + GUARD_WORDS];

typedef struct stopwatch {
    uint32_t start, in_layers;
    uint32_t aside;              /* ticks of the callbacks themselves */
    uint32_t ticks[MOST_LAYERS]; /* of all pieces of a streamed layer */
    uint32_t sum[MOST_LAYERS];   /* CRC-32 of what the layer left in its output */
    uint32_t stack[MOST_LAYERS];
    uint32_t prepare, prepare_stack;
} stopwatch;

static stopwatch watch;

static void before_layer(void *context, const nsk_model *model, unsigned layer) {
    stopwatch *w = context;
    uint32_t entered = timer_now();
    (void)model;
    (void)layer;
    stack_paint();
    w->start = timer_now();
    w->aside += timer_between(entered, w->start);
}

static void after_layer(void *context, const nsk_model *model, unsigned layer) {
    stopwatch *w = context;
    uint32_t left = timer_now();
    uint32_t used = stack_used();
    w->in_layers += timer_between(w->start, left);
    if (layer < MOST_LAYERS) {
        w->ticks[layer] += timer_between(w->start, left);
        w->stack[layer] = used > w->stack[layer] ? used : w->stack[layer];
        w->sum[layer] = nsk_output_sum(model, workspace, layer, UINT32_MAX);
    }
    w->aside += timer_between(left, timer_now());
}

static void run_frame(const nsk_model *model, const uint8_t *frame) {
    const nsk_observer observer = {before_layer, after_layer, &watch};
    size_t row = (size_t)model->width * model->channels;
    nsk_feed feed;
    memset(&watch, 0, sizeof watch);
    stack_mark();
    nsk_start(&feed, model, workspace, &observer);
    for (unsigned y = 0; y < model->height; y++) {
        if (y == 0) {
            stack_paint();
        }
        uint32_t start = timer_now();
        nsk_feed_rows(&feed, frame + y * row, row, 1);
        watch.prepare += timer_between(start, timer_now());
        watch.prepare_stack = y == 0 ? stack_used() : watch.prepare_stack;
    }
    watch.prepare -= watch.in_layers + watch.aside;
    nsk_run(model, workspace, &observer);
}

static void print_numbers(const char *word, const unsigned *numbers, int count) {
    board_print(word);
    for (int i = 0; i < count; i++) {
        board_print_number((int32_t)numbers[i]);
    }
    board_print("\n");
}

/* A picture of such rows, scaled in one way. */
static void print_scaling(const nsk_model *model, nsk_resample way, unsigned width, unsigned height,
                          const uint8_t *row) {
    static uint32_t sums[2 * MOST_ROW];
    static uint8_t frame_row[MOST_ROW];
    nsk_model its = *model;
    nsk_scaler scaler;
    uint32_t ticks = 0;
    its.resample = way;
    if (nsk_scaler_set(&scaler, &its, width, height, sums) != NSK_STATUS_OK) {
        return;
    }
    for (unsigned y = 0; y < height; y++) {
        uint32_t start = timer_now();
        nsk_scaler_put(&scaler, row);
        while (nsk_scaler_take(&scaler, frame_row)) {
        }
        ticks += timer_between(start, timer_now());
    }
    const unsigned numbers[] = {(unsigned)way, width, height, ticks};
    print_numbers("scale", numbers, 4);
}

static void print_frame_check(const nsk_model *model, unsigned width, unsigned height,
                              const uint8_t *row) {
    static uint32_t memory[2 * MOST_ROW];
    nsk_frame_check frame_check;
    uint32_t ticks = 0;
    if (nsk_frame_check_bytes(width, height, model->channels) > sizeof memory) {
        return;
    }
    nsk_frame_check_set(&frame_check, width, height, model->channels, memory);
    nsk_frame_check_start(&frame_check);
    for (unsigned y = 0; y < height; y++) {
        uint32_t start = timer_now();
        nsk_frame_check_row(&frame_check, row);
        ticks += timer_between(start, timer_now());
    }
    const unsigned numbers[] = {width, height, ticks};
    print_numbers("frame-check", numbers, 3);
}

/* What a product does around the model, for pictures as large as the frame, half as large again,
 * and twice as large. */
static void print_around(const nsk_model *model) {
    static uint8_t row[MOST_ROW];
    for (unsigned i = 0; i < MOST_ROW; i++) {
        row[i] = (uint8_t)(i * 73U % 251U);
    }
    for (unsigned half = 2; half <= 4; half++) {
        const unsigned width = model->width * half / 2U;
        const unsigned height = model->height * half / 2U;
        if (width * model->channels > MOST_ROW) {
            continue;
        }
        for (int way = 0; way < NSK_RESAMPLES; way++) {
            if (way == NSK_RESAMPLE_BILINEAR_SMOOTH && half == 2) {
                continue; /* nothing to smooth: it is by area */
            }
            print_scaling(model, (nsk_resample)way, width, height, row);
        }
        print_frame_check(model, width, height, row);
    }
    const uint32_t hash = nsk_hash_of(model);
    uint32_t start = timer_now();
    bool intact = nsk_intact(model, hash);
    board_print(intact ? "check" : "damaged");
    board_print_number((int32_t)timer_between(start, timer_now()));
    board_print("\n");
}

static void print_frame(const nsk_model *model, uint32_t index) {
    const int32_t *scores = nsk_scores(model, workspace);
    board_print("scores");
    board_print_number((int32_t)index);
    for (unsigned c = 0; c < model->classes; c++) {
        board_print_number(scores[c]);
    }
    board_print("\n");
}

static void print_costs(const nsk_model *model) {
    for (unsigned i = 0; i < model->layers && i < MOST_LAYERS; i++) {
        board_print("layer");
        board_print_number((int32_t)i);
        board_print_number((int32_t)watch.ticks[i]);
        board_print_number((int32_t)watch.sum[i]);
        board_print_number((int32_t)watch.stack[i]);
        board_print("\n");
    }
    board_print("prepare");
    board_print_number((int32_t)watch.prepare);
    board_print_number((int32_t)watch.prepare_stack);
    board_print("\n");
    print_around(model);
}

static bool guard_holds(const nsk_model *model, bool set) {
    uint32_t *guard = workspace + (model->workspace_bytes + 3U) / 4U;
    bool holds = true;
    for (int i = 0; i < GUARD_WORDS; i++) {
        holds = holds && guard[i] == GUARD;
        guard[i] = set ? GUARD : guard[i];
    }
    return holds;
}

static int complain(const char *text) {
    board_print(text);
    return 2;
}

/* All of `count` frames. */
static int run_frames(const nsk_model *model, const uint8_t *frame, uint32_t count) {
    const uint32_t bytes = (uint32_t)model->width * model->height * model->channels;
    guard_holds(model, true);
    for (uint32_t i = 0; i < count; i++, frame += bytes) {
        run_frame(model, frame);
        print_frame(model, i);
        if (i == 0) {
            print_costs(model);
        }
        if (!guard_holds(model, false)) {
            return complain("replay: a layer wrote behind the workspace\n");
        }
    }
    return 0;
}

/* How many of some bytes are those of the model that they begin with: all, where they are not
 * another's, too. */
static uint32_t own_bytes(const uint8_t *model, uint32_t bytes) {
    const uint32_t own = bytes < NSK_H_SIZE + 4U ? bytes : nsk_load32(model + NSK_H_SIZE);
    return own < bytes ? own : bytes;
}

static int run_models(uint32_t size, uint32_t have) {
    uint32_t begin = 0;
    uint32_t frame = 0;
    for (unsigned index = 0; begin < size || index == 0; index++) {
        nsk_model model;
        const uint8_t *bytes = (const uint8_t *)model_bytes + begin;
        const uint32_t own = own_bytes(bytes, size - begin);
        const nsk_status status = nsk_open(&model, bytes, own);
        if (status != NSK_STATUS_OK || model.workspace_bytes > MOST_WORKSPACE) {
            board_print("replay: the model is ");
            return complain(
                nsk_status_text(status == NSK_STATUS_OK ? NSK_STATUS_WORKSPACE_SMALL : status));
        }
        const uint32_t frame_bytes = (uint32_t)model.width * model.height * model.channels;
        if (have - frame < frame_bytes) {
            return complain("replay: no whole frame in the frames' file\n");
        }
        print_numbers("model", &index, 1);
        timer_start(); /* anew, as the interrupt at its end would be seen as a part of the stack */
        const int bad = run_frames(&model, frames + frame, own == size ? have / frame_bytes : 1U);
        if (bad != 0) {
            return bad;
        }
        begin += (own + 15U) & ~15U;
        frame += frame_bytes;
    }
    return 0;
}

int main(void) {
    char line[512];
    char *word[3] = {line, line, line};
    int words = 0;
    board_arguments(line, sizeof line);
    for (char *at = line; *at != '\0' && words < 3;) {
        word[words++] = at;
        while (*at != '\0' && *at != ' ') {
            at++;
        }
        if (*at == ' ') {
            *at++ = '\0';
        }
    }
    const uint32_t size =
        words == 3 ? board_read_file(word[1], model_bytes, sizeof model_bytes) : 0;
    const uint32_t have = words == 3 ? board_read_file(word[2], frames, sizeof frames) : 0;
    return run_models(size, have);
}
