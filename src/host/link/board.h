/* link/board: a board at the other end, and the model that it runs for others. */
#ifndef NSK_LINK_BOARD_H
#define NSK_LINK_BOARD_H

#include "link/kept.h"
#include "link/line.h"
#include "netsuke/on_board.h"

/* A model that runs on it wherever a command would run it here. */
typedef struct nsk_taken {
    nsk_on_board *board;
    nsk_model model;
    nsk_elsewhere elsewhere;
    int32_t *said;
    long frames, differ;
    char *first; /* what is to be said of the first that differed */
} nsk_taken;

struct nsk_on_board {
    nsk_line line;
    nsk_board_self self;
    uint32_t frame; /* number of the last one */
    nsk_taken taken;
    nsk_kept *kept; /* of frames that need not be run again, or NULL */
};

void nsk_taken_clear(nsk_taken *taken);
/* Asks who is there, once more: another model may run. */
bool nsk_board_meet(nsk_on_board *board, nsk_error *error);
/* The scores of the last frame. */
bool nsk_board_scores(nsk_on_board *board, const nsk_model *model, int32_t *scores,
                      nsk_error *error);
/* A request that is answered by no more than how it went. */
bool nsk_board_tell(nsk_on_board *board, nsk_link_what what, nsk_request *request,
                    nsk_error *error);

#endif
