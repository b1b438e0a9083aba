/* manual/pages: manual pages, in the man macros of roff. */
#ifndef NSK_MANUAL_PAGES_H
#define NSK_MANUAL_PAGES_H

#include "cli/options.h"

/* netsuke(1), and of each command netsuke-NAME(1). */
GString *manual_of_program(void);
GString *manual_of_command(const cli_command *command);
/* netsuke-brief(5), netsuke-board(5). */
GString *manual_of_brief(void);
GString *manual_of_board(void);
/* netsuke-model(5), made of the document that specifies it: headings, paragraphs, tables. */
GString *manual_of_model(const char *markdown);

#endif
