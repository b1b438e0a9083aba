/* replay MODEL FRAMES: runs every frame of a file (frames one behind the other, as the camera gives
 * them) and prints, in lines of words:
 *
 *     scores FRAME S0 S1 ...          each from -128 to 127
 *     layer INDEX TICKS SUM           of the first frame; SUM, a CRC-32 as an int32, of its
 *                                     output; 0 if it is streamed
 *     prepare TICKS                   of the first frame: what is not in a layer
 *     stack BYTES                     deepest use by nsk_feed_rows and nsk_run
 */
#include "board.h"

#include <string.h>

#include "crc.h"
#include "netsuke/device.h"

enum { MOST_MODEL = 1 << 20, MOST_FRAMES = 1 << 20, MOST_WORKSPACE = 1 << 20, MOST_LAYERS = 256 };

static uint32_t model_bytes[MOST_MODEL / 4];
static uint8_t frames[MOST_FRAMES];
static uint32_t workspace[MOST_WORKSPACE / 4];

typedef struct stopwatch {
    uint32_t start, in_layers;
    uint32_t ticks[MOST_LAYERS]; /* of all pieces of a streamed layer */
    uint32_t sum[MOST_LAYERS];   /* CRC-32 of what the layer left in its output */
} stopwatch;

static stopwatch watch;

static void before_layer(void *context, const nsk_model *model, unsigned layer) {
    stopwatch *w = context;
    (void)model;
    (void)layer;
    w->start = timer_now();
}

static void after_layer(void *context, const nsk_model *model, unsigned layer) {
    stopwatch *w = context;
    uint32_t now = timer_now();
    if (layer < MOST_LAYERS) {
        w->ticks[layer] += timer_between(w->start, now);
        w->in_layers += timer_between(w->start, now);
        w->sum[layer] = 0;
    }
    if (layer < MOST_LAYERS && layer >= model->streamed) { /* of others only some rows are there */
        nsk_tensor out = nsk_tensor_at(model, nsk_layer_output(model, layer));
        const uint8_t *bytes = (const uint8_t *)workspace + out.place;
        for (uint32_t pixel = 0; pixel < (uint32_t)out.height * out.width; pixel++) {
            w->sum[layer] = nsk_crc32(w->sum[layer], bytes + pixel * out.step, out.channels);
        }
    }
}

static void run_frame(const nsk_model *model, const uint8_t *frame, uint32_t *prepare_ticks) {
    const nsk_observer observer = {before_layer, after_layer, &watch};
    size_t row = (size_t)model->width * model->channels;
    nsk_feed feed;
    memset(&watch, 0, sizeof watch);
    uint32_t ticks = 0;
    nsk_start(&feed, model, workspace, &observer);
    for (unsigned y = 0; y < model->height; y++) { /* the timer holds a row's time, not a frame's */
        uint32_t start = timer_now();
        nsk_feed_rows(&feed, frame + y * row, row, 1);
        ticks += timer_between(start, timer_now());
    }
    *prepare_ticks = ticks - watch.in_layers;
    nsk_run(model, workspace, &observer);
}

static void print_frame(const nsk_model *model, uint32_t index) {
    const int8_t *scores = nsk_scores(model, workspace);
    board_print("scores");
    board_print_number((int32_t)index);
    for (unsigned c = 0; c < model->classes; c++) {
        board_print_number(scores[c]);
    }
    board_print("\n");
}

static void print_costs(const nsk_model *model, uint32_t prepare_ticks) {
    for (unsigned i = 0; i < model->layers && i < MOST_LAYERS; i++) {
        board_print("layer");
        board_print_number((int32_t)i);
        board_print_number((int32_t)watch.ticks[i]);
        board_print_number((int32_t)watch.sum[i]);
        board_print("\n");
    }
    board_print("prepare");
    board_print_number((int32_t)prepare_ticks);
    board_print("\nstack");
    board_print_number((int32_t)stack_used());
    board_print("\n");
}

static int complain(const char *text) {
    board_print(text);
    return 2;
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
    nsk_model model;
    uint32_t size = words == 3 ? board_read_file(word[1], model_bytes, sizeof model_bytes) : 0;
    nsk_status status = nsk_open(&model, model_bytes, size);
    if (status != NSK_OK || model.workspace_bytes > sizeof workspace) {
        board_print("replay: the model is ");
        return complain(nsk_status_text(status == NSK_OK ? NSK_TOO_SMALL : status));
    }
    uint32_t frame_bytes = (uint32_t)model.width * model.height * model.channels;
    uint32_t have = board_read_file(word[2], frames, sizeof frames);
    if (have < frame_bytes) {
        return complain("replay: no whole frame in the frames' file\n");
    }
    timer_start();
    for (uint32_t i = 0; i < have / frame_bytes; i++) {
        uint32_t prepare_ticks;
        stack_paint();
        run_frame(&model, frames + i * frame_bytes, &prepare_ticks);
        if (i == 0) {
            print_costs(&model, prepare_ticks);
        }
        print_frame(&model, i);
    }
    return 0;
}
