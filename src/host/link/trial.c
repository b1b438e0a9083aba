/* A model on a board, held against this machine: scores, time, stack. */
#include <stdlib.h>
#include <string.h>

#include "base/base.h"
#include "link/board.h"

/* What a trial works with. */
typedef struct bench {
    nsk_on_board *board;
    nsk_model model; /* in the usual order: the host is quick with it */
    void *workspace;
    uint8_t *frame;
    int32_t *said;          /* the board's scores */
    nsk_link_layer *layers; /* the board's, the preparation last */
    double *ticks;          /* [frame][layer and preparation], and [frame] in all behind them */
} bench;

static void free_bench(bench *b) {
    g_free(b->workspace);
    g_free(b->frame);
    g_free(b->said);
    g_free(b->layers);
    g_free(b->ticks);
}

/* ---- all frames ---- */

static bool try_frame(bench *b, nsk_trial *t, nsk_error *error) {
    const size_t bytes = b->model.classes * sizeof *b->said;
    const size_t columns = (size_t)b->model.layers + 2;
    nsk_prepare(&b->model, b->frame, (size_t)b->model.width * b->model.channels, b->workspace);
    nsk_run(&b->model, b->workspace, NULL);
    nsk_kept *kept = b->board->kept;
    const bool known = kept != NULL && nsk_kept_find(kept, b->frame, b->said, b->layers);
    if (!known && !nsk_on_board_run(b->board, &b->model, b->frame, 0, b->said, b->layers, error)) {
        return false;
    }
    double *ticks = b->ticks + (size_t)t->frames * columns;
    for (int i = 0; i <= b->model.layers; i++) {
        ticks[i] = b->layers[i].ticks;
        ticks[columns - 1] += ticks[i];
        t->stack[i] = MAX(t->stack[i], (double)b->layers[i].stack);
        t->deepest = MAX(t->deepest, t->stack[i]);
    }
    const bool same = memcmp(nsk_scores(&b->model, b->workspace), b->said, bytes) == 0;
    if (same && !known && kept != NULL &&
        !nsk_kept_add(kept, b->frame, b->said, b->layers, error)) {
        return false;
    }
    if (!same) {
        t->differ++;
        if (t->first < 0) {
            t->first = t->frames;
            nsk_difference_find(b->board, &b->model, b->frame, b->said, &t->difference, error);
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
    b.ticks = g_new0(double, (gsize)frames *columns);
    nsk_trial *t = g_new0(nsk_trial, 1);
    t->layers = b.model.layers;
    t->ticks = g_new0(double, columns);
    t->stack = g_new0(double, columns);
    t->first = -1;
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
