/* A model on a board, held against this machine: scores, time, stack; and where a frame differs,
 * the layer and the element in which that begins. */
#include <stdlib.h>
#include <string.h>

#include "device/crc.h"
#include "device/layer.h"
#include "link/message.h"
#include "netsuke/on_board.h"

/* What a trial works with. */
typedef struct bench {
    nsk_on_board *board;
    nsk_model model; /* in the usual order: the host is quick with it */
    void *workspace;
    uint8_t *frame;
    int32_t *said;          /* the board's scores */
    nsk_link_layer *layers; /* the board's, the preparation last */
    uint32_t *sums;         /* the host's, of each layer */
    uint32_t elements;      /* that they go over */
    double *ticks;          /* [frame][layer and preparation], and [frame] in all behind them */
} bench;

static void free_bench(bench *b) {
    g_free(b->workspace);
    g_free(b->frame);
    g_free(b->said);
    g_free(b->layers);
    g_free(b->sums);
    g_free(b->ticks);
}

/* ---- this machine ---- */

static void note_sum(void *context, const nsk_model *model, unsigned layer) {
    bench *b = context;
    b->sums[layer] = nsk_output_sum(model, b->workspace, layer, b->elements);
}

static void run_here(bench *b, uint32_t elements) {
    const nsk_observer observer = {NULL, note_sum, b};
    nsk_feed feed;
    b->elements = elements;
    nsk_start(&feed, &b->model, b->workspace, NULL);
    nsk_feed_rows(&feed, b->frame, (size_t)b->model.width * b->model.channels, b->model.height);
    nsk_run(&b->model, b->workspace, &observer);
}

static bool run_there(bench *b, uint32_t elements, nsk_error *error) {
    return nsk_on_board_run(b->board, &b->model, b->frame, elements, b->said, b->layers, error);
}

/* ---- where a frame differs ---- */

/* The first layer whose output does, of its first elements; -1 where none does. Those that stream
 * cannot be looked at. */
static int first_layer(bench *b, uint32_t elements, nsk_error *error) {
    run_here(b, elements);
    if (!run_there(b, elements, error)) {
        return -1;
    }
    for (int i = b->model.streamed; i < b->model.layers; i++) {
        if (b->layers[i].sum != b->sums[i]) {
            return i;
        }
    }
    return -1;
}

/* Looks for the byte with which the board's checksum over one element more comes out. */
static bool level_of(uint32_t before, uint32_t sum, int *level) {
    for (int i = -128; i <= 127; i++) {
        const uint8_t byte = (uint8_t)i;
        if (nsk_crc32(before, &byte, 1) == sum) {
            *level = i;
            return true;
        }
    }
    return false;
}

/* The number of an output's elements that are still the same. */
static uint32_t same_elements(bench *b, int layer, uint32_t all, nsk_error *error) {
    uint32_t same = 0;
    for (uint32_t wrong = all; wrong - same > 1;) {
        const uint32_t middle = same + (wrong - same) / 2;
        run_here(b, middle);
        if (!run_there(b, middle, error)) {
            return 0;
        }
        *(b->layers[layer].sum == b->sums[layer] ? &same : &wrong) = middle;
    }
    return same;
}

static void find_element(bench *b, nsk_trial *t, nsk_error *error) {
    const nsk_tensor out =
        nsk_tensor_at(&b->model, nsk_layer_output(&b->model, (unsigned)t->layer));
    const uint32_t all = (uint32_t)out.height * out.width * out.channels;
    const uint32_t same = same_elements(b, t->layer, all, error);
    run_here(b, same);
    const uint32_t before = b->sums[t->layer];
    run_here(b, same + 1);
    t->row = (int)(same / out.channels / out.width);
    t->column = (int)(same / out.channels % out.width);
    t->channel = (int)(same % out.channels);
    if (out.element == 1 && run_there(b, same + 1, error)) {
        t->has_level = level_of(before, b->sums[t->layer], &t->levels[0]) &&
                       level_of(before, b->layers[t->layer].sum, &t->levels[1]);
    }
}

