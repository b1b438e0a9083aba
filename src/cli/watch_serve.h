/* cli/watch_serve: the page of `netsuke watch`, and its stream of events, over HTTP. */
#ifndef NSK_CLI_WATCH_SERVE_H
#define NSK_CLI_WATCH_SERVE_H

#include <glib.h>

#include "netsuke/error.h"

typedef struct cli_serve cli_serve;

/* What somebody at the page asks for; numbers are -1 where it does not say them. */
typedef struct cli_request {
    const char *what;
    int number, label;  /* of a picture; of what it is to be kept as */
    int round;          /* whose numbers they are */
    const int *numbers; /* of several pictures: what was sent, "3,17,4" */
    int count;
} cli_request;

/* Who answers, in the thread that runs the main loop. */
typedef struct cli_page {
    /* Does what is asked for. False: it is not known, or cannot be. */
    bool (*ask)(void *context, const cli_request *request);
    /* What is called that: g_free, or NULL where there is none. */
    char *(*show)(void *context, const cli_request *request, size_t *size, const char **type);
    void *context;
} cli_page;

/* Listens at "ADDRESS:PORT", or "ADDRESS", "PORT"; 127.0.0.1 and any port that is free where it is
 * NULL. What does not say the token in its path, or comes in another site's name, gets nothing. */
cli_serve *cli_serve_start(const char *listen, const cli_page *page, nsk_error *error);
void cli_serve_stop(cli_serve *serve);
/* Where a browser finds it, the token with it. */
const char *cli_serve_address(const cli_serve *serve);

/* Sends an event to all who look; by any thread. The text is one line, and taken over. Whoever is
 * still being sent the last one gets the newest of them afterwards, and others not. A `lasting` one
 * is sent in any case, and kept, in the place of the one of that name before: whoever comes later
 * gets it first. */
void cli_serve_event(cli_serve *serve, const char *name, char *text, bool lasting);
/* How many look. */
int cli_serve_lookers(const cli_serve *serve);

#endif
