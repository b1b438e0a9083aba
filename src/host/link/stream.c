/* What all carriers have in common. */
#include "link/stream.h"

void nsk_stream_close(nsk_stream *stream) {
    if (stream->carrier != NULL) {
        stream->carrier->close(stream->of);
    }
    stream->carrier = NULL;
}
