/* The device half in this process as a carrier: what is sent it takes at once. */
#include <string.h>
#include <time.h>

#include "netsuke/link.h"
#include "stream.h"

typedef struct here {
    nsk_link link;
    nsk_link_port port;
    const uint8_t *incoming; /* to the board */
    size_t left;
    GByteArray *outgoing;
    uint32_t *memory;
} here;

static size_t board_receive(void *context, uint8_t *to, size_t most) {
    here *h = context;
    const size_t count = MIN(most, h->left);
    memcpy(to, h->incoming, count);
    h->incoming += count;
    h->left -= count;
    return count;
}

static bool board_send(void *context, const uint8_t *bytes, size_t count) {
    g_byte_array_append(((here *)context)->outgoing, bytes, (guint)count);
    return true;
}

/* Of this machine's own clock: nanoseconds. */
static uint32_t board_ticks(void *context) {
    struct timespec now = {0, 0};
    (void)context;
    timespec_get(&now, TIME_UTC);
    return (uint32_t)((uint64_t)now.tv_sec * 1000000000U + (uint64_t)now.tv_nsec);
}

static bool send_all(void *of, const uint8_t *bytes, size_t count, nsk_error *error) {
    here *h = of;
    (void)error;
    h->incoming = bytes;
    h->left = count;
    while (h->left > 0) {
        nsk_link_poll(&h->link);
    }
    return true;
}

static int receive(void *of, uint8_t *to, int most, int milliseconds, nsk_error *error) {
    here *h = of;
    (void)milliseconds;
    (void)error;
    const guint count = MIN((guint)most, h->outgoing->len);
    if (count > 0) {
        memcpy(to, h->outgoing->data, count);
        g_byte_array_remove_range(h->outgoing, 0, count);
    }
    return (int)count;
}

static void close_here(void *of) {
    here *h = of;
    g_byte_array_free(h->outgoing, TRUE);
    g_free(h->memory);
    g_free(h);
}

bool nsk_stream_here(nsk_stream *stream, const nsk_model_file *model, nsk_error *error) {
    static const nsk_carrier carrier = {send_all, receive, close_here};
    enum { LONGEST = 4096 };
    nsk_model opened;
    here *h = g_new0(here, 1);
    h->port.context = h;
    h->port.receive = board_receive;
    h->port.send = board_send;
    h->port.ticks = board_ticks;
    h->port.tick_hertz = h->port.clock_hertz = 1000000000;
    h->port.core = "any";
    h->outgoing = g_byte_array_new();
    nsk_status status = nsk_open(&opened, model->bytes, model->size);
    if (status == NSK_STATUS_OK) {
        const size_t bytes = nsk_link_bytes(&h->port, &opened) + LONGEST;
        h->memory = g_malloc(bytes);
        status = nsk_link_set(&h->link, &h->port, model->bytes, model->size, h->memory, bytes);
    }
    if (status != NSK_STATUS_OK) {
        close_here(h);
        return nsk_fail(error, "sim: %s", nsk_status_text(status));
    }
    stream->carrier = &carrier;
    stream->of = h;
    return true;
}
