/* replay MODEL FRAMES: runs every frame of a file (frames one behind the other, as the camera gives
 * them) and prints, in lines of words:
 *
 *     scores FRAME S0 S1 ...          each from -128 to 127
 *     layer INDEX TICKS SUM           of the first frame; SUM, a CRC-32 as an int32, of its output
 *     prepare TICKS                   of the first frame
 *     stack BYTES                     deepest use by nsk_prepare and nsk_run
 */
#include "board.h"

#include "crc.h"
#include "netsuke/device.h"

enum { MOST_MODEL = 1 << 20, MOST_FRAMES = 1 << 20, MOST_WORKSPACE = 1 << 20, MOST_LAYERS = 256 };

static uint32_t model_bytes[MOST_MODEL / 4];
static uint8_t frames[MOST_FRAMES];
static uint32_t workspace[MOST_WORKSPACE / 4];

typedef struct stopwatch {
    uint32_t last;
    uint32_t ticks[MOST_LAYERS];
    uint32_t sum[MOST_LAYERS]; /* CRC-32 of what the layer left in its output */
} stopwatch;

static stopwatch watch;

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
    stopwatch *w = context;
    uint32_t now = timer_now();
    if (layer < MOST_LAYERS) {
        nsk_tensor out = nsk_tensor_at(model, nsk_layer_output(model, layer));
        const uint8_t *bytes = (const uint8_t *)workspace + out.place;
        w->ticks[layer] = timer_between(w->last, now);
        w->sum[layer] = nsk_crc32(0, bytes, (size_t)out.height * out.width * out.channels);
    }
    w->last = timer_now();
}

static void run_frame(const nsk_model *model, const uint8_t *frame, uint32_t *prepare_ticks) {
    const nsk_observer observer = {after_layer, &watch};
    uint32_t start = timer_now();
    nsk_prepare(model, frame, (size_t)model->width * model->channels, workspace);
    watch.last = timer_now();
    *prepare_ticks = timer_between(start, watch.last);
    nsk_run(model, workspace, &observer);
}

static void print_frame(const nsk_model *model, uint32_t index) {
    const int8_t *scores = nsk_scores(model, workspace);
    board_print("scores");
    print_number((int32_t)index);
    for (unsigned c = 0; c < model->classes; c++) {
        print_number(scores[c]);
    }
    board_print("\n");
}

static void print_costs(const nsk_model *model, uint32_t prepare_ticks) {
    for (unsigned i = 0; i < model->layers && i < MOST_LAYERS; i++) {
        board_print("layer");
        print_number((int32_t)i);
        print_number((int32_t)watch.ticks[i]);
        print_number((int32_t)watch.sum[i]);
        board_print("\n");
    }
    board_print("prepare");
    print_number((int32_t)prepare_ticks);
    board_print("\nstack");
    print_number((int32_t)stack_used());
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
