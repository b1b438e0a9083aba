/* sim/injections: what goes wrong on the simulated board, and when. */
#ifndef NSK_PORTS_SIM_INJECTIONS_H
#define NSK_PORTS_SIM_INJECTIONS_H

#include "netsuke/rehearse.h"

/* The one of that kind that is there at a frame, or NULL. */
const nsk_injection *nsk_injection_at(const nsk_injection *injections, int count,
                                      nsk_injection_kind kind, int frame);

#endif
