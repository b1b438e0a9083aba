/* sim/faults: what goes wrong on the simulated board, and when. */
#ifndef NSK_PORTS_SIM_FAULTS_H
#define NSK_PORTS_SIM_FAULTS_H

#include "netsuke/rehearse.h"

/* The one of that kind that is there at a frame, or NULL. */
const nsk_fault *nsk_fault_at(const nsk_fault *faults, int count, nsk_fault_kind kind, int frame);

#endif
