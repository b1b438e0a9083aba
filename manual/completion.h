/* manual/completion: what the shells offer behind "netsuke", as scripts of theirs. */
#ifndef NSK_MANUAL_COMPLETION_H
#define NSK_MANUAL_COMPLETION_H

#include "cli/options.h"

GString *completion_of_bash(void);
GString *completion_of_zsh(void);
GString *completion_of_fish(void);

#endif
