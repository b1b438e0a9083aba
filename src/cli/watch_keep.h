/* cli/watch_keep: pictures of `netsuke watch` that can still be kept: the last ones, so that the
 * one that somebody sees is the one that is kept, and the last ones that are worth it. */
#ifndef NSK_CLI_WATCH_KEEP_H
#define NSK_CLI_WATCH_KEEP_H

#include "watch_set.h"

enum { CLI_OFFERED = 12 };

typedef struct cli_keep cli_keep;

cli_keep *cli_keep_open(const cli_watch *watch, cli_set *set);
void cli_keep_close(cli_keep *keep);
/* Notes a picture, and why it is worth keeping, or NULL. By the thread that looks. */
void cli_keep_note(cli_keep *keep, const nsk_live_frame *frame, const char *worth);
/* Keeps the picture of that number under a label; the set tells what came of it. By the thread of
 * the main loop. */
bool cli_keep_take(cli_keep *keep, int number, int label);

#endif
