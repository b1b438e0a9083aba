/* link/taken: what a board keeps of the model that it runs for others. */
#ifndef NSK_LINK_TAKEN_H
#define NSK_LINK_TAKEN_H

#include "base/base.h"
#include "netsuke/on_board.h"

typedef struct nsk_taken {
    nsk_on_board *board;
    nsk_model model;
    nsk_elsewhere elsewhere;
    int32_t *said;
    long frames, differ;
    char *first; /* what is to be said of the first that differed */
} nsk_taken;

nsk_taken *nsk_on_board_taking(nsk_on_board *board);
void nsk_taken_clear(nsk_taken *taken);

#endif