static void look_into(bench *b, nsk_trial *t, int frame, nsk_error *error) {
    const int32_t *wanted = nsk_scores(&b->model, b->workspace);
    t->first = frame;
    for (int c = 0; c < b->model.classes; c++) {
        if (b->said[c] != wanted[c]) {
            t->score = c;
            t->scores[0] = wanted[c];
            t->scores[1] = b->said[c];
            break;
        }
    }
    t->layer = first_layer(b, UINT32_MAX, error);
    if (t->layer >= 0) {
        find_element(b, t, error);
    }
}

/* ---- all frames ---- */

static bool try_frame(bench *b, nsk_trial *t, nsk_error *error) {
    const size_t bytes = b->model.classes * sizeof *b->said;
    const size_t columns = (size_t)b->model.layers + 2;
    run_here(b, 0);
    if (!run_there(b, 0, error)) {
        return false;
    }
    double *ticks = b->ticks + (size_t)t->frames * columns;
    for (int i = 0; i <= b->model.layers; i++) {
        ticks[i] = b->layers[i].ticks;
        ticks[columns - 1] += ticks[i];
        t->stack[i] = MAX(t->stack[i], (double)b->layers[i].stack);
        t->deepest = MAX(t->deepest, t->stack[i]);
    }
    if (memcmp(nsk_scores(&b->model, b->workspace), b->said, bytes) != 0) {
        t->differ++;
        if (t->first < 0) {
            look_into(b, t, t->frames, error);
        }
    }
    t->frames++;
    return true;
}

static int by_size(const void *a, const void *b) {
    const double *x = a;
    const double *y = b;
    return (*x > *y) - (*x < *y);
}

/* One column over the frames, in order. g_free. */
static double *sorted(const bench *b, int frames, size_t column) {
    const size_t columns = (size_t)b->model.layers + 2;
    double *values = g_new(double, MAX(frames, 1));
    for (int i = 0; i < frames; i++) {
        values[i] = b->ticks[(size_t)i * columns + column];
    }
    qsort(values, (size_t)frames, sizeof *values, by_size);
    return values;
}

static void conclude(const bench *b, nsk_trial *t) {
    for (int i = 0; i <= b->model.layers + 1 && t->frames > 0; i++) {
        double *values = sorted(b, t->frames, (size_t)i);
        if (i <= b->model.layers) {
            t->ticks[i] = values[t->frames / 2];
        } else {
            t->total[0] = values[0];
            t->total[1] = values[t->frames / 2];
            t->total[2] = values[t->frames - 1];
        }
        g_free(values);
    }
    nsk_on_board_counts(b->board, &t->requests, &t->repeated);
}

nsk_trial *nsk_trial_run(nsk_on_board *board, const nsk_model_file *model, const nsk_images *images,
                         int frames, nsk_progress progress, void *context, nsk_error *error) {
    bench b = {.board = board};
    const int all = nsk_images_count(images);
    frames = MIN(frames, all);
    if (nsk_open(&b.model, model->bytes, model->size) != NSK_STATUS_OK ||
        !nsk_on_board_runs(board, model, error)) {
        return NULL;
    }
    const size_t columns = (size_t)b.model.layers + 2;
    b.workspace = g_malloc(b.model.workspace_bytes);
    b.frame = g_malloc(nsk_images_frame_bytes(images));
    b.said = g_new0(int32_t, b.model.classes);
    b.layers = g_new0(nsk_link_layer, b.model.layers + 1);
    b.sums = g_new0(uint32_t, b.model.layers);
    b.ticks = g_new0(double, (gsize)frames *columns);
    nsk_trial *t = g_new0(nsk_trial, 1);
    t->layers = b.model.layers;
    t->ticks = g_new0(double, columns);
    t->stack = g_new0(double, columns);
    t->first = t->layer = -1;
    bool good = true;
    for (int i = 0; i < frames && good; i++) {
        const int image = (int)((gint64)i * all / frames);
        good = nsk_images_frame(images, image, b.frame, error) && try_frame(&b, t, error);
        if (progress != NULL) {
            progress(context, i + 1, frames);
        }
    }
    t->broken = !good;
    conclude(&b, t);
    free_bench(&b);
    return t;
}

void nsk_trial_free(nsk_trial *trial) {
    if (trial != NULL) {
        g_free(trial->ticks);
        g_free(trial->stack);
        g_free(trial);
    }
}
