/* link/stream: bytes to a board and back, whatever carries them. */
#ifndef NSK_LINK_STREAM_H
#define NSK_LINK_STREAM_H

#include "base/base.h"
#include "netsuke/on_board.h"

/* What a carrier can do; none of it waits without end. */
typedef struct nsk_carrier {
    /* All of the bytes, or false: it is gone. */
    bool (*send)(void *of, const uint8_t *bytes, size_t count, nsk_error *error);
    /* What comes within so many milliseconds, at most `most` bytes: 0 where nothing does, -1 where
     * it is gone. */
    int (*receive)(void *of, uint8_t *to, int most, int milliseconds, nsk_error *error);
    void (*close)(void *of);
} nsk_carrier;

typedef struct nsk_stream {
    const nsk_carrier *carrier; /* NULL: closed */
    void *of;
} nsk_stream;

/* Each opens one; false where it cannot. */
bool nsk_stream_tcp(nsk_stream *stream, const char *host_and_port, nsk_error *error);
/* A socket of this machine, by its path; waits for it to be there, for some seconds at most. */
bool nsk_stream_local(nsk_stream *stream, const char *path, nsk_error *error);
/* "/dev/ttyACM0@921600"; 115200 where no speed is given. */
bool nsk_stream_serial(nsk_stream *stream, const char *path_and_speed, nsk_error *error);
/* The device half in this process. The model stays the caller's. */
bool nsk_stream_here(nsk_stream *stream, const nsk_model_file *model, nsk_error *error);
/* A hand-over of the network, built for a core that the bare-metal boards have and started in an
 * emulator; closing ends it. */
bool nsk_stream_emulated(nsk_stream *stream, const char *core, const nsk_handed_network *network,
                         nsk_error *error);

void nsk_stream_close(nsk_stream *stream);

#endif
