/* cli/compare_labels: what compare shows where pictures may have several labels at once. */
#ifndef CLI_COMPARE_LABELS_H
#define CLI_COMPARE_LABELS_H

#include "command.h"

/* How often each model is right in all of a picture, and in each yes and no. */
void cli_print_several(const nsk_comparison *comparison);
/* Each label by itself; then how often it is found, missed, and said where it is not. */
void cli_print_labels(const cli_context *context, const nsk_comparison *comparison);

#endif
