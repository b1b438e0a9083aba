/* Sockets as carriers. */
#include <gio/gio.h>
#include <gio/gunixsocketaddress.h>
#include <netinet/in.h>
#include <netinet/tcp.h>
#include <string.h>

#include "stream.h"

enum { PATIENCE = 10 }; /* seconds, to connect and to send */

/* Turns a GError into one of ours, and frees it. */
static bool fail(nsk_error *error, const char *where, GError *reason) {
    nsk_fail_system(error, "%s: %s", where, reason->message);
    g_error_free(reason);
    return false;
}

static bool send_all(void *of, const uint8_t *bytes, size_t count, nsk_error *error) {
    GError *reason = NULL;
    for (size_t sent = 0; sent < count;) {
        const gssize some =
            g_socket_send(of, (const char *)bytes + sent, count - sent, NULL, &reason);
        if (some < 0) {
            return fail(error, "the link broke", reason);
        }
        sent += (size_t)some;
    }
    return true;
}

static int receive(void *of, uint8_t *to, int most, int milliseconds, nsk_error *error) {
    GError *reason = NULL;
    if (!g_socket_condition_timed_wait(of, G_IO_IN, milliseconds * G_GINT64_CONSTANT(1000), NULL,
                                       &reason)) {
        const bool is_late = g_error_matches(reason, G_IO_ERROR, G_IO_ERROR_TIMED_OUT);
        if (is_late) {
            g_error_free(reason);
            return 0;
        }
        fail(error, "the link broke", reason);
        return -1;
    }
    const gssize some = g_socket_receive(of, (char *)to, (gsize)most, NULL, &reason);
    if (some > 0) {
        return (int)some;
    }
    if (some < 0 && !g_error_matches(reason, G_IO_ERROR, G_IO_ERROR_CONNECTION_CLOSED)) {
        fail(error, "the link broke", reason);
    } else {
        g_clear_error(&reason);
        nsk_fail_system(error, "the link ended: the board's side was closed");
    }
    return -1;
}

static void close_socket(void *of) {
    g_socket_close(of, NULL);
    g_object_unref(of);
}

static const nsk_carrier socket_carrier = {send_all, receive, close_socket};

static void carry(nsk_stream *stream, GSocket *socket) {
    g_socket_set_timeout(socket, PATIENCE);
    g_socket_set_option(socket, IPPROTO_TCP, TCP_NODELAY, 1, NULL); /* where it is one of TCP */
    stream->carrier = &socket_carrier;
    stream->of = socket;
}

bool nsk_stream_tcp(nsk_stream *stream, const char *host_and_port, nsk_error *error) {
    GError *reason = NULL;
    GSocketClient *client = g_socket_client_new();
    g_socket_client_set_enable_proxy(client, FALSE); /* a board is no site */
    g_socket_client_set_timeout(client, PATIENCE);
    const char *colon = strrchr(host_and_port, ':');
    GSocketConnection *connection =
        colon != NULL ? g_socket_client_connect_to_host(client, host_and_port, 0, NULL, &reason)
                      : NULL;
    g_object_unref(client);
    if (colon == NULL) {
        return nsk_fail(error, "tcp:%s: say host and port, as in tcp:192.168.4.20:7070",
                        host_and_port);
    }
    if (connection == NULL) {
        return nsk_fail_system(error, "tcp:%s: %s", host_and_port, reason->message),
               g_error_free(reason), false;
    }
    carry(stream, g_object_ref(g_socket_connection_get_socket(connection)));
    g_object_unref(connection);
    return true;
}

bool nsk_stream_local(nsk_stream *stream, const char *path, nsk_error *error) {
    GSocketAddress *address = g_unix_socket_address_new(path);
    GSocket *socket = g_socket_new(G_SOCKET_FAMILY_UNIX, G_SOCKET_TYPE_STREAM, 0, NULL);
    GError *reason = NULL;
    bool good = false;
    for (int tenth = 0; socket != NULL && !good && tenth < 10 * PATIENCE; tenth++) {
        g_clear_error(&reason);
        good = g_socket_connect(socket, address, NULL, &reason);
        if (!good) {
            g_usleep(100000);
        }
    }
    g_object_unref(address);
    if (!good) {
        g_clear_object(&socket);
        return reason != NULL ? fail(error, path, reason)
                              : nsk_fail_system(error, "%s: no socket can be made", path);
    }
    g_clear_error(&reason);
    carry(stream, socket);
    return true;
}
