/* cli/stress: what `netsuke stress` says of its figures, for those who tell the same. */
#ifndef NSK_CLI_STRESS_H
#define NSK_CLI_STRESS_H

#include "command.h"
#include "netsuke/stress.h"

/* The changes under which both models fail, or the integer model alone, each with the strength from
 * which on; empty where there is none. g_free. */
char *stress_both_fail(const nsk_stress *stress);
char *stress_integer_alone(const nsk_stress *stress);

/* The brief's class for 'nothing there', or NSK_NO_CLASS. */
int stress_resting_class(const cli_context *context);

#endif
