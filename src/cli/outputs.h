/* cli/outputs: no output destroys what a command reads. */
#ifndef NSK_CLI_OUTPUTS_H
#define NSK_CLI_OUTPUTS_H

#include "options.h"

/* Looks at every path that a command is to write, before anything is read or computed: none is a
 * device or a pipe, each has a folder to stand in, no two are one, and none, but with --force, is a
 * file that the command or its brief reads, or would stand in one of the brief's image sets. On
 * failure context->error is set.
 */
bool cli_outputs_are_good(cli_context *context);

#endif
