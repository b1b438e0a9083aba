/* cli/watch_keep: pictures of `netsuke watch` that are kept under a label: of the last ones, so
 * that the one that somebody sees is the one that is kept. */
#ifndef NSK_CLI_WATCH_KEEP_H
#define NSK_CLI_WATCH_KEEP_H

#include "netsuke/gather.h"
#include "watch.h"

typedef struct cli_keep cli_keep;

/* Where they go; NULL and an error where that is no folder. */
cli_keep *cli_keep_open(const char *folder, const cli_watch *watch, nsk_error *error);
void cli_keep_close(cli_keep *keep);
/* Notes a picture. By the thread that looks; the others by any. */
void cli_keep_note(cli_keep *keep, const nsk_live_frame *frame);
/* Keeps the picture of that number under a label: false where it cannot, and why stands in the
 * event. Takes the last one back. */
bool cli_keep_take(cli_keep *keep, int number, int label);
bool cli_keep_back(cli_keep *keep);
/* The event "kept": how many of each label there are, the last step, or what went wrong. g_free. */
char *cli_keep_event(cli_keep *keep);

#endif
