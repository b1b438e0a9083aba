/* A film played on the simulated board, and judged by its truth. */
#include "rehearsal/figures.h"
#include "sim/board.h"

nsk_rehearsal *nsk_rehearse(const nsk_stage *stage, nsk_error *error) {
    nsk_rehearsal *rehearsal = nsk_board_play(stage, error);
    if (rehearsal != NULL) {
        nsk_judge(rehearsal, stage);
    }
    return rehearsal;
}

void nsk_rehearsal_count(const nsk_rehearsal *r, bool ordered, nsk_rehearsed_counts *totals) {
    totals->frames += r->frames;
    totals->dropped += r->dropped;
    totals->faulted += r->faulted;
    if (ordered) {
        totals->events += r->figures.events;
        totals->missed += r->figures.missed;
        totals->actions += r->figures.actions;
        totals->false_actions += r->figures.false_actions;
    }
}
