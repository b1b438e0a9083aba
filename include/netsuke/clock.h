/* netsuke/clock.h: a cost table that learns from a real board. */
#ifndef NETSUKE_CLOCK_H
#define NETSUKE_CLOCK_H

#include "netsuke/budget.h"

#ifdef __cplusplus
extern "C" {
#endif

/* What a board said of a model: the log of the hand-over's self-test, or a trial (on_board.h). */
typedef struct nsk_clock_log {
    const nsk_model_file *model;
    const char *path;     /* of the log; or the link's name */
    const double *ticks;  /* of each layer, and of preparation; NULL: they stand in the log */
    double cycles_a_tick; /* of the timer that the log counts by */
} nsk_clock_log;

/* A layer of a log, or preparation: cycles that the board took, that its table had said, and that
 * the learned one says. */
typedef struct nsk_clocked_layer {
    const char *kind; /* in the table; "prepare" for preparation */
    double measured, guessed, learned;
} nsk_clocked_layer;

enum { NSK_LEARNED_TERMS = 22 };
typedef struct nsk_learned_kind {
    const char *kind;
    int layers;                     /* it was learned from; 0: only the board's pace */
    double term[NSK_LEARNED_TERMS]; /* cycles by each number of nsk_work */
    double spread, worst;           /* relative: root of the mean square, the worst */
} nsk_learned_kind;

typedef struct nsk_clocking {
    int layers, kinds;
    nsk_clocked_layer *layer; /* of all logs, each with preparation first */
    nsk_learned_kind *kind;
    double pace; /* the board's cycles to the table's: the middle of all layers */
} nsk_clocking;

/* Fits the terms of each kind of layer to what the logs say, with non-negative least squares on
 * relative errors, and with the board's table, times the pace, as what to believe of terms of which
 * the logs say little. */
nsk_clocking *nsk_clock(const nsk_board *board, const nsk_clock_log *logs, int count,
                        nsk_error *error);
void nsk_clocking_free(nsk_clocking *clocking);
/* Writes a cost table that says where it came from: `source`. Code and stack stay those of the
 * board's table. */
bool nsk_clock_write(const nsk_clocking *clocking, const nsk_board *board, const char *source,
                     const char *path, nsk_error *error);

#ifdef __cplusplus
}
#endif
#endif
