/* cli/options: every option of every command, in one table: what parses the command line, what
 * --help prints, the manual pages and the shells' completion are made of it. */
#ifndef NSK_CLI_OPTIONS_H
#define NSK_CLI_OPTIONS_H

#include "command.h"

typedef enum cli_value {
    CLI_NO_VALUE,
    CLI_WORD,
    CLI_WORDS,
    CLI_FILE,
    CLI_FILES,
    CLI_COUNT,
    CLI_FOLDER, /* a folder that keeps what it has */
    CLI_WRITTEN /* a file or folder that is written */
} cli_value;

/* Its value stands with the command's own options. */
#define CLI_OWN ((size_t)-1)

typedef struct cli_option {
    const char *name;
    char letter; /* or 0 */
    cli_value value;
    size_t member;     /* of cli_context, or CLI_OWN */
    const char *shown; /* the value's name in help, or NULL */
    const char *text;
    int least, most; /* of a count */
} cli_option;

/* A NULL name ends it. */
extern const cli_option cli_options[];

/* Whether the command takes it. */
bool cli_takes(const cli_command *command, const cli_option *option);
/* Where its value stands; NULL where the context's command does not take it. */
void *cli_value_of(const cli_context *context, const cli_option *option);
/* What it does, with what counts where it is not given. g_free. */
char *cli_option_text(const cli_command *command, const cli_option *option);
/* Fills the context from the arguments behind the command's name. */
bool cli_parse(const cli_command *command, cli_context *context, char **arguments);
/* Frees what stands behind `own`. */
void cli_clear_own(cli_context *context);

#endif
