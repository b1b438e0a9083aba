/* cli/watch: what the parts of `netsuke watch` share: the lines of the rule, and pictures in words.
 */
#ifndef NSK_CLI_WATCH_H
#define NSK_CLI_WATCH_H

#include "command.h"
#include "netsuke/live.h"

/* What is being watched. */
typedef struct cli_watch {
    cli_context *context;
    nsk_live *live;
    const char *camera;
    nsk_model model;
    int lines, resting; /* names that the rule knows; the one at rest, or -1 */
    gint64 began;       /* monotonic, microseconds */
    /* counted so far */
    long seen, faulted, decided, differ, outside; /* of known light */
    long dropped;
    int answer; /* the last picture's, or -1 */
    double took[NSK_LIVE_PARTS];
    double rate; /* pictures a second of late */
    gint64 last;
} cli_watch;

void cli_watch_lines(cli_watch *watch);
const char *cli_watch_line(const cli_watch *watch, int line);
const char *cli_watch_fault(nsk_fault fault);
/* Adds a picture to what is counted. */
void cli_watch_count(cli_watch *watch, const nsk_live_frame *frame);
/* Why a picture is worth keeping, or NULL. Before it is counted. */
const char *cli_watch_worth(const cli_watch *watch, const nsk_live_frame *frame);
/* What was built, as text, which is g_freed; the builder is freed. */
char *cli_watch_text(JsonBuilder *builder);
/* Events of the page, one line of JSON each: what does not change; a picture. g_free. */
char *cli_watch_about(const cli_watch *watch);
char *cli_watch_seen(const cli_watch *watch, const nsk_live_frame *frame, const char *worth);
char *cli_watch_pace(bool paused, double speed);
char *cli_watch_end(const char *why);

#endif
