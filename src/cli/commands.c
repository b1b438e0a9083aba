/* The commands, in the order of work. */
#include "command.h"

const cli_command *const cli_commands[] = {
    &cli_survey,        &cli_outline,  &cli_vet,    &cli_quantise, &cli_compare, &cli_drift,
    &cli_probe,         &cli_stress,   &cli_atlas,  &cli_shelf,    &cli_budget,  &cli_weigh,
    &cli_clock,         &cli_headroom, &cli_pare,   &cli_classify, &cli_emit,    &cli_trial,
    &cli_watch_command, &cli_rehearse, &cli_report, &cli_assay,    NULL};
