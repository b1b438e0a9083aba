/* link/line: requests to a board and its answers, over a stream that may lose bytes. */
#ifndef NSK_LINK_LINE_H
#define NSK_LINK_LINE_H

#include "link/message.h"
#include "link/stream.h"

enum { NSK_LINE_ROOM = 1 << 16, NSK_LINE_CHUNK = 4096 };

typedef struct nsk_line {
    nsk_stream stream;
    nsk_link_inbox inbox;
    uint8_t room[NSK_LINE_ROOM];
    uint8_t came[NSK_LINE_CHUNK]; /* and not looked at yet */
    int first, end;
    uint32_t number;
    int wait[NSK_LINK_WHATS + 1]; /* milliseconds, by what is asked; behind them, to run a frame */
    int silent;                   /* milliseconds since the last answer, while one was awaited */
    uint32_t payload;             /* bytes of data in a message; fewer where many are lost */
    int sound;                    /* messages with data without a loss */
    bool lost, not_there;         /* of the last request: no answer came; the board said so */
    long requests, repeated;
} nsk_line;

/* The stream is there already. */
void nsk_line_start(nsk_line *line);
/* A request with its number. */
nsk_request nsk_line_request(nsk_line *line, nsk_link_what what);
/* How many bytes of data the next message is to have: a multiple of `unit`; `longest`: the message
 * that the other end takes. */
uint32_t nsk_line_payload(const nsk_line *line, uint32_t unit, uint32_t longest);
/* Sends the request until its answer comes; takes it over. `kind`: in line->wait. `data`: so many
 * bytes go along, or are asked for; where they are lost, line->lost says that the same request is
 * to be made with fewer of them. Else NULL and `error` where nothing comes, or it is refused. */
cbor_item_t *nsk_line_ask(nsk_line *line, nsk_link_what what, int kind, nsk_request *request,
                          size_t data, nsk_error *error);

#endif
