/* sim/board: the simulated board as a port, and a film played on it. */
#ifndef NSK_PORTS_SIM_BOARD_H
#define NSK_PORTS_SIM_BOARD_H

#include "netsuke/rehearse.h"

/* All of a rehearsal but what needs the film's truth as a whole: events and figures. */
nsk_rehearsal *nsk_board_play(const nsk_stage *stage, nsk_error *error);

#endif
