/* A model that runs on a board wherever a command would run it here. */
#include <string.h>

#include "link/board.h"

static bool run_there(void *context, const uint8_t *frame, int32_t *scores, nsk_error *error) {
    nsk_taken *t = context;
    const size_t bytes = t->model.classes * sizeof *scores;
    nsk_kept *kept = t->board->kept;
    if (kept != NULL && nsk_kept_find(kept, frame, t->said, NULL)) {
        t->frames++;
        return true;
    }
    if (!nsk_on_board_run(t->board, &t->model, frame, 0, t->said, NULL, error)) {
        return false;
    }
    const bool same = memcmp(scores, t->said, bytes) == 0;
    if (same && kept != NULL && !nsk_kept_add(kept, frame, t->said, NULL, error)) {
        return false;
    }
    if (!same && t->differ++ == 0) {
        nsk_difference difference;
        nsk_difference_find(t->board, &t->model, frame, t->said, &difference, error);
        t->first = nsk_difference_text(&difference, &t->model);
    }
    t->frames++;
    memcpy(scores, t->said, bytes);
    return true;
}

bool nsk_on_board_take(nsk_on_board *board, nsk_model_file *model, nsk_error *error) {
    nsk_taken *t = &board->taken;
    if (!nsk_on_board_runs(board, model, error)) {
        return false;
    }
    nsk_taken_clear(t);
    nsk_open(&t->model, model->bytes, model->size);
    t->board = board;
    t->said = g_new0(int32_t, t->model.classes);
    t->elsewhere = (nsk_elsewhere){run_there, t};
    model->elsewhere = &t->elsewhere;
    return true;
}

bool nsk_on_board_remember(nsk_on_board *board, const nsk_model_file *model, const char *folder,
                           nsk_error *error) {
    nsk_model opened;
    nsk_open(&opened, model->bytes, model->size);
    nsk_kept_close(board->kept);
    board->kept = nsk_kept_open(folder, &opened, board->self.core, error);
    return board->kept != NULL;
}

long nsk_on_board_remembered(const nsk_on_board *board) {
    return board->kept != NULL ? nsk_kept_found(board->kept) : 0;
}

void nsk_on_board_taken(const nsk_on_board *board, long *frames, long *differ, char **first) {
    const nsk_taken *t = &board->taken;
    *frames = t->frames;
    *differ = t->differ;
    *first = g_strdup(t->first);
}
