/* cli/drift: what `netsuke drift` says of its figures, for those who tell the same. */
#ifndef NSK_CLI_DRIFT_H
#define NSK_CLI_DRIFT_H

#include "command.h"
#include "netsuke/drift.h"

/* What was tried and helps, or that nothing does; NULL behind the last. g_strfreev. */
char **drift_advice_words(const nsk_advices *advices);

#endif
