/* cli/watch_set: the set that pictures of `netsuke watch` are kept in: taking, moving, taking back,
 * and going through it. */
#ifndef NSK_CLI_WATCH_SET_H
#define NSK_CLI_WATCH_SET_H

#include "netsuke/gather.h"
#include "watch.h"
#include "watch_serve.h"

typedef struct cli_set cli_set;

/* Where pictures go; NULL and an error where that is no folder. Its events go to `serve`: "kept",
 * how many of each label there are, the last step, or what went wrong; "set", how far going through
 * it is, and that there is something new to ask for. */
cli_set *cli_set_open(const char *folder, const cli_watch *watch, cli_serve *serve,
                      nsk_error *error);
void cli_set_close(cli_set *set);

/* By the thread of the main loop. Each tells what has become of it. */
bool cli_set_take(cli_set *set, const uint8_t *rgb, int width, int height, int label,
                  const char *answer, double probability);
bool cli_set_back(cli_set *set);
/* Something could not be done. */
bool cli_set_refuse(cli_set *set, const char *why);
/* Goes through all of it, in a thread of its own, where there is something new. */
bool cli_set_look(cli_set *set);
/* Moves the pictures of the request under its label, or sets them aside. */
bool cli_set_move(cli_set *set, const cli_request *request, bool aside);

/* What the page asks for; g_free, or NULL: all pictures as JSON; one of them as a JPEG. */
char *cli_set_list(cli_set *set);
char *cli_set_still(cli_set *set, const cli_request *request, size_t *size);

#endif
