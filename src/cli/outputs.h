/* cli/outputs: no output destroys what the job is made of. */
#ifndef NSK_CLI_OUTPUTS_H
#define NSK_CLI_OUTPUTS_H

#include "options.h"

/* Looks at every path that the job is to write, before anything is read or computed: none is a
 * device or a pipe, no two are one, and none, but with --force, is a file that the command or its
 * brief reads, or would stand in one of the brief's image sets. On failure job->error is set. */
bool cli_outputs_are_good(const cli_command *command, cli_job *job);

#endif
