/* cli/budget_on: a budget beside what a board at a link took, and what its cost table learns from
 * that. */
#ifndef NSK_CLI_BUDGET_ON_H
#define NSK_CLI_BUDGET_ON_H

#include "command.h"
#include "netsuke/clock.h"

typedef struct cli_measured {
    nsk_trial *trial; /* of some held-out images; NULL: there is no link */
    nsk_clocking
        *clocking; /* NULL where its time teaches nothing: this machine's, or another core's */
    nsk_layer_cost *table; /* what the table says of each layer, and of the preparation */
    bool emulated;         /* it counts instructions */
} cli_measured;

/* Runs held-out images on the board at the link. Where it is the budget's own and takes real time,
 * that stands in the budget, too, from now on. */
bool cli_budget_measure(cli_context *context, nsk_budget *budget, const char *costs,
                        cli_measured *measured);
void cli_measured_clear(cli_measured *measured);

/* Layer by layer: instructions, cycles by the table, what the board took, what is learned. */
void cli_print_measured(const cli_context *context, const cli_measured *measured,
                        const char *costs);
void cli_json_measured(JsonBuilder *builder, const cli_context *context,
                       const cli_measured *measured);

#endif
